//! What stays for a file that goes: the one thing on which every removal rests.

use std::fs::File;

use tarvek_core::facts::tree::HELD;
use tarvek_core::waste::group::Decision;
use tarvek_core::words::path::{AbsPath, components};
use tarvek_formats::review::Row;

use super::compare::{Attention, digest, is_equal};
use super::entry::{Location, Pinned};
use super::journal::{KeptFile, PathText};
use super::lease::{NoWriter, WriterFault};
use super::row::{OwnChanges, check_file, check_line, title_of};
use super::step::{Operation, SiteKnowledge};
use crate::walk::Watch;

/// A file that stays, open.
#[derive(Debug)]
pub(super) struct Keeper {
    pub(super) path: AbsPath,
    location: Location,
    pub(super) pinned: Pinned,
    pub(super) file: File,
}

impl Keeper {
    /// Takes hold of the file at a path.
    pub(super) fn open(root: Option<&AbsPath>, path: &AbsPath) -> Result<Self, String> {
        if components(path.as_bytes()).any(|name| name == HELD.as_bytes()) {
            return Err("it is held itself".to_owned());
        }
        let location = Location::open(root, path)?;
        let pinned = location.pin_or_why()?;
        let file = pinned.read()?;
        Ok(Self { path: path.clone(), location, pinned, file })
    }

    /// Whether its name still leads to it.
    pub(super) fn is_there(&self) -> bool {
        let now = Location::open(None, &self.path).and_then(|location| location.pin_or_why());
        now.is_ok_and(|now| now.is_same_inode(&self.pinned) && self.pinned.is_unchanged(&now.meta))
    }

    fn is_unchanged(&self) -> bool {
        self.pinned.stat_now().is_ok_and(|now| self.pinned.is_unchanged(&now))
    }
}

/// What was found to stay for a file.
#[derive(Debug)]
pub(super) struct ChosenKeeper {
    pub(super) keeper: Keeper,
    /// Whether it has the same bytes.
    pub(super) is_equal: bool,
    /// What it holds, where it has not.
    pub(super) digest: Option<String>,
}

impl ChosenKeeper {
    /// As it is written down.
    pub(super) fn kept_file(&self) -> KeptFile {
        KeptFile {
            path: PathText(self.keeper.path.clone()),
            was: self.keeper.pinned.identity(),
            digest: self.digest.clone(),
        }
    }
}

/// Who looks for a keeper, and for which line.
pub(super) struct KeeperSearch<'a> {
    pub(super) row: &'a Row,
    pub(super) operation: Operation,
    /// All lines of its group.
    pub(super) group: &'a [&'a Row],
    pub(super) host: &'a str,
    pub(super) site: &'a dyn SiteKnowledge,
    pub(super) own: &'a OwnChanges,
    pub(super) watch: &'a Watch,
    /// Whether bytes are compared, too.
    pub(super) compares: bool,
}

/// A file that goes, open.
pub(super) struct LeavingFile<'a> {
    pub(super) location: &'a Location,
    pub(super) pinned: &'a Pinned,
    pub(super) file: &'a File,
    pub(super) guard: Option<&'a NoWriter<'a>>,
}

impl KeeperSearch<'_> {
    /// A file of the group that stays: one of the same title, as names are on disk, or with the
    /// same bytes.
    ///
    /// # Errors
    /// Why there is none.
    pub(super) fn find_keeper(&self, leaving: &LeavingFile) -> Result<ChosenKeeper, String> {
        let stays = |row: &&&Row| matches!(row.decision, Decision::Keep | Decision::Ignore);
        let mut candidates: Vec<&Row> = self.group.iter().filter(stays).copied().collect();
        if candidates.is_empty() {
            // Whoever drops all of a group keeps the one that stands first.
            match self.group.first() {
                Some(first) if first.path != self.row.path => candidates.push(first),
                _ => return Err("it is the last of its group, and stays".to_owned()),
            }
        }
        let mut fault = String::new();
        for candidate in candidates {
            match self.try_one(candidate, leaving) {
                Ok(found) => return Ok(found),
                Err(why) => fault = format!("{} is kept instead, and {why}", candidate.path),
            }
            if self.watch.stop.load(std::sync::atomic::Ordering::Relaxed) {
                break;
            }
        }
        Err(fault)
    }

    fn try_one(&self, row: &Row, leaving: &LeavingFile) -> Result<ChosenKeeper, String> {
        let kind = check_line(row, self.host, self.site)?;
        let keeper = Keeper::open(row.root.as_ref(), &row.path)?;
        check_file(row, kind, &keeper.pinned, self.own)?;
        let is_same = keeper.pinned.is_same_inode(leaving.pinned);
        if self.operation == Operation::Link {
            if keeper.pinned.meta.device != leaving.pinned.meta.device {
                return Err("it lies on another filesystem".to_owned());
            }
            if is_same {
                return Err("both are one file already".to_owned());
            }
        }
        let is_version = self.row.kind == "version" && self.operation == Operation::Drop;
        let one_title = || {
            let [one, other] = [(self.row, leaving.location), (row, &keeper.location)]
                .map(|(row, location)| title_of(row, location, self.site));
            one.is_some() && one == other
        };
        let by_title = is_version && one_title();
        if is_same && keeper.pinned.meta.links < 2 {
            return Err("it is the same file, seen a second time".to_owned());
        }
        if is_same {
            return Ok(ChosenKeeper { keeper, is_equal: true, digest: None });
        }
        if !self.compares {
            return Ok(ChosenKeeper { keeper, is_equal: !by_title, digest: None });
        }
        let guard = match NoWriter::of(&keeper.file, &keeper.pinned.meta) {
            Ok(guard) => Some(guard),
            Err(WriterFault::Writing(who)) => return Err(who),
            // What is taken is only held; a purge asks again.
            Err(WriterFault::Unknown(_)) => None,
        };
        let guards: Vec<&NoWriter> = guard.as_ref().into_iter().chain(leaving.guard).collect();
        let attention = Attention { watch: self.watch, guards: &guards };
        let kept_digest = match by_title {
            true => Some(digest(&keeper.file, &attention)?),
            false if is_equal(leaving.file, &keeper.file, &attention)? => None,
            false if is_version => {
                return Err(
                    "is another title by its name and folders, and has other bytes".to_owned()
                );
            }
            false => return Err("has other bytes".to_owned()),
        };
        // Nobody wrote to either while they were read.
        let left = leaving.pinned.stat_now().is_ok_and(|now| leaving.pinned.is_unchanged(&now));
        if !left || !keeper.is_unchanged() {
            return Err("it was written to meanwhile".to_owned());
        }
        drop(guard);
        Ok(ChosenKeeper { keeper, is_equal: kept_digest.is_none(), digest: kept_digest })
    }
}
