//! The file of a survey: opened so that whoever wrote it can do no harm, and why it may not be.

use std::path::Path;

use rusqlite::Connection;

use super::connection::{PATIENCE, StoreError, VERSION, bounded, flags, plain};
use super::{companions, shape};

/// Whether a file that may be written is yet to be made, or empty; one that is something else than
/// a plain file is refused.
pub(crate) fn is_new(file: &Path) -> Result<bool, StoreError> {
    let there = std::fs::symlink_metadata(file);
    match &there {
        Ok(meta) if !(meta.is_file() && meta.len() == 0) => companions::look(file).map(|_| false),
        Ok(_) => companions::look(file).map(|_| true),
        Err(_) => companions::none(file).map(|()| true),
    }
}

/// Opens a survey and makes sure that it is one of a version that can be read, and that nothing
/// else is in it.
pub(super) fn open(file: &Path, write: bool) -> Result<Connection, StoreError> {
    let size = companions::look(file)?;
    let mut db = Connection::open_with_flags(plain(file), flags(write))?;
    db.busy_timeout(PATIENCE)?;
    bounded(&mut db, size)?;
    let version: i64 = db.query_row("PRAGMA user_version", [], |row| row.get(0))?;
    let application: i64 = db.query_row("PRAGMA application_id", [], |row| row.get(0))?;
    if application != 0x5452_5653 {
        return Err(StoreError::new(
            "an SQLite file, but not a survey",
            "give a file that `tarvek survey -o` wrote",
        ));
    }
    if version != VERSION {
        return Err(StoreError::new(
            format!("its version is {version}; this Tarvek reads version {VERSION}"),
            "read it with the Tarvek that wrote it, or survey the host again, into a new file",
        ));
    }
    shape::compare(&db)?;
    Ok(db)
}
