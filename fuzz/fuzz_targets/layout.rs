//! A layout is read or refused; what is read can be checked, and written and read again is the same.
#![no_main]

use libfuzzer_sys::fuzz_target;
use tarvek_core::check::report::check;
use tarvek_core::site::join::Site;
use tarvek_formats::layout;

fuzz_target!(|bytes: &[u8]| {
    let Ok(read) = layout::read("layout", bytes) else { return };
    let site = Site::join(read, Vec::new()).expect("there are no surveys to clash");
    for finding in check(&site).findings {
        let text = format!("{}{}", finding.message, finding.remedy);
        assert!(!text.contains('\x1b'), "{text:?}");
    }
});
