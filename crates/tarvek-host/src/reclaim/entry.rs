//! Names and files by descriptor: what was looked at is what is worked on, whoever renames things
//! meanwhile.

use std::fs::File;
use std::os::fd::{AsFd, AsRawFd, BorrowedFd, OwnedFd};

use rustix::fs::{AtFlags, CWD, Mode, OFlags, RenameFlags, ResolveFlags};
use rustix::io::Errno;
use serde::{Deserialize, Serialize};
use tarvek_core::kernel::entry::{EntryKind, Meta};
use tarvek_core::words::path::AbsPath;

use crate::filesystem::{FilesystemId, identity};
use crate::walk;

pub(super) const FOLDER: OFlags =
    OFlags::RDONLY.union(OFlags::DIRECTORY).union(OFlags::NOFOLLOW).union(OFlags::CLOEXEC);
const NO_LINKS: ResolveFlags = ResolveFlags::NO_SYMLINKS.union(ResolveFlags::NO_MAGICLINKS);

pub(super) const GONE: &str = "it is not there any more";
pub(super) const REPLACED: &str = "another file took its place meanwhile";

/// Opens a folder by its path; no symlink is followed on the way.
pub(super) fn open_folder(path: &AbsPath) -> Result<OwnedFd, Errno> {
    rustix::fs::openat2(CWD, path.as_bytes(), FOLDER, Mode::empty(), NO_LINKS)
}

/// An error of a rename or link in words.
pub(super) fn why(error: Errno) -> String {
    match error {
        Errno::NOSPC | Errno::DQUOT => "there is no room left on its filesystem".to_owned(),
        Errno::XDEV => "it can't be moved there: another mount, filesystem or project".to_owned(),
        other => walk::why(other),
    }
}

/// What a file was: enough to know it again after a reboot, and to see whether it has changed.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct FileIdentity {
    /// In the words of [`FilesystemId`].
    pub(super) filesystem: String,
    pub(super) inode: u64,
    pub(super) size: u64,
    /// Nanoseconds since 1970 UTC.
    pub(super) modified: i64,
    pub(super) changed: i64,
    pub(super) folder: bool,
}

/// A name in an open folder.
#[derive(Debug)]
pub(super) struct Location {
    pub(super) folder: OwnedFd,
    pub(super) name: Vec<u8>,
}

impl Location {
    /// The place of a path below a folder, from which no symlink and no `..` leads out.
    ///
    /// # Errors
    /// If its folder can't be opened, in words.
    pub(super) fn open(root: Option<&AbsPath>, path: &AbsPath) -> Result<Self, String> {
        let (Some(parent), Some(name)) = (path.parent(), path.name()) else {
            return Err("it is no name in a folder".to_owned());
        };
        let root = root.unwrap_or(&parent);
        let below = parent.below(root).ok_or("it lies outside of the folder of its review")?;
        let top = open_folder(root).map_err(folder_fault)?;
        let folder = match below {
            b"" => top,
            below => {
                let resolve = NO_LINKS | ResolveFlags::BENEATH;
                rustix::fs::openat2(&top, below, FOLDER, Mode::empty(), resolve)
                    .map_err(folder_fault)?
            }
        };
        Ok(Self { folder, name: name.to_vec() })
    }

    /// Takes hold of what the name stands for now.
    pub(super) fn pin(&self) -> Result<Pinned, Errno> {
        Pinned::at(&self.folder, &self.name)
    }

    /// The same, with an error in words.
    pub(super) fn pin_or_why(&self) -> Result<Pinned, String> {
        self.pin().map_err(|error| match error {
            Errno::NOENT => GONE.to_owned(),
            other => format!("it can't be looked at: {}", walk::why(other)),
        })
    }
}

fn folder_fault(error: Errno) -> String {
    match error {
        Errno::NOENT => "its folder is not there any more".to_owned(),
        Errno::LOOP | Errno::NOTDIR | Errno::XDEV => "a symlink leads there now".to_owned(),
        other => format!("its folder can't be opened: {}", walk::why(other)),
    }
}

/// An inode that is held by a descriptor: its number is nobody else's as long as this lives.
#[derive(Debug)]
pub(super) struct Pinned {
    handle: OwnedFd,
    pub(super) meta: Meta,
    pub(super) filesystem: FilesystemId,
}

impl Pinned {
    /// What a name in an open folder stands for; nothing is opened for reading, and no symlink is
    /// followed.
    pub(super) fn at(folder: &OwnedFd, name: &[u8]) -> Result<Self, Errno> {
        let flags = OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let handle = rustix::fs::openat(folder, name, flags, Mode::empty())?;
        let meta = stat(handle.as_fd())?;
        let device = meta.device.unwrap_or(0);
        // XFS tells its number only to who has something really open.
        let filesystem = match stat(folder.as_fd())?.device == meta.device {
            true => identity(folder.as_fd(), device)?,
            false => identity(handle.as_fd(), device)?,
        };
        Ok(Self { handle, meta, filesystem })
    }

    /// What `statx(2)` says of it now, asked of whoever keeps it and not of a cache.
    pub(super) fn stat_now(&self) -> Result<Meta, Errno> {
        stat(self.handle.as_fd())
    }

    /// Whether two are one inode of this machine, at this moment.
    pub(super) fn is_same_inode(&self, other: &Self) -> bool {
        (self.meta.device, self.meta.inode) == (other.meta.device, other.meta.inode)
    }

    /// Whether size and mtime are what they were.
    pub(super) fn is_unchanged(&self, now: &Meta) -> bool {
        self.meta.is_folder() || (self.meta.size, self.meta.modified) == (now.size, now.modified)
    }

    /// Opens just this file for reading.
    ///
    /// # Errors
    /// If it is no regular file, or may not be read, in words.
    pub(super) fn read(&self) -> Result<File, String> {
        match self.meta.kind {
            EntryKind::File => {}
            EntryKind::Symlink => return Err("a symlink took its place".to_owned()),
            _ => return Err("it is no regular file".to_owned()),
        }
        let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::CLOEXEC;
        rustix::fs::open(self.by_descriptor(), flags, Mode::empty())
            .map(File::from)
            .map_err(|error| format!("it can't be read: {}", walk::why(error)))
    }

    /// A name of the inode that no one else can change (`proc(5)`).
    fn by_descriptor(&self) -> String {
        format!("/proc/self/fd/{}", self.handle.as_raw_fd())
    }

    /// Gives it one more name in an open folder.
    pub(super) fn link_to(&self, folder: &OwnedFd, name: &str) -> Result<(), Errno> {
        let from = self.by_descriptor();
        rustix::fs::linkat(CWD, from.as_str(), folder, name, AtFlags::SYMLINK_FOLLOW)
    }

    /// What it is to be known by later.
    pub(super) fn identity(&self) -> FileIdentity {
        self.identity_of(&self.meta)
    }

    /// The same with what was seen of it later.
    pub(super) fn identity_of(&self, meta: &Meta) -> FileIdentity {
        FileIdentity {
            filesystem: self.filesystem.as_str().to_owned(),
            inode: meta.inode.unwrap_or(0),
            size: meta.size,
            modified: meta.modified,
            changed: meta.changed.unwrap_or(0),
            folder: meta.is_folder(),
        }
    }

    /// Whether it is the file that was written down.
    pub(super) fn is_file_of(&self, known: &FileIdentity) -> bool {
        self.meta.inode == Some(known.inode)
            && self.meta.is_folder() == known.folder
            && self.filesystem.may_be(&known.filesystem)
    }

    /// Whether it is that file, with the same size and mtime. The ctime moves with every name.
    pub(super) fn is_as(&self, known: &FileIdentity) -> bool {
        self.is_file_of(known)
            && (known.folder
                || (self.meta.size, self.meta.modified) == (known.size, known.modified))
    }
}

fn stat(of: BorrowedFd) -> Result<Meta, Errno> {
    walk::stat_now(of)
}

/// Whether a filesystem lacks what a flag of `renameat2(2)` asks for.
fn is_unsupported(error: Errno) -> bool {
    matches!(error, Errno::INVAL | Errno::NOSYS | Errno::OPNOTSUPP)
}

/// Moves whatever a name stands for into a folder that nobody else writes to, under a name that is
/// free there.
pub(super) fn move_in(from: &Location, into: &OwnedFd, name: &str) -> Result<(), Errno> {
    let (folder, own) = (&from.folder, from.name.as_slice());
    match rustix::fs::renameat_with(folder, own, into, name, RenameFlags::NOREPLACE) {
        // Nobody else can have taken the name there since it was looked for.
        Err(error) if is_unsupported(error) => match Pinned::at(into, name.as_bytes()) {
            Err(Errno::NOENT) => rustix::fs::renameat(folder, own, into, name),
            Ok(_) => Err(Errno::EXIST),
            Err(error) => Err(error),
        },
        other => other,
    }
}

/// Moves a name of a folder that nobody else writes to to another place, and replaces nothing
/// there.
pub(super) fn move_out(from: &OwnedFd, name: &str, to: &Location) -> Result<(), Errno> {
    let (folder, own) = (&to.folder, to.name.as_slice());
    match rustix::fs::renameat_with(from, name, folder, own, RenameFlags::NOREPLACE) {
        Err(error) if is_unsupported(error) => {
            if !Pinned::at(from, name.as_bytes())?.meta.is_folder() {
                rustix::fs::linkat(from, name, folder, own, AtFlags::empty())?;
                return rustix::fs::unlinkat(from, name, AtFlags::empty());
            }
            match to.pin() {
                // What could come to stand there meanwhile and be replaced is an empty folder at
                // most (rename(2)).
                Err(Errno::NOENT) => rustix::fs::renameat(from, name, folder, own),
                Ok(_) => Err(Errno::EXIST),
                Err(error) => Err(error),
            }
        }
        other => other,
    }
}

/// Exchanges what two names stand for, in one step.
pub(super) fn exchange(folder: &OwnedFd, name: &str, with: &Location) -> Result<(), Errno> {
    let (other, own) = (&with.folder, with.name.as_slice());
    rustix::fs::renameat_with(folder, name, other, own, RenameFlags::EXCHANGE)
}

/// Whether a folder by its name in another holds nothing.
pub(super) fn is_empty(folder: &OwnedFd, name: &[u8]) -> bool {
    let Ok(open) = rustix::fs::openat(folder, name, FOLDER, Mode::empty()) else { return false };
    names_in(&open).is_ok_and(|names| names.is_empty())
}

/// The names in an open folder.
pub(super) fn names_in(folder: &OwnedFd) -> Result<Vec<Vec<u8>>, Errno> {
    let mut names = Vec::new();
    for entry in rustix::fs::Dir::read_from(folder)? {
        let name = entry?.file_name().to_bytes().to_vec();
        if !matches!(name.as_slice(), b"." | b"..") {
            names.push(name);
        }
    }
    Ok(names)
}
