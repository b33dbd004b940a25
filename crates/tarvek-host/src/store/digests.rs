//! Digests of files' contents, for those who ask for them. They belong to the rows of a survey and go with them, so that an
//! unchanged file is read once and never again.

use std::collections::HashSet;
use std::os::fd::AsFd;
use std::path::Path;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};

use rusqlite::{Connection, params};
use rustix::fs::{CWD, Mode, OFlags, ResolveFlags};
use tarvek_core::facts::host::Gap;
use tarvek_core::facts::tree::{NodeId, Tree};
use tarvek_core::kernel::entry::{EntryKind, Meta};
use tarvek_core::words::path::AbsPath;

use super::{StoreError, load, open};
use crate::walk::{self, Watch};

/// What [`add_digests`] did.
#[derive(Clone, Debug, Default)]
pub struct Digested {
    /// Files that were read.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Files whose digest was there already.
    pub kept: u64,
    /// Files that could not be read, or that changed since the survey.
    pub failed: Vec<Gap>,
}

/// How long results may wait to be written.
const WITHIN: Duration = Duration::from_secs(2);

/// Adds the BLAKE3 digest of every regular file of a survey of this machine that has none yet. Empty files have none. What has
/// been read is written every few seconds, so that nothing of it is read again after an interruption.
///
/// # Errors
/// If the survey can't be read or written.
pub fn add_digests(file: &Path, watch: &Watch) -> Result<Digested, StoreError> {
    let (facts, rows) = load::load_with_rows(file)?;
    let mut db = open(file, true)?;
    let known: HashSet<i64> = {
        let mut statement = db.prepare("SELECT entry FROM content")?;
        statement.query_map([], |row| row.get(0))?.collect::<Result<_, _>>()?
    };
    let mut done = Digested::default();
    let mut waiting: Vec<(i64, blake3::Hash)> = Vec::new();
    let mut written = Instant::now();
    let mut folders = vec![Tree::ROOT];
    while let Some(folder) = folders.pop() {
        for node in facts.tree.children(folder) {
            let meta = facts.tree.meta(node);
            match meta.kind {
                EntryKind::Folder => folders.push(node),
                EntryKind::File if meta.size > 0 => {
                    if watch.stop.load(Ordering::Relaxed) {
                        break;
                    }
                    let id = rows.ids[node.0 as usize];
                    if known.contains(&id) {
                        done.kept += 1;
                        continue;
                    }
                    one(&facts.tree, node, &meta, id, &mut waiting, &mut done);
                    watch.entries.fetch_add(1, Ordering::Relaxed);
                }
                _ => {}
            }
            if written.elapsed() > WITHIN {
                write(&mut db, &mut waiting)?;
                written = Instant::now();
            }
        }
    }
    write(&mut db, &mut waiting)?;
    Ok(done)
}

fn one(
    tree: &Tree,
    node: NodeId,
    meta: &Meta,
    id: i64,
    waiting: &mut Vec<(i64, blake3::Hash)>,
    done: &mut Digested,
) {
    let path = tree.path(node);
    match digest(&path, meta) {
        Ok(digest) => {
            waiting.push((id, digest));
            done.files += 1;
            done.bytes += meta.size;
        }
        Err(why) => done.failed.push(Gap { path, why: why.into() }),
    }
}

/// Reads one file, if it is still the one that was seen, and stays it until it has been read.
fn digest(path: &AbsPath, seen: &Meta) -> Result<blake3::Hash, String> {
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
    let resolve = ResolveFlags::NO_SYMLINKS | ResolveFlags::NO_MAGICLINKS;
    let handle = rustix::fs::openat2(CWD, path.as_bytes(), flags, Mode::empty(), resolve)
        .map_err(walk::why)?;
    let same = || {
        let now = walk::stat_at(handle.as_fd(), c"").map(|(_, meta)| meta);
        now.is_ok_and(|now| {
            (now.kind, now.device, now.inode, now.size, now.changed)
                == (seen.kind, seen.device, seen.inode, seen.size, seen.changed)
        })
    };
    let changed = || "it has changed since it was surveyed".to_owned();
    if !same() {
        return Err(changed());
    }
    let file = std::fs::File::from(handle.try_clone().map_err(|error| error.to_string())?);
    let mut hasher = blake3::Hasher::new();
    hasher.update_reader(file).map_err(|error| error.to_string())?;
    if same() { Ok(hasher.finalize()) } else { Err(changed()) }
}

fn write(db: &mut Connection, waiting: &mut Vec<(i64, blake3::Hash)>) -> Result<(), StoreError> {
    let transaction = db.transaction()?;
    for (id, digest) in waiting.drain(..) {
        transaction.execute(
            "INSERT OR REPLACE INTO content VALUES (?1, ?2)",
            params![id, digest.as_bytes()],
        )?;
    }
    Ok(transaction.commit()?)
}
