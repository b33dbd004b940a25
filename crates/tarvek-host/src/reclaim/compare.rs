//! Whether two open files hold the same.

use std::fs::File;
use std::os::unix::fs::FileExt;
use std::sync::atomic::Ordering;

use crate::walk::Watch;

/// At a time.
const BUFFER: usize = 1 << 20;

/// Compares two files of a size byte by byte.
///
/// # Errors
/// If one of them can't be read, or if it was broken off.
pub(super) fn equal(one: &File, other: &File, size: u64, watch: &Watch) -> Result<bool, String> {
    let (mut a, mut b) = (vec![0; BUFFER], vec![0; BUFFER]);
    let mut at = 0;
    loop {
        if watch.stop.load(Ordering::Relaxed) {
            return Err("interrupted".to_owned());
        }
        let (n, m) = (fill(one, &mut a, at)?, fill(other, &mut b, at)?);
        if a[..n] != b[..m] {
            return Ok(false);
        }
        at += n as u64;
        watch.bytes.fetch_add(n as u64, Ordering::Relaxed);
        if n < BUFFER {
            return Ok(at == size);
        }
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
