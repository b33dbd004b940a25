//! What keeps the blocks of files that would go.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::fs::{self, File};
use std::path::Path;

use rustix::fs::{AtFlags, CWD, StatxFlags};
use tarvek_core::facts::host::Gap;
use tarvek_core::facts::mounts::{MountEntry, MountTable};
use tarvek_core::kernel::entry::Meta;
use tarvek_core::waste::back::Exam;
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::text::shown;

use super::extents::{Owner, Shared, blocks, owners, tree_of};
use crate::store::contents::open_seen;
use crate::system;

/// Which files processes of this machine hold open or have mapped.
#[derive(Debug, Default)]
pub struct Holders {
    /// The process, by device and inode.
    by: HashMap<(u64, u64), String>,
    /// Whether some processes could not be looked at.
    pub partial: bool,
}

impl Holders {
    /// Whether a process holds a file, by device and inode.
    pub fn hold(&self, id: (u64, u64)) -> bool {
        self.by.contains_key(&id)
    }

    /// The process that holds a file.
    pub(crate) fn of_file(&self, device: u64, inode: u64) -> Option<&str> {
        self.by.get(&(device, inode)).map(String::as_str)
    }

    /// Looks through all processes for some files, by device and inode.
    pub fn of(wanted: &HashSet<(u64, u64)>) -> Self {
        let mut holders = Self::default();
        if wanted.is_empty() {
            return holders;
        }
        let own = std::process::id().to_string();
        for process in fs::read_dir("/proc").into_iter().flatten().flatten() {
            let pid = process.file_name().to_string_lossy().into_owned();
            if pid == own || !pid.bytes().all(|b| b.is_ascii_digit()) {
                continue;
            }
            let handles = ["fd", "map_files"].map(|name| fs::read_dir(process.path().join(name)));
            // A process that is gone by now holds nothing; kernel threads have no handles at all.
            let refused = |dir: &std::io::Result<fs::ReadDir>| matches!(dir, Err(error) if error.kind() == std::io::ErrorKind::PermissionDenied);
            holders.partial |= handles.iter().any(refused);
            for handle in handles.into_iter().flatten().flatten().flatten() {
                let Some(id) = id(&handle.path()).filter(|id| wanted.contains(id)) else {
                    continue;
                };
                holders.by.entry(id).or_insert_with(|| {
                    let name = fs::read(process.path().join("comm")).unwrap_or_default();
                    format!("{} (process {pid})", shown(name.trim_ascii_end()))
                });
            }
        }
        holders
    }
}

/// Bytes of blocks of an open file that others have as well.
pub(crate) fn shared_of(file: &File) -> u64 {
    blocks(file).shared.iter().fold(0, |sum: u64, part| sum.saturating_add(part.length))
}

/// The same of a file that was seen; `None` if it can't be opened.
pub fn shared_bytes(path: &AbsPath, meta: &Meta) -> Option<u64> {
    open_seen(path, meta).ok().map(|file| shared_of(&file))
}

/// Device and inode of what a path leads to.
fn id(path: &Path) -> Option<(u64, u64)> {
    let stat = rustix::fs::statx(CWD, path, AtFlags::NO_AUTOMOUNT, StatxFlags::INO).ok()?;
    Some((u64::from(stat.stx_dev_major) << 32 | u64::from(stat.stx_dev_minor), stat.stx_ino))
}

/// Snapshots of the datasets of this machine.
#[derive(Debug, Default)]
pub struct Snapshots {
    /// Whether there are datasets at all.
    datasets: bool,
    newest: BTreeMap<Vec<u8>, Option<i64>>,
}

impl Snapshots {
    /// Asks for them, if there are datasets at all.
    pub fn of(mounts: Option<&MountTable>) -> Self {
        let datasets = mounts.is_some_and(|table| table.entries().iter().any(is_zfs));
        let newest = if datasets { system::newest_snapshots() } else { BTreeMap::new() };
        Self { datasets, newest }
    }

    /// Whether one may hold a file: it was made after the file.
    fn hold(&self, mounts: Option<&MountTable>, path: &AbsPath) -> bool {
        if self.newest.is_empty() {
            return false;
        }
        let Some(mount) = mounts.and_then(|table| table.at(path)).filter(|mount| is_zfs(mount))
        else {
            return false;
        };
        match self.newest.get(&mount.source) {
            None => false,
            Some(None) => true,
            Some(Some(made)) => born(path).is_none_or(|born| born <= *made),
        }
    }
}

fn is_zfs(mount: &MountEntry) -> bool {
    mount.filesystem.raw().contains("zfs")
}

/// When a file was made, where its filesystem says so.
fn born(path: &AbsPath) -> Option<i64> {
    let flags = AtFlags::SYMLINK_NOFOLLOW | AtFlags::NO_AUTOMOUNT;
    let stat = rustix::fs::statx(CWD, path.as_bytes(), flags, StatxFlags::BTIME).ok()?;
    (stat.stx_mask & StatxFlags::BTIME.bits() != 0).then_some(stat.stx_btime.tv_sec)
}

/// Files that go with all their names, so that what they share with each other comes back.
#[derive(Debug, Default)]
pub struct Going {
    /// By device and inode.
    files: HashSet<(u64, u64)>,
    /// The tree of Btrfs that each device number stands for.
    trees: HashMap<u64, u64>,
}

impl Going {
    /// These, by device and inode.
    pub fn of(files: HashSet<(u64, u64)>) -> Self {
        Self { files, trees: HashMap::new() }
    }

    /// Notes the tree that a file of a device lies in.
    fn learn(&mut self, device: u64, file: &File) -> u64 {
        *self.trees.entry(device).or_insert_with(|| tree_of(file))
    }

    fn has(&self, (tree, inode): Owner, device: u64) -> bool {
        match tree {
            0 => self.files.contains(&(device, inode)),
            tree => self
                .trees
                .iter()
                .any(|(device, known)| *known == tree && self.files.contains(&(*device, inode))),
        }
    }
}

/// What keeps the blocks of a file.
///
/// # Errors
/// If it can't be opened, or is another one by now.
pub fn examine(
    path: &AbsPath,
    meta: &Meta,
    holders: &Holders,
    going: &mut Going,
    (snapshots, mounts): (&Snapshots, Option<&MountTable>),
) -> Result<Exam, Gap> {
    let held_by = meta.device.zip(meta.inode).and_then(|id| holders.by.get(&id).cloned());
    if meta.allocated == Some(0) {
        return Ok(Exam { held_by, ..Exam::default() });
    }
    let snapshot = snapshots.hold(mounts, path);
    let file = open_seen(path, meta).map_err(|why| Gap { path: path.clone(), why: why.into() })?;
    let blocks = blocks(&file);
    let (device, inode) = (meta.device.unwrap_or(0), meta.inode.unwrap_or(0));
    let own = (going.learn(device, &file), inode);
    // Parts that only files have which go as well come back with the first of those.
    let stays = |part: &&Shared| match owners(&file, **part) {
        Some(owners) => {
            owners.first() != Some(&own) || !owners.iter().all(|owner| going.has(*owner, device))
        }
        None => true,
    };
    let shared = blocks
        .shared
        .iter()
        .filter(stays)
        .fold(0, |sum: u64, part| sum.saturating_add(part.length));
    // ZFS packs as well, and tells little of what is fresh.
    let zfs = || mounts.and_then(|table| table.at(path)).is_some_and(is_zfs);
    let packed = blocks.packed || snapshots.datasets && zfs();
    Ok(Exam { held_by, shared, snapshot, unsure: holders.partial, packed })
}
