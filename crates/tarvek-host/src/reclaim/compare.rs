//! What open files hold: whether two are equal, and a digest of one.

use std::fs::File;
use std::os::unix::fs::FileExt;
use std::sync::atomic::Ordering;

use super::lease::{NoWriter, undisturbed};
use crate::walk::Watch;

/// At a time.
const BUFFER: usize = 1 << 20;

/// What may end a comparison before its time.
pub(super) struct Attention<'a> {
    pub(super) watch: &'a Watch,
    /// Files that nobody may write to meanwhile.
    pub(super) guards: &'a [&'a NoWriter<'a>],
}

impl Attention<'_> {
    fn pay(&self, bytes: usize) -> Result<(), String> {
        self.watch.bytes.fetch_add(bytes as u64, Ordering::Relaxed);
        if self.watch.stop.load(Ordering::Relaxed) {
            return Err("interrupted".to_owned());
        }
        // Whoever waits to write is not kept waiting for long.
        undisturbed(self.guards)
    }
}

/// Compares two files to the last byte.
///
/// # Errors
/// If one of them can't be read, or somebody comes to write, or it was broken off.
pub(super) fn is_equal(one: &File, other: &File, attention: &Attention) -> Result<bool, String> {
    let (mut a, mut b) = (vec![0; BUFFER], vec![0; BUFFER]);
    let mut at = 0;
    loop {
        let (n, m) = (fill(one, &mut a, at)?, fill(other, &mut b, at)?);
        attention.pay(n)?;
        if a[..n] != b[..m] {
            return Ok(false);
        }
        if n < BUFFER {
            return Ok(true);
        }
        at += n as u64;
    }
}

/// The BLAKE3 digest of a file, in hexadecimal digits.
///
/// # Errors
/// As [`is_equal`].
pub(super) fn digest(file: &File, attention: &Attention) -> Result<String, String> {
    let mut hasher = blake3::Hasher::new();
    let mut buffer = vec![0; BUFFER];
    let mut at = 0;
    loop {
        let n = fill(file, &mut buffer, at)?;
        attention.pay(n)?;
        hasher.update(&buffer[..n]);
        if n < BUFFER {
            return Ok(hasher.finalize().to_hex().to_string());
        }
        at += n as u64;
    }
}

fn fill(file: &File, buffer: &mut [u8], at: u64) -> Result<usize, String> {
    let mut filled = 0;
    while filled < buffer.len() {
        match file.read_at(&mut buffer[filled..], at + filled as u64) {
            Ok(0) => break,
            Ok(n) => filled += n,
            Err(error) if error.kind() == std::io::ErrorKind::Interrupted => {}
            Err(error) => return Err(error.to_string()),
        }
    }
    Ok(filled)
}
