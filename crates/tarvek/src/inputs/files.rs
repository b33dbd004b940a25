//! Files that somebody named.

use std::fs::File;
use std::io::Read;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

use tarvek_core::words::text::shown;
use tarvek_formats::layout;

use crate::outcome::Failure;

/// Opens a regular file that somebody named, and tells its size; a FIFO or device in its place is never waited for.
pub(super) fn open_file(file: &Path) -> Result<(File, u64), Failure> {
    let cant =
        |why: &dyn std::fmt::Display| Failure::new(format!("can't read {}: {why}", name_of(file)));
    let cant_open = |error: std::io::Error| match error.kind() {
        std::io::ErrorKind::NotFound => cant(&"there is no such file"),
        std::io::ErrorKind::PermissionDenied => cant(&"permission is denied"),
        _ => cant(&error),
    };
    // A device may do something when it is opened, so it is looked at first, and again once it is open.
    let kind = |meta: &std::fs::Metadata| match (meta.is_dir(), meta.is_file()) {
        (true, _) => Err(cant(&"it is a folder")),
        (_, false) => Err(cant(&"it is no regular file")),
        _ => Ok(()),
    };
    kind(&std::fs::metadata(file).map_err(cant_open)?)?;
    let open = File::options().read(true).custom_flags(libc::O_NONBLOCK).open(file);
    let open = open.map_err(cant_open)?;
    let meta = open.metadata().map_err(cant_open)?;
    kind(&meta)?;
    Ok((open, meta.len()))
}

/// Reads a regular file that somebody named.
pub(super) fn read_file(file: &Path, most: u64) -> Result<Vec<u8>, Failure> {
    let cant =
        |why: &dyn std::fmt::Display| Failure::new(format!("can't read {}: {why}", name_of(file)));
    let (open, size) = open_file(file)?;
    let mut bytes = Vec::new();
    open.take(most + 1).read_to_end(&mut bytes).map_err(|error| cant(&error))?;
    let size = size.max(bytes.len() as u64);
    if size > most {
        let message =
            format!("{} MiB is too large; at most {} MiB are read", size >> 20, most >> 20);
        return Err(cant(&message));
    }
    Ok(bytes)
}

/// Reads a small text file that somebody named.
pub(crate) fn small_file(file: &Path) -> Result<Vec<u8>, Failure> {
    read_file(file, layout::MOST_BYTES as u64)
}

pub(crate) fn name_of(file: &Path) -> String {
    shown(file.as_os_str().as_bytes())
}
