//! What SQLite would find beside a survey, and follow: journals. Only one that a killed Tarvek can
//! have left is followed, and only where the file may be written; whoever reads does so in a copy.

use std::ffi::OsString;
use std::fs::{self, File, Metadata};
use std::io::{Read, Seek, SeekFrom};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use rusqlite::{Connection, ErrorCode};
use tempfile::TempDir;

use crate::files::open_regular;

use super::connection::{PATIENCE, StoreError, bounded, flags, plain};

/// The end of a journal that names another one, and has it deleted (SQLite's file format, section
/// 3). One survey is one file, so that Tarvek never leaves such a one.
const NAMES_ANOTHER: [u8; 8] = [0xd9, 0xd5, 0x05, 0xf9, 0x20, 0xa1, 0x63, 0xd7];

/// Refuses a file beside which something lies that SQLite would follow and Tarvek never writes, and
/// returns the size.
pub(super) fn look(file: &Path) -> Result<u64, StoreError> {
    let mut head = Vec::new();
    let (opened, meta) = regular(file)?;
    (&opened).take(20).read_to_end(&mut head).map_err(|_| unreadable())?;
    // Write-ahead logs (SQLite's file format, section 1.3.3).
    if head.get(18..20).is_some_and(|versions| versions.contains(&2)) {
        return Err(foreign("it is in a form that Tarvek never writes"));
    }
    for ending in ["-wal", "-shm"] {
        if fs::symlink_metadata(beside(file, ending)).is_ok() {
            return Err(foreign(&format!(
                "beside it lies a file {ending} that Tarvek never makes"
            )));
        }
    }
    let journal = beside(file, "-journal");
    if let Ok(found) = fs::symlink_metadata(&journal) {
        if !found.is_file() || found.nlink() != 1 || found.uid() != meta.uid() {
            return Err(foreign("the journal beside it is none of Tarvek's"));
        }
        let mut end = [0; 8];
        let (mut opened, _) = regular(&journal)?;
        let long = opened.seek(SeekFrom::End(-8)).is_ok();
        if long && opened.read_exact(&mut end).is_ok() && end == NAMES_ANOTHER {
            return Err(foreign("the journal beside it is none of Tarvek's"));
        }
    }
    Ok(meta.len())
}

/// Refuses a new file beside which something lies that SQLite would take for a part of it.
pub(super) fn none(file: &Path) -> Result<(), StoreError> {
    let endings = ["-journal", "-wal", "-shm"];
    match endings.iter().find(|ending| fs::symlink_metadata(beside(file, ending)).is_ok()) {
        Some(ending) => Err(foreign(&format!("beside it lies a file {ending} of something else"))),
        None => Ok(()),
    }
}

/// A survey that can be read: the file itself, or a copy of one whose writer was killed, in which
/// what was half done is taken back.
pub(super) struct Readable {
    pub(super) file: PathBuf,
    /// Goes with it.
    _copy: Option<TempDir>,
}

impl Readable {
    pub(super) fn of(file: &Path) -> Result<Self, StoreError> {
        look(file)?;
        let journal = beside(file, "-journal");
        if !fs::symlink_metadata(&journal).is_ok_and(|meta| meta.len() > 0) || writing(file)? {
            return Ok(Self { file: file.to_owned(), _copy: None });
        }
        let cant = |_| {
            StoreError::new(
                "whoever wrote it was killed, and there is no room for a copy in which that can be \
                 put right",
                "run `tarvek survey` into it again, or set TMPDIR to a folder with room",
            )
        };
        let copy = tempfile::Builder::new().prefix("tarvek-").tempdir().map_err(cant)?;
        let to = copy.path().join("host.survey");
        for (from, to) in [(file.to_owned(), to.clone()), (journal, beside(&to, "-journal"))] {
            let mut new = File::create_new(&to).map_err(cant)?;
            std::io::copy(&mut regular(&from)?.0, &mut new).map_err(cant)?;
        }
        let size = look(&to)?;
        let mut db = Connection::open_with_flags(plain(&to), flags(true))?;
        bounded(&mut db, size)?;
        db.query_row("PRAGMA user_version", [], |row| row.get::<_, i64>(0))?;
        Ok(Self { file: to, _copy: Some(copy) })
    }
}

/// Whether the journal belongs to somebody who is writing right now, and waits until that is over.
fn writing(file: &Path) -> Result<bool, StoreError> {
    let db = Connection::open_with_flags(plain(file), flags(false))?;
    db.busy_timeout(PATIENCE)?;
    match db.query_row("PRAGMA user_version", [], |row| row.get::<_, i64>(0)) {
        Ok(_) => Ok(true),
        // A journal that nobody holds is one to be followed, which a reader can't.
        Err(error) => match error.sqlite_error_code() {
            Some(ErrorCode::ReadOnly | ErrorCode::CannotOpen) => Ok(false),
            _ => Err(error.into()),
        },
    }
}

/// A file's companion. SQLite looks for it beside what a symlink leads to.
fn beside(file: &Path, ending: &str) -> PathBuf {
    let real = fs::canonicalize(file).unwrap_or_else(|_| file.to_owned());
    let mut name = OsString::from(real);
    name.push(ending);
    name.into()
}

fn regular(file: &Path) -> Result<(File, Metadata), StoreError> {
    open_regular(file).map_err(|_| unreadable())
}

fn unreadable() -> StoreError {
    StoreError::new("it can't be opened", "look whether it is there and may be read")
}

fn foreign(message: &str) -> StoreError {
    StoreError::new(
        message,
        "move that away if you know where it comes from, or survey the host again, into a new file",
    )
}
