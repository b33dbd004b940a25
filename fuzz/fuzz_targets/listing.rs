//! A listing is read or refused, and what is read can be joined and saved.
#![no_main]

use libfuzzer_sys::fuzz_target;
use tarvek_core::layout::site::Layout;
use tarvek_core::site::join::Site;
use tarvek_formats::listing;

fuzz_target!(|bytes: &[u8]| {
    let Ok(facts) = listing::read("listing", bytes) else { return };
    Site::join(Layout::default(), vec![facts]).expect("one host cannot clash with itself");
});
