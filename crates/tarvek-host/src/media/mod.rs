//! Headers of media files: how long they play, how large the picture is, which codecs. Only what the header needs is read, and never more
//! than [`MOST`] bytes; a broken or hostile file has no facts.

mod bmff;
mod codecs;
mod matroska;
mod sound;

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};

use tarvek_core::facts::media::Media;
use tarvek_formats::guard::guarded;

/// The most bytes that are read of one file.
pub const MOST: u64 = 512 << 10;

/// The most single reads of one file.
const MOST_READS: u32 = 4096;

/// A file of which only so much is read.
#[derive(Debug)]
pub(crate) struct Window {
    file: File,
    size: u64,
    at: u64,
    /// Bytes and reads that are left.
    left: u64,
    reads: u32,
}

impl Window {
    fn new(file: File, size: u64) -> Self {
        Self { file, size, at: 0, left: MOST, reads: MOST_READS }
    }

    fn size(&self) -> u64 {
        self.size
    }

    fn at(&self) -> u64 {
        self.at
    }

    /// Goes to a place in the file.
    fn go(&mut self, at: u64) {
        self.at = at;
    }

    /// Exactly so many bytes from here.
    fn bytes<const N: usize>(&mut self) -> io::Result<[u8; N]> {
        let mut bytes = [0; N];
        self.read_exact(&mut bytes)?;
        Ok(bytes)
    }

    /// So many bytes from here, as far as there are any.
    fn some(&mut self, count: u64) -> io::Result<Vec<u8>> {
        let count = count.min(self.size.saturating_sub(self.at)).min(self.left);
        let mut bytes = vec![0; usize::try_from(count).map_err(io::Error::other)?];
        self.read_exact(&mut bytes)?;
        Ok(bytes)
    }
}

impl Read for Window {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let most = usize::try_from(self.left).unwrap_or(usize::MAX).min(buffer.len());
        if buffer.is_empty() {
            return Ok(0);
        }
        if most == 0 || self.reads == 0 {
            return Err(io::Error::other("its header is longer than any that makes sense"));
        }
        let read = std::os::unix::fs::FileExt::read_at(&self.file, &mut buffer[..most], self.at)?;
        self.at += read as u64;
        self.left -= read as u64;
        self.reads -= 1;
        Ok(read)
    }
}

impl Seek for Window {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let at = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::End(by) => self.size.checked_add_signed(by),
            SeekFrom::Current(by) => self.at.checked_add_signed(by),
        };
        self.at = at.ok_or(io::ErrorKind::InvalidInput)?;
        Ok(self.at)
    }
}

/// What the header of an open file of a size says, and how many bytes were read for it; `None` where it can't be read.
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
