//! A file that should be a survey is loaded or refused, whatever its bytes are, and stays as it was.
#![no_main]

use libfuzzer_sys::fuzz_target;
use tarvek_host::store;

fuzz_target!(|bytes: &[u8]| {
    let folder = tempfile::tempdir().expect("a temporary folder can be made");
    let file = folder.path().join("host.survey");
    std::fs::write(&file, bytes).expect("it can be written");
    let _ = store::load(&file).map(|facts| facts.tree.len());
    assert_eq!(std::fs::read(&file).expect("it is still there"), bytes);
});
