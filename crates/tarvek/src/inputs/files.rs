//! Files that somebody named.

use std::fs::{File, Metadata};
use std::io::{ErrorKind, Read, Write};
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

use tarvek_core::words::text::{self, shown};
use tarvek_formats::ignored::Ignored;
use tarvek_formats::layout;
use tarvek_host::files::{NotOpened, open_regular, open_regular_beneath};

use crate::outcome::Failure;

/// Opens a regular file that somebody named, and tells its size.
pub(super) fn open_file(file: &Path) -> Result<(File, u64), Failure> {
    opened(open_regular(file)).map_err(|why| cant(file, &why))
}

/// Reads a regular file that somebody named.
pub(super) fn read_file(file: &Path, most: u64) -> Result<Vec<u8>, Failure> {
    contents(open_regular(file), most).map_err(|why| cant(file, &why))
}

/// Reads a small text file below a folder that another file names; nothing leads out of the folder.
///
/// # Errors
/// Why it can't be read, in words.
pub(super) fn file_beneath(folder: &Path, below: &Path) -> Result<Vec<u8>, String> {
    contents(open_regular_beneath(folder, below), layout::MOST_BYTES as u64)
}

fn cant(file: &Path, why: &str) -> Failure {
    Failure::new(format!("can't read {}: {why}", name_of(file)))
}

type Opened = Result<(File, Metadata), NotOpened>;

fn opened(file: Opened) -> Result<(File, u64), String> {
    let (open, meta) = file.map_err(|why| match why {
        NotOpened::Folder => "it is a folder".to_owned(),
        NotOpened::Special => "it is no regular file".to_owned(),
        NotOpened::Failed(error) => match error.kind() {
            ErrorKind::NotFound => "there is no such file".to_owned(),
            ErrorKind::CrossesDevices => "a symlink leads out of its folder".to_owned(),
            ErrorKind::PermissionDenied => "permission is denied".to_owned(),
            _ => error.to_string(),
        },
    })?;
    Ok((open, meta.len()))
}

fn contents(file: Opened, most: u64) -> Result<Vec<u8>, String> {
    let (open, size) = opened(file)?;
    let mut bytes = Vec::new();
    open.take(most + 1).read_to_end(&mut bytes).map_err(|error| error.to_string())?;
    let size = size.max(bytes.len() as u64);
    if size > most {
        return Err(format!(
            "{} is too large; at most {} are read",
            text::bytes(size),
            text::bytes(most)
        ));
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

/// Writes a file that somebody named. One that is there already is somebody's work, and stays.
pub(crate) fn write_new(file: &Path, contents: &[u8]) -> Result<(), Failure> {
    let name = name_of(file);
    let mut created = File::create_new(file).map_err(|error| match error.kind() {
        ErrorKind::AlreadyExists => Failure::with_remedy(
            format!("{name} is there already"),
            "name another file, or move it away",
        ),
        _ => Failure::with_remedy(format!("can't write {name}: {error}"), "name another file"),
    })?;
    created.write_all(contents).map_err(|error| {
        let _ = std::fs::remove_file(file);
        Failure::with_remedy(format!("can't write {name}: {error}"), "name another file")
    })
}

/// The ignored groups in a file that need not be there.
pub(crate) fn ignored(file: &Path) -> Result<Ignored, Failure> {
    match std::fs::symlink_metadata(file) {
        Err(error) if error.kind() == ErrorKind::NotFound => Ok(Ignored::default()),
        _ => Ok(Ignored::read(&String::from_utf8_lossy(&small_file(file)?))),
    }
}
