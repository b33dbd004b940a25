//! A file that keeps what was read of others, so that an unchanged file is never read twice.
//!
//! It is an SQLite file of its own: what is in it can be lost at any time without harm. Files are
//! known by filesystem and inode, and are unchanged if size, mtime and ctime are what they were.

use std::path::Path;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use rusqlite::{Connection, OpenFlags, OptionalExtension, Row, params};
use tarvek_core::facts::media::Media;
use tarvek_core::kernel::entry::Meta;
use tarvek_core::waste::group::hash;
use tarvek_core::words::path::AbsPath;

use super::memory::{CacheLookup, Memory, PartialDigests};
use crate::store::connection::{StoreError, plain};
use crate::store::file::is_new;

/// What a cache says that it is (`PRAGMA application_id`): `TRVC`.
const APPLICATION: i64 = 0x5452_5643;
const VERSION: i64 = 1;
/// How long results may wait to be written.
const WITHIN: Duration = Duration::from_secs(2);

const SCHEMA: &str = "
CREATE TABLE file (
  filesystem INTEGER NOT NULL, inode INTEGER NOT NULL, -- what it is known by
  size INTEGER NOT NULL, modified INTEGER NOT NULL, changed INTEGER NOT NULL,
  mode INTEGER NOT NULL, uid INTEGER NOT NULL, gid INTEGER NOT NULL, links INTEGER NOT NULL, name \
  INTEGER NOT NULL,
  head INTEGER, ends INTEGER, prefixes BLOB NOT NULL, whole BLOB, blocks BLOB,
  PRIMARY KEY (filesystem, inode)
) WITHOUT ROWID;
CREATE TABLE header (
  filesystem INTEGER NOT NULL, inode INTEGER NOT NULL, size INTEGER NOT NULL, modified INTEGER NOT \
  NULL, changed INTEGER NOT NULL,
  millis INTEGER, width INTEGER, height INTEGER, video TEXT, audio TEXT, tracks INTEGER NOT NULL, \
  cut INTEGER NOT NULL,
  PRIMARY KEY (filesystem, inode)
) WITHOUT ROWID;";

/// Where nothing is kept.
#[derive(Debug)]
pub struct Nowhere;

impl Memory for Nowhere {
    fn recall(&self, _: &AbsPath, _: &Meta) -> CacheLookup {
        CacheLookup::Nothing
    }

    fn learn(&self, _: &AbsPath, _: &Meta, _: &PartialDigests) -> Result<(), StoreError> {
        Ok(())
    }
}

/// An open cache.
#[derive(Debug)]
pub struct Cache(Mutex<Open>);

#[derive(Debug)]
struct Open {
    db: Connection,
    /// Since when a transaction waits to be committed.
    since: Option<Instant>,
    /// The filesystem of each device, asked once.
    filesystems: Vec<(u64, i64)>,
}

/// What can't be had of a device number alone, which may be another after each start: the
/// filesystem's own number (`statvfs(3)`).
fn filesystem_of(path: &AbsPath, device: u64) -> i64 {
    let folder = path.parent().unwrap_or_else(AbsPath::root);
    let own = rustix::fs::statvfs(folder.as_bytes()).map_or(0, |fs| fs.f_fsid);
    // Filesystems without a number are told apart by their device.
    (if own == 0 { device } else { own }).cast_signed()
}

impl Cache {
    /// Opens a cache, or makes one.
    ///
    /// # Errors
    /// If the file is something else, or can't be written.
    pub fn open(file: &Path) -> Result<Self, StoreError> {
        Self::opened(file).map_err(|error| match error.is_other_file {
            true => other("not a cache file"),
            false => error,
        })
    }

    fn opened(file: &Path) -> Result<Self, StoreError> {
        let fresh = is_new(file)?;
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let create = if fresh { OpenFlags::SQLITE_OPEN_CREATE } else { OpenFlags::empty() };
        let db = Connection::open_with_flags(plain(file), flags | create)?;
        db.busy_timeout(WITHIN)?;
        db.execute_batch(
            "PRAGMA trusted_schema = OFF; PRAGMA cell_size_check = ON; PRAGMA \
                          mmap_size = 0; PRAGMA synchronous = NORMAL; PRAGMA temp_store = \
                          MEMORY;",
        )?;
        let number = |sql: &str| db.query_row(sql, [], |row| row.get::<_, i64>(0));
        if fresh {
            db.execute_batch(&format!(
                "BEGIN; {SCHEMA} PRAGMA application_id = {APPLICATION}; PRAGMA user_version = \
                 {VERSION}; COMMIT;"
            ))?;
        } else if number("PRAGMA application_id")? != APPLICATION {
            return Err(other("an SQLite file, but not a cache"));
        } else if number("PRAGMA user_version")? != VERSION || !has_schema(&db)? {
            return Err(StoreError::new(
                "a cache of another version",
                "remove it; what was in it is read again",
            ));
        }
        Ok(Self(Mutex::new(Open { db, since: None, filesystems: Vec::new() })))
    }

    fn lock(&self) -> MutexGuard<'_, Open> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What the header of an unchanged file said.
    pub fn header(&self, path: &AbsPath, meta: &Meta) -> Option<Option<Media>> {
        let mut open = self.lock();
        let (filesystem, inode) = open.key(path, meta)?;
        let sql = "SELECT millis, width, height, video, audio, tracks, cut, size, modified, \
                   changed FROM header WHERE filesystem = ?1 AND inode = ?2";
        let known = open.db.prepare_cached(sql).ok()?.query_row([filesystem, inode], |row| {
            let same = (row.get::<_, i64>(7)?, row.get::<_, i64>(8)?, Some(row.get::<_, i64>(9)?))
                == (meta.size.cast_signed(), meta.modified, meta.changed);
            let tracks: u32 = row.get(5)?;
            let media = Media {
                millis: row.get::<_, Option<i64>>(0)?.map(i64::cast_unsigned),
                width: row.get(1)?,
                height: row.get(2)?,
                video: row.get(3)?,
                audio: row.get(4)?,
                tracks,
                cut: row.get(6)?,
            };
            Ok(same.then_some((tracks > 0).then_some(media)))
        });
        known.optional().ok()??
    }

    /// Keeps what a header says.
    ///
    /// # Errors
    /// If it can't be written.
    pub fn learn_header(
        &self,
        path: &AbsPath,
        meta: &Meta,
        media: Option<&Media>,
    ) -> Result<(), StoreError> {
        let mut open = self.lock();
        let Some((filesystem, inode)) = open.key(path, meta) else { return Ok(()) };
        let Media { millis, width, height, video, audio, tracks, cut } =
            media.cloned().unwrap_or_default();
        let millis = millis.map(u64::cast_signed);
        open.write(|db| {
            let sql =
                "INSERT OR REPLACE INTO header VALUES (?1,?2,?3,?4,?5,?6,?7,?8,?9,?10,?11,?12)";
            db.prepare_cached(sql)?.execute(params![
                filesystem,
                inode,
                meta.size.cast_signed(),
                meta.modified,
                meta.changed,
                millis,
                width,
                height,
                video,
                audio,
                tracks,
                cut
            ])
        })
    }

    /// Writes what waits.
    ///
    /// # Errors
    /// If it can't be written.
    pub fn flush(&self) -> Result<(), StoreError> {
        let mut open = self.lock();
        if open.since.take().is_some() {
            open.db.execute_batch("COMMIT")?;
        }
        Ok(())
    }
}

/// Something else than a cache stands there.
fn other(message: &str) -> StoreError {
    StoreError::new(message, "name a file that is not there yet, or one that --cache wrote")
}

/// Whether the tables are those of a cache, and nothing else is there.
fn has_schema(db: &Connection) -> rusqlite::Result<bool> {
    let mut statement = db.prepare("SELECT sql FROM sqlite_schema")?;
    let found: Vec<Option<String>> =
        statement.query_map([], |row| row.get(0))?.collect::<Result<_, _>>()?;
    let bare = |sql: &str| sql.split_ascii_whitespace().collect::<Vec<_>>().join(" ");
    let mut found: Vec<String> = found.iter().flatten().map(|sql| bare(sql)).collect();
    let mut expected: Vec<String> =
        SCHEMA.split(';').map(bare).filter(|sql| !sql.is_empty()).collect();
    found.sort();
    expected.sort();
    Ok(found == expected)
}

impl Open {
    fn key(&mut self, path: &AbsPath, meta: &Meta) -> Option<(i64, i64)> {
        let (device, inode) = meta.device.zip(meta.inode)?;
        let known = self.filesystems.iter().find(|(known, _)| *known == device).map(|(_, fs)| *fs);
        let filesystem = known.unwrap_or_else(|| {
            let own = filesystem_of(path, device);
            self.filesystems.push((device, own));
            own
        });
        Some((filesystem, inode.cast_signed()))
    }

    fn write(
        &mut self,
        work: impl FnOnce(&Connection) -> rusqlite::Result<usize>,
    ) -> Result<(), StoreError> {
        if self.since.is_none() {
            self.db.execute_batch("BEGIN IMMEDIATE")?;
            self.since = Some(Instant::now());
        }
        work(&self.db)?;
        if self.since.is_some_and(|since| since.elapsed() > WITHIN) {
            self.since = None;
            self.db.execute_batch("COMMIT")?;
        }
        Ok(())
    }
}

impl Memory for Cache {
    fn recall(&self, path: &AbsPath, meta: &Meta) -> CacheLookup {
        let mut open = self.lock();
        let Some((filesystem, inode)) = open.key(path, meta) else { return CacheLookup::Nothing };
        let sql = "SELECT size, modified, changed, mode, uid, gid, links, name, head, ends, \
                   prefixes, whole, blocks FROM file WHERE filesystem = ?1 AND inode = ?2";
        let known = open.db.prepare_cached(sql).and_then(|mut statement| {
            statement.query_row([filesystem, inode], |row| recalled(row, path, meta)).optional()
        });
        // What can't be read of a cache is read of the file.
        known.ok().flatten().unwrap_or(CacheLookup::Nothing)
    }

    fn learn(&self, path: &AbsPath, meta: &Meta, taken: &PartialDigests) -> Result<(), StoreError> {
        let mut open = self.lock();
        let Some((filesystem, inode)) = open.key(path, meta) else { return Ok(()) };
        let prefixes: Vec<u8> = taken
            .prefixes
            .iter()
            .flat_map(|(n, value)| std::iter::once(*n).chain(value.to_le_bytes()))
            .collect();
        open.write(|db| {
            let sql = "INSERT OR REPLACE INTO file VALUES \
                       (?1,?2,?3,?4,?5,?6,?7,?8,?9,?10,?11,?12,?13,?14,?15)";
            db.prepare_cached(sql)?.execute(params![
                filesystem,
                inode,
                meta.size.cast_signed(),
                meta.modified,
                meta.changed,
                meta.mode,
                meta.uid,
                meta.gid,
                meta.links,
                name_of(path),
                taken.head.map(u64::cast_signed),
                taken.ends.map(u64::cast_signed),
                prefixes,
                taken.whole.as_ref().map(|whole| whole.as_slice()),
                taken.blocks.as_ref().map(|blocks| blocks.as_slice()),
            ])
        })
    }
}

/// A path as a number, to see whether a file has been moved.
fn name_of(path: &AbsPath) -> i64 {
    hash(&[path.as_bytes()]).cast_signed()
}

fn recalled(row: &Row, path: &AbsPath, meta: &Meta) -> rusqlite::Result<CacheLookup> {
    let number = |column: usize| row.get::<_, i64>(column);
    if (number(0)?, number(1)?) != (meta.size.cast_signed(), meta.modified) {
        return Ok(CacheLookup::Nothing);
    }
    let some = |column: usize| {
        Ok::<_, rusqlite::Error>(row.get::<_, Option<i64>>(column)?.map(i64::cast_unsigned))
    };
    let prefixes: Vec<u8> = row.get(10)?;
    let prefix = |part: &[u8]| {
        let value =
            part[1..].iter().rev().fold(0, |value: u64, byte| value << 8 | u64::from(*byte));
        (part[0], value)
    };
    let digest = |column: usize| {
        let bytes: Option<Vec<u8>> = row.get(column)?;
        Ok::<_, rusqlite::Error>(bytes.and_then(|bytes| bytes.try_into().ok()))
    };
    let taken = PartialDigests {
        head: some(8)?,
        ends: some(9)?,
        prefixes: prefixes.chunks_exact(9).map(prefix).collect(),
        whole: digest(11)?,
        blocks: digest(12)?,
    };
    if Some(number(2)?) == meta.changed {
        return Ok(CacheLookup::Unchanged(taken));
    }
    // What moved the ctime has to show; else it may have been a write that put the mtime back.
    let now =
        [meta.mode.into(), meta.uid.into(), meta.gid.into(), meta.links.into(), name_of(path)];
    let shows = (3..8).map(number).collect::<Result<Vec<i64>, _>>()? != now;
    Ok(if shows { CacheLookup::Touched(taken) } else { CacheLookup::Nothing })
}
