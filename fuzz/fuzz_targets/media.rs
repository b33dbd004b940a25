//! Headers of media files are read, whatever they hold: little of them, and without a hang.
#![no_main]

use std::io::Write;

use libfuzzer_sys::fuzz_target;
use tarvek_host::media::{MOST, facts};

fuzz_target!(|bytes: &[u8]| {
    let mut file = tempfile::tempfile().expect("a file in memory");
    file.write_all(bytes).expect("room for it");
    let (media, read) = facts(file, bytes.len() as u64);
    assert!(read <= MOST);
    if let Some(media) = media {
        assert!(media.tracks > 0);
        let _ = media.bits_per_second(bytes.len() as u64);
    }
});
