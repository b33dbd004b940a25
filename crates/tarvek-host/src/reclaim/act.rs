//! The two deeds, each in steps of which none loses anything.

use std::fs::File;
use std::os::fd::{AsFd, AsRawFd, OwnedFd};

use rustix::fs::{AtFlags, CWD, RenameFlags};
use rustix::io::Errno;
use tarvek_core::kernel::entry::{EntryKind, Meta};
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::text::shown;
use tarvek_formats::review::{Row, device, moment};

use super::held::{Holding, look, open_file, open_folder};
use super::journal::{Intent, Was, held_name};
use crate::walk;

/// Who reads files: a link may take that from nobody.
pub trait Readers {
    /// Everyone who can read a name, and could not if it were one of another file.
    ///
    /// # Errors
    /// Why that can't be told.
    fn lose(&self, name: &AbsPath, other: &AbsPath) -> Result<Vec<String>, String>;
}

/// A name in an open folder.
#[derive(Debug)]
pub(super) struct Spot {
    pub(super) folder: OwnedFd,
    pub(super) name: Vec<u8>,
}

impl Spot {
    /// The place of a path.
    ///
    /// # Errors
    /// If its folder can't be opened, in words.
    pub(super) fn of(path: &AbsPath) -> Result<Self, String> {
        let (Some(parent), Some(name)) = (path.parent(), path.name()) else {
            return Err("it is no name in a folder".to_owned());
        };
        let folder = open_folder(&parent).map_err(|error| match error {
            Errno::NOENT => "its folder is not there any more".to_owned(),
            Errno::LOOP | Errno::NOTDIR => "a symlink leads there now".to_owned(),
            other => format!("its folder can't be opened: {}", walk::why(other)),
        })?;
        Ok(Self { folder, name: name.to_vec() })
    }

    pub(super) fn look(&self) -> Result<Meta, Errno> {
        look(&self.folder, &self.name)
    }

    /// Opens it, if it is a regular file.
    pub(super) fn open(&self) -> Result<File, String> {
        open_file(&self.folder, &self.name).map_err(|error| match error {
            Errno::LOOP => "a symlink took its place".to_owned(),
            Errno::NOENT => GONE.to_owned(),
            other => format!("it can't be read: {}", walk::why(other)),
        })
    }
}

const GONE: &str = "it is not there any more";

/// Whether a name is still what a line of a review says; what it is now.
pub(super) fn verified(spot: &Spot, row: &Row) -> Result<Meta, String> {
    let meta = spot.look().map_err(|error| match error {
        Errno::NOENT => GONE.to_owned(),
        other => format!("it can't be looked at: {}", walk::why(other)),
    })?;
    let same = |one: Option<u64>, other: Option<u64>| one.is_some() && one == other;
    if meta.kind == EntryKind::Symlink {
        return Err("a symlink took its place".to_owned());
    }
    if row.inode.is_none() || row.device.is_none() {
        return Err("the line does not say which file it was (device, inode)".to_owned());
    }
    if !same(row.inode, meta.inode) || !same(row.device, device(&meta)) {
        return Err("another file took its place".to_owned());
    }
    match meta.kind {
        // What was in it is gone by now.
        EntryKind::Folder => return Ok(meta),
        EntryKind::File => {}
        _ => return Err("it is no regular file".to_owned()),
    }
    match row.bytes {
        None => return Err("the line does not say how many bytes it had".to_owned()),
        Some(bytes) if bytes != meta.size => {
            return Err(format!("it has {} bytes now, and had {bytes}", meta.size));
        }
        Some(_) => {}
    }
    if row.modified != moment(meta.modified) {
        return Err(match row.modified.is_empty() {
            true => "the line does not say when it was written (mtime)".to_owned(),
            false => "it was written to since".to_owned(),
        });
    }
    Ok(meta)
}

/// Renames, and never replaces anything.
pub(super) fn rename_new(from: (&OwnedFd, &[u8]), to: (&OwnedFd, &[u8])) -> Result<(), Errno> {
    match rustix::fs::renameat_with(from.0, from.1, to.0, to.1, RenameFlags::NOREPLACE) {
        // Not every filesystem can (renameat2(2)).
        Err(Errno::INVAL | Errno::NOSYS) => match look(to.0, to.1) {
            Err(Errno::NOENT) => rustix::fs::renameat(from.0, from.1, to.0, to.1),
            Ok(_) => Err(Errno::EXIST),
            Err(error) => Err(error),
        },
        other => other,
    }
}

pub(super) fn why(error: Errno) -> String {
    match error {
        Errno::XDEV => "it can't be moved there: another mount, filesystem or project".to_owned(),
        other => walk::why(other),
    }
}

/// Moves a name into the holding folder, and looks whether it was the right one.
pub(super) fn drop_name(
    holding: &Holding,
    spot: &Spot,
    step: u64,
    was: &Was,
) -> Result<(), String> {
    let held = held_name(step);
    rename_new((&spot.folder, &spot.name), (&holding.folder, held.as_bytes())).map_err(why)?;
    let arrived = look(&holding.folder, held.as_bytes());
    let fault = match &arrived {
        Ok(meta) if !was.is_same_file(meta) => Some("another file took its place meanwhile"),
        Ok(meta) if !was.is(meta) => Some("it was written to meanwhile"),
        Ok(meta) if meta.is_folder() && !is_empty(&holding.folder, held.as_bytes()) => {
            Some("something was put into it meanwhile")
        }
        Ok(_) => None,
        Err(_) => Some("it vanished meanwhile"),
    };
    if let Some(fault) = fault {
        return Err(
            match rename_new((&holding.folder, held.as_bytes()), (&spot.folder, &spot.name)) {
                Ok(()) => fault.to_owned(),
                Err(_) => format!(
                    "{fault}, and its name is taken: what was there is held as {}",
                    holding.path().child(held.as_bytes())
                ),
            },
        );
    }
    holding.sync(&spot.folder).map_err(|error| error.to_string())
}

/// Whether a folder holds nothing.
pub(super) fn is_empty(folder: &OwnedFd, name: &[u8]) -> bool {
    use rustix::fs::{Mode, OFlags};
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let Ok(open) = rustix::fs::openat(folder, name, flags, Mode::empty()) else { return false };
    let Ok(entries) = rustix::fs::Dir::read_from(&open) else { return false };
    entries
        .into_iter()
        .all(|entry| entry.is_ok_and(|entry| matches!(entry.file_name().to_bytes(), b"." | b"..")))
}

/// The name that a new link has before it gets its own.
pub(super) fn passing_name(holding: &Holding, step: u64) -> String {
    let place = holding.journal.steps.get(&step).map_or(0, |known| known.intent.was.inode);
    format!(".tarvek-{step}-{place:x}")
}

/// Puts a file in the place of another one, which is held: linked into the holding folder, then exchanged, so that the name is never absent
/// and whatever else came to stand there meanwhile is not lost.
///
/// What is returned says what was left behind, if something was.
pub(super) fn link_name(
    holding: &Holding,
    spot: &Spot,
    step: u64,
    was: &Was,
    (new, new_was): (&File, &Was),
) -> Result<Option<String>, String> {
    let held = held_name(step);
    rustix::fs::linkat(&spot.folder, &spot.name, &holding.folder, held.as_str(), AtFlags::empty())
        .map_err(why)?;
    let taken_back = |fault: String| {
        // It has a name still; the one in the holding folder is one too many. If it has none any more, that one stays.
        match look(&holding.folder, held.as_bytes()) {
            Ok(meta) if meta.links < 2 => return Err(format!("{fault}; it is held")),
            _ => {}
        }
        match remove(&holding.folder, held.as_bytes()) {
            Ok(()) => Err(fault),
            Err(left) => Err(format!("{fault}; a second name of it is held: {left}")),
        }
    };
    match look(&holding.folder, held.as_bytes()) {
        Ok(meta) if was.is(&meta) => {}
        Ok(meta) if was.is_same_file(&meta) => {
            return taken_back("it was written to meanwhile".to_owned());
        }
        _ => return taken_back("another file took its place meanwhile".to_owned()),
    }
    holding.sync(&spot.folder).map_err(|error| error.to_string())?;
    let passing = passing_name(holding, step);
    let source = format!("/proc/self/fd/{}", new.as_fd().as_raw_fd());
    if let Err(error) = rustix::fs::linkat(
        CWD,
        source.as_str(),
        &spot.folder,
        passing.as_str(),
        AtFlags::SYMLINK_FOLLOW,
    ) {
        return taken_back(why(error));
    }
    let left = match exchange(spot, passing.as_bytes(), was, new_was) {
        Ok(left) => left,
        Err(fault) => return taken_back(fault),
    };
    holding.sync(&spot.folder).map_err(|error| error.to_string())?;
    Ok(left)
}

/// Exchanges a name for a passing one that stands for something else, and removes that. What is found instead of what was expected goes
/// back to where it was. What is returned says what was left behind, if something was.
pub(super) fn exchange(
    spot: &Spot,
    passing: &[u8],
    out: &Was,
    into: &Was,
) -> Result<Option<String>, String> {
    let remove = || match remove(&spot.folder, passing) {
        Ok(()) => None,
        Err(error) => Some(format!("a second name of it is left, {}: {error}", shown(passing))),
    };
    let swap = || {
        rustix::fs::renameat_with(
            &spot.folder,
            passing,
            &spot.folder,
            &spot.name,
            RenameFlags::EXCHANGE,
        )
    };
    let meanwhile = || "another file took its place meanwhile".to_owned();
    let fault = match swap() {
        Ok(()) => match look(&spot.folder, passing) {
            Ok(meta) if out.is_same_file(&meta) => return Ok(remove()),
            // Somebody removed the passing name: then nothing of ours is there to be removed.
            Err(Errno::NOENT) => return Ok(None),
            _ => {
                let back = swap();
                let ours =
                    || look(&spot.folder, passing).is_ok_and(|meta| into.is_same_file(&meta));
                if back.is_err() || !ours() {
                    return Err(meanwhile());
                }
                meanwhile()
            }
        },
        // Filesystems that can't exchange names: a look right before has to do.
        Err(Errno::INVAL | Errno::NOSYS) => {
            if spot.look().is_ok_and(|meta| out.is_same_file(&meta)) {
                match rustix::fs::renameat(&spot.folder, passing, &spot.folder, &spot.name) {
                    // Renaming onto a name of the same file does nothing (rename(2)).
                    Ok(()) => return Ok(remove()),
                    Err(error) => why(error),
                }
            } else {
                meanwhile()
            }
        }
        Err(Errno::NOENT) => GONE.to_owned(),
        Err(error) => why(error),
    };
    Err(match remove() {
        None => fault,
        Some(left) => format!("{fault}; {left}"),
    })
}

/// Removes a name, if it is there.
pub(super) fn remove(folder: &OwnedFd, name: &[u8]) -> Result<(), String> {
    // What fails once for want of memory or room may succeed the second time.
    let attempt = || match rustix::fs::unlinkat(folder, name, AtFlags::empty()) {
        Err(Errno::NOENT) => Ok(()),
        other => other,
    };
    attempt().or_else(|_| attempt()).map_err(why)
}

/// What is written down before a step is done.
pub(super) fn intent(
    row: &Row,
    deed: &str,
    meta: &Meta,
    stays: Vec<super::journal::Stays>,
    equal: bool,
) -> Result<Intent, String> {
    Ok(Intent {
        deed: deed.to_owned(),
        path: super::journal::Bytes(row.path.clone()),
        was: Was::of(meta).ok_or("its filesystem does not number files")?,
        allocated: if meta.is_folder() { 0 } else { meta.allocated.unwrap_or(meta.size) },
        group: row.group.clone(),
        kind: row.kind.clone(),
        library: row.library.clone(),
        stays,
        equal,
    })
}
