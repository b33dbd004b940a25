//! The holding folder: on the same mount and in the same project as what it takes, nobody's but one's own.

use std::fs::File;
use std::io;
use std::os::fd::{AsFd, OwnedFd};

use rustix::fs::{AtFlags, CWD, Mode, OFlags, ResolveFlags, StatxFlags};
use rustix::io::Errno;
use tarvek_core::kernel::entry::Meta;
use tarvek_core::waste::stock::HELD;
use tarvek_core::words::path::AbsPath;

use super::journal::Journal;
use crate::observe::own_uid;
use crate::project;
use crate::walk;

const FOLDER: OFlags =
    OFlags::RDONLY.union(OFlags::DIRECTORY).union(OFlags::NOFOLLOW).union(OFlags::CLOEXEC);
const NO_LINKS: ResolveFlags = ResolveFlags::NO_SYMLINKS.union(ResolveFlags::NO_MAGICLINKS);

/// Opens a folder by its path; no symlink is followed on the way.
pub(super) fn open_folder(path: &AbsPath) -> Result<OwnedFd, Errno> {
    rustix::fs::openat2(CWD, path.as_bytes(), FOLDER, Mode::empty(), NO_LINKS)
}

/// What `statx(2)` says of a name in an open folder; no symlink is followed.
pub(super) fn look(folder: &OwnedFd, name: &[u8]) -> Result<Meta, Errno> {
    let name = std::ffi::CString::new(name).map_err(|_| Errno::INVAL)?;
    walk::stat_at(folder.as_fd(), &name).map(|(_, meta)| meta)
}

/// Opens a regular file in an open folder for reading.
pub(super) fn open_file(folder: &OwnedFd, name: &[u8]) -> Result<File, Errno> {
    // A FIFO in its place is never waited for.
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
    let resolve = NO_LINKS | ResolveFlags::BENEATH;
    rustix::fs::openat2(folder, name, flags, Mode::empty(), resolve).map(File::from)
}

fn mount_of(folder: &OwnedFd) -> Option<u64> {
    let flags = AtFlags::EMPTY_PATH;
    rustix::fs::statx(folder, c"", flags, StatxFlags::MNT_ID).ok().map(|stat| stat.stx_mnt_id)
}

/// The folder in which the holding folder of a file lies: the outermost that is not outside of what was reviewed, and from which nothing
/// else than folders of one mount and project lead to the file.
pub(super) fn above(root: Option<&AbsPath>, folder: &AbsPath) -> Result<AbsPath, Errno> {
    let own = open_folder(folder)?;
    let kind = |folder: &OwnedFd| {
        (
            mount_of(folder),
            project::of_folder(folder.as_fd()).map(|told| (told.project.id, told.project.inherits)),
        )
    };
    let kind_of_own = kind(&own);
    let mut best = folder.clone();
    let Some(root) = root.filter(|root| folder.within(root)) else { return Ok(best) };
    while best != *root {
        let Some(up) = best.parent() else { break };
        // Where one may not look one may not make a folder either.
        if open_folder(&up).is_ok_and(|up| kind(&up) == kind_of_own) {
            best = up;
        } else {
            break;
        }
    }
    Ok(best)
}

/// An open holding folder with its journal.
#[derive(Debug)]
pub(super) struct Holding {
    /// The folder that it lies in.
    pub(super) above: AbsPath,
    pub(super) folder: OwnedFd,
    pub(super) journal: Journal,
}

impl Holding {
    /// Its path.
    pub(super) fn path(&self) -> AbsPath {
        self.above.child(HELD.as_bytes())
    }

    /// Opens the holding folder in a folder; `None` if there is none and none is to be made.
    ///
    /// # Errors
    /// Why it can't be used.
    pub(super) fn open(above: &AbsPath, make: bool) -> Result<Option<Self>, String> {
        let path = above.child(HELD.as_bytes());
        let told = |error: Errno| format!("{path} can't be used to hold it: {}", walk::why(error));
        let up = open_folder(above).map_err(told)?;
        if make {
            match rustix::fs::mkdirat(&up, HELD, Mode::RWXU) {
                Ok(()) => rustix::fs::fsync(&up).map_err(told)?,
                Err(Errno::EXIST) => {}
                Err(error) => return Err(told(error)),
            }
        }
        let folder = match rustix::fs::openat(&up, HELD, FOLDER, Mode::empty()) {
            Ok(folder) => folder,
            Err(Errno::NOENT) => return Ok(None),
            Err(Errno::LOOP | Errno::NOTDIR) => {
                return Err(format!("{path} is no folder: somebody else put it there"));
            }
            Err(error) => return Err(told(error)),
        };
        let (_, meta) = walk::stat_at(folder.as_fd(), c"").map_err(told)?;
        if meta.uid != own_uid() {
            return Err(format!(
                "{path} belongs to the uid {}: what is held has to be one's own",
                meta.uid
            ));
        }
        if meta.mode & 0o077 != 0 {
            return Err(format!(
                "{path} is open to others (mode {:04o}): chmod 0700 it, if it is yours",
                meta.mode
            ));
        }
        let journal = Journal::open(&folder, make).map_err(|error| format!("{path}: {error}"))?;
        Ok(journal.map(|journal| Self { above: above.clone(), folder, journal }))
    }

    /// Writes what was done in both folders to the disk.
    pub(super) fn sync(&self, other: &OwnedFd) -> io::Result<()> {
        rustix::fs::fsync(&self.folder)?;
        rustix::fs::fsync(other)?;
        Ok(())
    }
}
