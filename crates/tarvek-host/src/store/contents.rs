//! What files hold, for those who ask for it: it belongs to the rows of a survey and goes with
//! them, so that an unchanged file is read once and never again.

use std::collections::HashMap;
use std::fs::File;
use std::os::fd::AsFd;
use std::path::Path;
use std::sync::atomic::Ordering;
use std::sync::mpsc;
use std::time::{Duration, Instant};

use rayon::prelude::*;
use rusqlite::Connection;
use rustix::fs::{CWD, Mode, OFlags, ResolveFlags};
use tarvek_core::facts::host::Gap;
use tarvek_core::facts::tree::{NodeId, Tree};
use tarvek_core::kernel::entry::{EntryKind, Meta};
use tarvek_core::words::path::AbsPath;

use super::connection::StoreError;
use super::file::open;
use super::load;
use crate::content_fault::ContentFault;
use crate::sink::Number;
use crate::walk::{self, Watch};

/// What was added to a survey.
#[derive(Clone, Debug, Default)]
pub struct Added {
    /// Files that were read.
    pub files: u64,
    /// Bytes that were read of them.
    pub bytes: u64,
    /// Files of which it was there already.
    pub kept: u64,
    /// Files that could not be read, or that changed since the survey.
    pub failed: Vec<Gap>,
}

/// How long results may wait to be written.
const WITHIN: Duration = Duration::from_secs(2);

/// What is taken from files.
pub(super) trait FileRecord: Send + Sized {
    /// The table that keeps it, by the file that it is of.
    const TABLE: &'static str;

    /// Whether a file of that name has any.
    fn is_of(name: &[u8]) -> bool;

    /// How many bytes are read of a file of a size, where that is worth saying beforehand.
    fn expects(size: u64) -> u64;

    /// Takes it from an open file that was seen, and says how many bytes were read for it.
    ///
    /// # Errors
    /// Why it can't be had.
    fn take(file: &File, seen: &Meta, watch: &Watch) -> Result<(Self, u64), ContentFault>;

    /// Keeps it, of a file that was seen.
    ///
    /// # Errors
    /// If the survey can't be written.
    fn keep(
        &self,
        folder: Number,
        name: &[u8],
        seen: &Meta,
        survey: &Connection,
    ) -> rusqlite::Result<()>;
}

/// Adds what every regular file of a survey of this machine lacks, several at a time. What has been
/// read is written every few seconds, so that nothing of it is read again after an interruption.
/// Empty files have nothing.
///
/// # Errors
/// If the survey can't be read or written.
pub(super) fn add<T: FileRecord>(file: &Path, watch: &Watch) -> Result<Added, StoreError> {
    let mut db = open(file, true)?;
    let (facts, folders) = load::load_with_folders(file)?;
    let known = load::known(&db, T::TABLE, &facts.tree, &folders)?;
    let numbers = load::numbers(&folders);
    let mut done = Added::default();
    let tree = &facts.tree;
    let is_of = |node: &NodeId| {
        let meta = tree.meta(*node);
        meta.kind == EntryKind::File && meta.size > 0 && T::is_of(tree.name(*node))
    };
    let (mut lacking, mut sum) = (Vec::new(), 0);
    for node in tree.below(Tree::ROOT).filter(is_of) {
        match known.contains(&node) {
            true => done.kept += 1,
            false => {
                sum += T::expects(tree.meta(node).size);
                lacking.push(node);
            }
        }
    }
    watch.bytes.store(0, Ordering::Relaxed);
    watch.expected.store(sum, Ordering::Relaxed);
    let mut waiting: Vec<(NodeId, T)> = Vec::new();
    let mut written = Instant::now();
    let (results, taken_now) = mpsc::sync_channel(64);
    let outcome = std::thread::scope(|scope| {
        scope.spawn(|| {
            let results = results;
            lacking.par_iter().for_each_with(results, |results, node| {
                if !watch.stop.load(Ordering::Relaxed) {
                    let taken = taken::<T>(&tree.path(*node), &tree.meta(*node), watch);
                    // Whoever can't write any more listens to nobody.
                    let _ = results.send((*node, taken));
                }
            });
        });
        for (node, taken) in taken_now {
            match taken {
                Ok((what, bytes)) => {
                    waiting.push((node, what));
                    done.files += 1;
                    done.bytes += bytes;
                }
                Err(ContentFault::Stopped) => {}
                Err(why) => done.failed.push(Gap { path: tree.path(node), why: why.into() }),
            }
            watch.entries.fetch_add(1, Ordering::Relaxed);
            if written.elapsed() > WITHIN {
                write(&mut db, tree, &numbers, &mut waiting)?;
                written = Instant::now();
            }
        }
        write(&mut db, tree, &numbers, &mut waiting)
    });
    watch.expected.store(0, Ordering::Relaxed);
    outcome?;
    done.failed.sort_by(|a, b| a.path.cmp(&b.path));
    Ok(done)
}

fn taken<T: FileRecord>(
    path: &AbsPath,
    seen: &Meta,
    watch: &Watch,
) -> Result<(T, u64), ContentFault> {
    let file = open_seen(path, seen)?;
    let taken = T::take(&file, seen, watch)?;
    if is_same(&file, seen) { Ok(taken) } else { Err(ContentFault::Outdated) }
}

/// Whether an open file is the one that was seen, unchanged.
pub(crate) fn is_same(file: &File, seen: &Meta) -> bool {
    let now = walk::stat_at(file.as_fd(), c"").map(|(_, meta)| meta);
    now.is_ok_and(|now| {
        (now.kind, now.device, now.inode, now.size, now.changed)
            == (seen.kind, seen.device, seen.inode, seen.size, seen.changed)
    })
}

/// Opens a regular file for reading, if it is still the one that was seen. No symlink is followed
/// on the way to it.
///
/// # Errors
/// Why it can't be opened.
pub fn open_seen(path: &AbsPath, seen: &Meta) -> Result<File, ContentFault> {
    if seen.kind != EntryKind::File {
        return Err(ContentFault::NotRegular);
    }
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
    let resolve = ResolveFlags::NO_SYMLINKS | ResolveFlags::NO_MAGICLINKS;
    let handle = rustix::fs::openat2(CWD, path.as_bytes(), flags, Mode::empty(), resolve)
        .map_err(ContentFault::Unopened)?;
    let file = File::from(handle);
    if is_same(&file, seen) { Ok(file) } else { Err(ContentFault::Outdated) }
}

fn write<T: FileRecord>(
    db: &mut Connection,
    tree: &Tree,
    numbers: &HashMap<NodeId, Number>,
    waiting: &mut Vec<(NodeId, T)>,
) -> Result<(), StoreError> {
    let transaction = db.transaction()?;
    for (node, taken) in waiting.drain(..) {
        let folder = numbers[&tree.parent(node)];
        taken.keep(folder, tree.name(node), &tree.meta(node), &transaction)?;
    }
    Ok(transaction.commit()?)
}
