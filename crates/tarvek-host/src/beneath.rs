//! What lies in mount points beneath what is mounted on them: a document of a survey.

use std::collections::HashSet;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use rustix::fs::{AtFlags, CWD, Dir, FileType, Mode, OFlags};
use rustix::io::Errno;
use rustix::mount::OpenTreeFlags;
use tarvek_core::facts::mounts::{MountEntry, MountTable, of_the_kernel};
use tarvek_core::words::path::AbsPath;
use tarvek_formats::escape::escape;

/// More entries of one mount point are not counted.
const MOST: u64 = 100_000;

/// Deeper folders are not counted; each holds a descriptor while those below it are read.
const DEEPEST: usize = 64;

/// A line for each mount point beneath which something lies: the point, how many entries, how many
/// bytes they take, and `more` where not all were counted. Empty for whoever may not clone mounts
/// (`CAP_SYS_ADMIN`).
pub(crate) fn document(mounts: &MountTable) -> Vec<u8> {
    let mut text = Vec::new();
    for mount in mounts.entries() {
        let seen = mounts.mounted_at(&mount.point).is_some_and(|top| top.id == mount.id);
        let covered = mounts.entry(mount.parent).filter(|_| seen && !mounts.covers_itself(mount));
        let Some(parent) = covered.filter(|parent| reaches(mounts, mount, parent)) else {
            continue;
        };
        let mut count = Count::default();
        let Ok(()) = beneath(&parent.point, &mount.point, &mut count) else { continue };
        if count.entries > 0 {
            text.extend(escape(mount.point.as_bytes(), true));
            let more = if count.more { " more" } else { "" };
            text.extend(format!(" {} {}{more}\n", count.entries, count.bytes).into_bytes());
        }
    }
    text
}

/// Whether what a mount covers can be reached under its parent's own path, and is worth it. No
/// other host is asked.
fn reaches(mounts: &MountTable, mount: &MountEntry, parent: &MountEntry) -> bool {
    let top = mounts.mounted_at(&parent.point).is_some_and(|top| top.id == parent.id);
    top && parent.id != mount.id
        && parent.network().is_none()
        && !parent.filesystem.raw().starts_with("fuse")
        && !of_the_kernel(&mount.filesystem)
        && !of_the_kernel(&parent.filesystem)
}

#[derive(Default)]
struct Count {
    entries: u64,
    bytes: u64,
    more: bool,
    /// Files of several names, by device and inode: a disk holds each once.
    shared: HashSet<(u64, u64)>,
}

/// Counts what lies in a folder of a mount, whatever is mounted on it: in a clone of the mount that
/// is attached nowhere and is gone once it is closed (`open_tree(2)`). Nobody else sees it.
fn beneath(parent: &AbsPath, point: &AbsPath, count: &mut Count) -> Result<(), Errno> {
    let clone = OpenTreeFlags::OPEN_TREE_CLONE | OpenTreeFlags::OPEN_TREE_CLOEXEC;
    let mut here = rustix::mount::open_tree(CWD, parent.as_bytes(), clone)?;
    let below = point.below(parent).unwrap_or_default();
    for part in below.split(|byte| *byte == b'/').filter(|part| !part.is_empty()) {
        here = folder(here.as_fd(), part)?;
    }
    if below.is_empty() {
        // Two mounts at one path: the clone is what covers, or what is covered; nobody can tell.
        return Err(Errno::NOENT);
    }
    entries(folder(here.as_fd(), b".")?, 0, count)
}

fn folder(at: BorrowedFd, name: &[u8]) -> Result<OwnedFd, Errno> {
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    rustix::fs::openat(at, name, flags, Mode::empty())
}

fn entries(here: OwnedFd, depth: usize, count: &mut Count) -> Result<(), Errno> {
    for entry in Dir::read_from(&here)? {
        let entry = entry?;
        let name = entry.file_name().to_bytes();
        if matches!(name, b"." | b"..") {
            continue;
        }
        if count.entries == MOST {
            count.more = true;
            return Ok(());
        }
        count.entries += 1;
        let Ok(meta) = rustix::fs::statat(&here, name, AtFlags::SYMLINK_NOFOLLOW) else {
            count.more = true;
            continue;
        };
        let is_folder = FileType::from_raw_mode(meta.st_mode) == FileType::Directory;
        let names = if is_folder { 1 } else { meta.st_nlink };
        if names == 1 || count.shared.insert((meta.st_dev, meta.st_ino)) {
            count.bytes = count.bytes.saturating_add(meta.st_blocks.unsigned_abs() * 512);
        }
        if is_folder {
            let below = (depth < DEEPEST).then(|| folder(here.as_fd(), name));
            match below {
                Some(Ok(below)) => entries(below, depth + 1, count)?,
                Some(Err(_)) | None => count.more = true,
            }
        }
    }
    Ok(())
}
