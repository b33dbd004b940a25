//! Headers of media files: how long they play, how large the picture is, which codecs. Only what
//! the header needs is read, and never more than [`MOST`] bytes; a broken or hostile file has no
//! facts.

mod bmff;
mod codecs;
mod matroska;
mod sound;
mod window;

pub use window::MOST;
use window::Window;

use std::fs::File;
use std::io::{self};

use tarvek_core::facts::media::Media;
use tarvek_formats::guard::guarded;

/// What the header of an open file of a size says, and how many bytes were read for it; `None`
/// where it can't be read.
pub fn facts(file: File, size: u64) -> (Option<Media>, u64) {
    let mut window = Window::new(file, size);
    // Libraries that read headers may fail at hostile ones.
    let found = guarded(|| read(&mut window)).ok().and_then(Result::ok).flatten();
    (found, MOST - window.left)
}

fn read(window: &mut Window) -> io::Result<Option<Media>> {
    let start = window.some(12)?;
    window.go(0);
    let kind = start.get(4..8).unwrap_or_default();
    if start.starts_with(&[0x1a, 0x45, 0xdf, 0xa3]) {
        return matroska::read(window);
    }
    if matches!(kind, b"ftyp" | b"moov" | b"mdat" | b"wide" | b"free" | b"skip" | b"styp" | b"pnot")
    {
        return bmff::read(window);
    }
    sound::read(window)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Read;

    #[test]
    fn no_more_is_read_than_allowed() {
        let mut file = tempfile::tempfile().unwrap();
        io::Write::write_all(&mut file, &vec![7; 2 << 20]).unwrap();
        let mut window = Window::new(file, 2 << 20);
        let mut all = Vec::new();
        assert!(window.read_to_end(&mut all).is_err());
        assert_eq!(all.len() as u64, MOST);
    }

    /// A library that reads headers panics at these (found by fuzzing).
    #[test]
    fn a_library_that_fails_has_read_an_unreadable_header() {
        let samples: [&[u8]; 3] = [
            include_bytes!("../../tests/data/panics-1"),
            include_bytes!("../../tests/data/panics-2"),
            include_bytes!("../../tests/data/panics-3"),
        ];
        for bytes in samples {
            let mut file = tempfile::tempfile().unwrap();
            io::Write::write_all(&mut file, bytes).unwrap();
            assert_eq!(facts(file, bytes.len() as u64).0, None);
        }
    }

    #[test]
    fn what_is_no_media_has_no_facts() {
        for bytes in [
            &b""[..],
            b"x",
            b"\x1a\x45\xdf\xa3",
            b"\0\0\0\x08ftyp",
            b"\0\0\0\0moov\xff\xff",
            b"RIFF\0\0\0\0WAVE",
            &[0xff; 4000],
            b"ID3\x04\0\0\x7f\x7f\x7f\x7f",
        ] {
            let mut file = tempfile::tempfile().unwrap();
            io::Write::write_all(&mut file, bytes).unwrap();
            let (media, read) = facts(file, bytes.len() as u64);
            assert_eq!(media, None, "{bytes:?}");
            assert!(read <= MOST);
        }
    }
}
