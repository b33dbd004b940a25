//! A brief is read or refused; what is read is drafted, and the draft is a layout that the layout's own reader takes.
#![no_main]

use libfuzzer_sys::fuzz_target;
use tarvek_core::draft::draft;
use tarvek_formats::{brief, layout};

fuzz_target!(|bytes: &[u8]| {
    let Ok(read) = brief::read("brief", bytes) else { return };
    let written = layout::write(&draft(&read).layout, &|_| Vec::new());
    layout::read("drafted", written.as_bytes()).expect("what is drafted can be read");
});
