//! What is emitted of a layout stays in its folder and moves no terminal, and a layout that is written is the one that was read.
#![no_main]

use libfuzzer_sys::fuzz_target;
use tarvek_core::words::text::is_unseen;
use tarvek_formats::{emit, layout};

fuzz_target!(|bytes: &[u8]| {
    let Ok(read) = layout::read("layout", bytes) else { return };
    for host in &read.hosts {
        for what in [
            emit::compose, emit::quadlet, emit::fstab, emit::systemd, emit::exports, emit::smb, emit::accounts, emit::script,
        ] {
            let Ok(pieces) = what(&read, host, "layout") else { continue };
            for piece in pieces {
                let parts = piece.name.split('/');
                assert!(parts.clone().all(|part| !matches!(part, "" | "." | "..")), "{:?}", piece.name);
                let odd = piece.text.chars().find(|c| is_unseen(*c) && *c != '\n');
                assert_eq!(odd, None, "{}", piece.text);
            }
        }
    }
    let written = layout::write(&read, &|_| Vec::new());
    layout::read("written", written.as_bytes()).unwrap_or_else(|refused| panic!("{refused}\n{written}"));
});
