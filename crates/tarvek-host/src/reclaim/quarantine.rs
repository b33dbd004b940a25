//! The holding folder: on the same mount, filesystem and project as what it takes, nobody's but
//! one's own.

use std::os::fd::{AsFd, OwnedFd};

use rustix::fs::{AtFlags, Mode, StatxFlags};
use rustix::io::Errno;
use tarvek_core::facts::tree::HELD;
use tarvek_core::kernel::entry::Project;
use tarvek_core::words::path::AbsPath;

use super::entry::{FOLDER, Pinned, names_in, open_folder, why};
use super::journal::{self, Journal, KnownStep, Stage};
use crate::filesystem::identity;
use crate::observe::own_uid;
use crate::project;
use crate::walk;

/// Mount, device and project of a folder.
type FolderKind = (u64, Option<u64>, Option<Project>);

/// What a folder has in common with all into which its files can be renamed: mount, filesystem
/// (subvolumes of Btrfs differ in their device alone) and project.
fn kind_of(folder: &OwnedFd) -> Result<FolderKind, Errno> {
    let mount = rustix::fs::statx(folder, c"", AtFlags::EMPTY_PATH, StatxFlags::MNT_ID)?.stx_mnt_id;
    let device = walk::stat_now(folder.as_fd())?.device;
    let project = project::of_folder(folder.as_fd()).map(|told| told.project);
    Ok((mount, device, project))
}

/// The folder in which the holding folder of a file lies: the outermost that is not outside of what
/// was reviewed, and from which nothing else than folders of one kind lead to the file.
pub(super) fn folder_above(root: Option<&AbsPath>, folder: &AbsPath) -> Result<AbsPath, Errno> {
    let kind = kind_of(&open_folder(folder)?)?;
    let mut best = folder.clone();
    let Some(root) = root.filter(|root| folder.within(root)) else { return Ok(best) };
    while best != *root {
        let Some(up) = best.parent() else { break };
        // Where one may not look one may not make a folder either.
        match open_folder(&up).and_then(|up| kind_of(&up)) {
            Ok(of_up) if of_up == kind => best = up,
            _ => break,
        }
    }
    Ok(best)
}

/// An open holding folder with its journal.
#[derive(Debug)]
pub(super) struct Quarantine {
    /// The folder that it lies in.
    pub(super) above: AbsPath,
    pub(super) folder: OwnedFd,
    pub(super) journal: Journal,
}

/// The name that a step has in the holding folder.
pub(super) fn held_name(step: u64) -> String {
    format!("{step:06}")
}

/// The name that a new link has there before it is exchanged for what it replaces.
pub(super) fn incoming_name(step: u64) -> String {
    format!("{step:06}.new")
}

/// The step that a name in a holding folder belongs to.
fn step_of(name: &[u8]) -> Option<u64> {
    let text = std::str::from_utf8(name).ok()?;
    text.strip_suffix(".new").unwrap_or(text).parse().ok()
}

/// Takes away an empty holding folder of one's own, in which not even a journal is.
///
/// # Errors
/// Why it is still there.
pub(super) fn take_away_rest(above: &AbsPath) -> Result<(), String> {
    let Ok(up) = open_folder(above) else { return Ok(()) };
    let Ok(folder) = rustix::fs::openat(&up, HELD, FOLDER, Mode::empty()) else { return Ok(()) };
    let is_own = walk::stat_now(folder.as_fd()).is_ok_and(|meta| meta.uid == own_uid());
    if !is_own || !names_in(&folder).is_ok_and(|names| names.is_empty()) {
        return Ok(());
    }
    // Nothing but an empty folder can go by this.
    match rustix::fs::unlinkat(&up, HELD, AtFlags::REMOVEDIR) {
        Ok(()) | Err(Errno::NOTEMPTY | Errno::NOENT) => Ok(()),
        Err(error) => {
            let path = above.child(HELD.as_bytes());
            Err(format!("{path} can't be taken away: {}", why(error)))
        }
    }
}

impl Quarantine {
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
        let told = |error: Errno| format!("{path} can't be used to hold it: {}", why(error));
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
        let meta = walk::stat_now(folder.as_fd()).map_err(told)?;
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
        // No number is given a second time, whatever became of the journal.
        let names = names_in(&folder).map_err(told)?;
        let last = names.iter().filter_map(|name| step_of(name)).max().unwrap_or(0);
        let journal =
            Journal::open(&folder, make, last).map_err(|error| format!("{path}: {error}"))?;
        if journal.is_none() && last > 0 {
            return Err(format!(
                "{path} holds files, and its journal is gone: nobody can tell where they belong"
            ));
        }
        Ok(journal.map(|journal| Self { above: above.clone(), folder, journal }))
    }

    /// Takes it away with its journal, if nothing is held in it any more and every step is at its
    /// end. Nobody else works in it meanwhile: the journal is locked, and whoever opened it before
    /// finds that it has no name any more.
    ///
    /// # Errors
    /// Why it is still there.
    pub(super) fn take_away(self) -> Result<(), String> {
        let path = self.path();
        let told = |error: Errno| format!("{path} can't be taken away: {}", why(error));
        let is_over = |known: &KnownStep| matches!(known.stage, Stage::Over | Stage::Purged(_));
        let names = names_in(&self.folder).map_err(told)?;
        let is_empty = names.iter().all(|name| name == journal::NAME.as_bytes());
        let up = open_folder(&self.above).map_err(told)?;
        let is_own = Pinned::at(&up, HELD.as_bytes()).is_ok_and(|found| {
            walk::stat_now(self.folder.as_fd())
                .is_ok_and(|own| (own.device, own.inode) == (found.meta.device, found.meta.inode))
        });
        if !is_empty || !is_own || !self.journal.steps.values().all(is_over) {
            return Ok(());
        }
        rustix::fs::unlinkat(&self.folder, journal::NAME, AtFlags::empty()).map_err(told)?;
        // An empty folder is all that this can remove.
        rustix::fs::unlinkat(&up, HELD, AtFlags::REMOVEDIR).map_err(told)?;
        rustix::fs::fsync(&up).map_err(told)
    }

    /// The filesystem that it lies on, and its inode there.
    pub(super) fn identity(&self) -> Result<(String, u64), String> {
        let meta = walk::stat_now(self.folder.as_fd()).map_err(why)?;
        let filesystem = identity(self.folder.as_fd(), meta.device.unwrap_or(0)).map_err(why)?;
        Ok((filesystem.as_str().to_owned(), meta.inode.unwrap_or(0)))
    }

    /// What lies in it under a name.
    pub(super) fn pin(&self, name: &str) -> Result<Option<Pinned>, String> {
        match Pinned::at(&self.folder, name.as_bytes()) {
            Ok(pinned) => Ok(Some(pinned)),
            Err(Errno::NOENT) => Ok(None),
            Err(error) => Err(format!(
                "what is held as {} can't be looked at: {}",
                self.path().child(name.as_bytes()),
                walk::why(error)
            )),
        }
    }

    /// Takes away a name in it that is one of several of its file: nobody else can have put another
    /// there.
    pub(super) fn remove_spare(&self, name: &str) -> Result<(), String> {
        // What fails once for want of memory or room may succeed the second time.
        let attempt = || match rustix::fs::unlinkat(&self.folder, name, AtFlags::empty()) {
            Err(Errno::NOENT) => Ok(()),
            other => other,
        };
        attempt().or_else(|_| attempt()).map_err(|error| {
            let name = self.path().child(name.as_bytes());
            format!("{name} is a second name of a file, and can't be removed: {}", why(error))
        })
    }

    /// Writes what was done in both folders to the disk.
    pub(super) fn sync_with(&self, other: &OwnedFd) -> Result<(), String> {
        rustix::fs::fsync(&self.folder)
            .and_then(|()| rustix::fs::fsync(other))
            .map_err(|error| format!("it may not be on the disk yet: {}", why(error)))
    }

    /// A step by its number.
    pub(super) fn step(&self, step: u64) -> &KnownStep {
        &self.journal.steps[&step]
    }
}
