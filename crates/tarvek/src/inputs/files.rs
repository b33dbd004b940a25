//! Files that somebody named.

use std::os::unix::ffi::OsStrExt;
use std::path::Path;

use tarvek_core::words::text::shown;
use tarvek_formats::layout;

use crate::outcome::Failure;

/// Reads a regular file that somebody named; a FIFO or device in its place is never opened.
pub(super) fn read_file(file: &Path, most: u64) -> Result<Vec<u8>, Failure> {
    let cant =
        |why: &dyn std::fmt::Display| Failure::new(format!("can't read {}: {why}", name_of(file)));
    let cant_open = |error: std::io::Error| match error.kind() {
        std::io::ErrorKind::NotFound => cant(&"there is no such file"),
        std::io::ErrorKind::PermissionDenied => cant(&"permission is denied"),
        _ => cant(&error),
    };
    let meta = std::fs::metadata(file).map_err(cant_open)?;
    if meta.is_dir() {
        return Err(cant(&"it is a folder"));
    }
    if !meta.is_file() {
        return Err(cant(&"it is no regular file"));
    }
    if meta.len() > most {
        let size = meta.len() >> 20;
        return Err(cant(&format!("{size} MiB is too large; at most {} MiB are read", most >> 20)));
    }
    std::fs::read(file).map_err(cant_open)
}

/// Reads a small text file that somebody named.
pub(crate) fn small_file(file: &Path) -> Result<Vec<u8>, Failure> {
    read_file(file, layout::MOST_BYTES as u64)
}

pub(crate) fn name_of(file: &Path) -> String {
    shown(file.as_os_str().as_bytes())
}
