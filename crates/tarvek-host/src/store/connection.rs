//! How a survey's file is opened so that whoever wrote it can do no harm, and why it may not be.

use std::fmt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use rusqlite::config::DbConfig;
use rusqlite::{Connection, ErrorCode, OpenFlags};
use tarvek_formats::guard;

/// The version of the schema that this program writes, kept in `PRAGMA user_version`.
pub(super) const VERSION: i64 = 1;

/// What SQLite files start with.
pub(super) const MAGIC: &[u8] = b"SQLite format 3\0";

/// Whether some bytes are the start of an SQLite file.
pub fn is_survey(bytes: &[u8]) -> bool {
    bytes.starts_with(MAGIC)
}

/// Why a survey can't be read or written, in words that say what to do.
#[derive(Debug, PartialEq, Eq)]
pub struct StoreError {
    /// What is wrong.
    pub message: String,
    /// What to do about it.
    pub remedy: String,
    /// Whether the file is something else altogether.
    pub is_other_file: bool,
}

impl StoreError {
    pub(crate) fn new(message: impl Into<String>, remedy: impl Into<String>) -> Self {
        Self { message: message.into(), remedy: remedy.into(), is_other_file: false }
    }
}

impl fmt::Display for StoreError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}; {}", self.message, self.remedy)
    }
}

impl std::error::Error for StoreError {}

impl From<rusqlite::Error> for StoreError {
    fn from(error: rusqlite::Error) -> Self {
        let code = error.sqlite_error_code();
        let (message, remedy) = match code {
            Some(ErrorCode::NotADatabase) => {
                ("not a survey file", "give a file that `tarvek survey -o` wrote")
            }
            Some(ErrorCode::DatabaseCorrupt) => {
                ("it is damaged or cut off", "survey the host again, into a new file")
            }
            Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => {
                ("another program is writing it", "wait until that is done")
            }
            Some(ErrorCode::ReadOnly) => {
                ("it can't be written", "make it writable, or name another file")
            }
            Some(ErrorCode::CannotOpen) => {
                ("it can't be opened", "look whether its folder is there and may be used")
            }
            Some(ErrorCode::DiskFull) => (
                "the disk is full; nothing was changed",
                "free some space, or name a file elsewhere",
            ),
            Some(ErrorCode::PermissionDenied) => {
                ("permission is denied", "name a file that you may use")
            }
            Some(ErrorCode::OperationInterrupted) => (
                "reading it takes more work than its size can mean",
                "survey the host again, into a new file",
            ),
            Some(ErrorCode::TooBig | ErrorCode::OutOfMemory) => {
                ("something in it is too large", "survey the host again, into a new file")
            }
            _ => ("a row in it is none of a survey", "survey the host again, into a new file"),
        };
        let is_other_file = code == Some(ErrorCode::NotADatabase);
        Self { is_other_file, ..Self::new(message, remedy) }
    }
}

/// How long another program's write is waited for.
pub(super) const PATIENCE: Duration = Duration::from_secs(2);

/// What a file may cost to read, in instructions of SQLite's machine: some to begin with, and some
/// for each byte. The rows of a survey take about one per byte; a file that was made to go round in
/// circles would take for ever.
pub(super) const WORK: (u64, u64) = (20_000_000, 8);

pub(super) fn flags(write: bool) -> OpenFlags {
    let access =
        if write { OpenFlags::SQLITE_OPEN_READ_WRITE } else { OpenFlags::SQLITE_OPEN_READ_ONLY };
    // Without SQLITE_OPEN_URI, so that `file:…` is a name like any other.
    access | OpenFlags::SQLITE_OPEN_NO_MUTEX
}

/// A file's name as SQLite takes it for one: `:memory:` and the empty name mean something else to
/// it.
pub(crate) fn plain(file: &Path) -> PathBuf {
    Path::new(".").join(file)
}

/// Reads of a file; a fault on the way is damage.
pub(super) fn guarded<T>(read: impl FnOnce() -> Result<T, StoreError>) -> Result<T, StoreError> {
    guard::guarded(read).unwrap_or_else(|_| Err(damaged()))
}

pub(super) fn damaged() -> StoreError {
    StoreError::new("its folder tree is inconsistent", "survey the host again, into a new file")
}

/// Whoever wrote the file may have meant harm: its schema runs nothing (SQLite, "Defense Against
/// The Dark Arts"), and what it takes to read is bounded.
pub(super) fn bounded(db: &mut Connection, size: u64) -> Result<(), StoreError> {
    for (setting, on) in [
        (DbConfig::SQLITE_DBCONFIG_DEFENSIVE, true),
        (DbConfig::SQLITE_DBCONFIG_TRUSTED_SCHEMA, false),
        (DbConfig::SQLITE_DBCONFIG_ENABLE_TRIGGER, false),
        (DbConfig::SQLITE_DBCONFIG_ENABLE_VIEW, false),
    ] {
        db.set_db_config(setting, on)?;
    }
    db.execute_batch("PRAGMA cell_size_check = ON; PRAGMA mmap_size = 0;")?;
    let (most, mut done) = (WORK.0.saturating_add(size.saturating_mul(WORK.1)), 0);
    const STEP: i32 = 100_000;
    let count = move || {
        done += u64::from(STEP.unsigned_abs());
        done > most
    };
    db.progress_handler(STEP, Some(count))?;
    Ok(())
}
