//! Whatever stands before a secret, it is hidden, and lines stay lines.
#![no_main]

use libfuzzer_sys::fuzz_target;
use tarvek_core::words::secret::hide;
use tarvek_core::words::text::{is_unseen, shell_quoted, shown};

fuzz_target!(|text: &str| {
    if text.contains("s3cret") {
        return;
    }
    let hidden = hide(&format!("{text}\npassword=s3cret\n"));
    assert!(!hidden.contains("s3cret"), "{hidden:?}");
    assert_eq!(hide(text).lines().count(), text.lines().count());
    assert!(!shown(text.as_bytes()).chars().any(is_unseen));
    let quoted = shell_quoted(text.as_bytes());
    assert!(!quoted.trim_end_matches(['\n', '"']).chars().any(is_unseen));
});
