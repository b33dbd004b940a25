//! A window on a file: so many bytes, in so many reads, and no more.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};

/// The most bytes that are read of one file.
pub const MOST: u64 = 512 << 10;

/// The most single reads of one file.
pub(super) const MOST_READS: u32 = 4096;

/// A file of which only so much is read.
#[derive(Debug)]
pub(crate) struct Window {
    pub(super) file: File,
    pub(super) size: u64,
    pub(super) at: u64,
    /// Bytes and reads that are left.
    pub(super) left: u64,
    pub(super) reads: u32,
}

impl Window {
    pub(super) fn new(file: File, size: u64) -> Self {
        Self { file, size, at: 0, left: MOST, reads: MOST_READS }
    }

    pub(super) fn size(&self) -> u64 {
        self.size
    }

    pub(super) fn at(&self) -> u64 {
        self.at
    }

    /// Goes to a place in the file.
    pub(super) fn go(&mut self, at: u64) {
        self.at = at;
    }

    /// Exactly so many bytes from here.
    pub(super) fn bytes<const N: usize>(&mut self) -> io::Result<[u8; N]> {
        let mut bytes = [0; N];
        self.read_exact(&mut bytes)?;
        Ok(bytes)
    }

    /// So many bytes from here, as far as there are any.
    pub(super) fn some(&mut self, count: u64) -> io::Result<Vec<u8>> {
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
