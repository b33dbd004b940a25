//! Deleting what is held: the only step after which something is gone. Before its last name goes,
//! what was kept for it is compared to the last byte, on files that stay open and that nobody can
//! write to meanwhile.

use std::fs::File;
use std::os::fd::AsFd;

use rustix::fs::AtFlags;
use tarvek_core::words::path::AbsPath;

use super::compare::{Attention, digest, is_equal};
use super::distinct::prove_distinct;
use super::entry::{FileIdentity, Pinned, why};
use super::journal::{Intent, LetGo, Stage};
use super::keeper::Keeper;
use super::lease::{NoWriter, WriterFault, undisturbed};
use super::quarantine::{Quarantine, held_name};
use super::row::OwnChanges;
use super::step::{Operation, Step, StepState};
use crate::contents::{Holders, shared_of};
use crate::filesystem::stamps_mapped_stores;
use crate::walk::Watch;

/// What a purge has to know besides the step.
pub(super) struct PurgedStep<'a> {
    pub(super) yes: bool,
    /// How many names of the file go by what is done now.
    pub(super) going: u32,
    pub(super) holders: &'a Holders,
    /// Files of its group that the review keeps now.
    pub(super) keepers: Vec<AbsPath>,
    pub(super) own: &'a mut OwnChanges,
    pub(super) watch: &'a Watch,
}

impl PurgedStep<'_> {
    /// Deletes what is held of a step; `None` if nothing is.
    pub(super) fn carry_out(&mut self, quarantine: &mut Quarantine, step: u64) -> Option<Step> {
        let known = quarantine.journal.steps.get(&step)?.clone();
        let told = |frees: u64, state: StepState, why: Option<String>| {
            let step = Step::of(&known.intent, state, why);
            Some(Step { operation: Operation::Purge, frees, ..step })
        };
        let held = match &known.stage {
            Stage::Done(held) | Stage::Purging(held) => held,
            Stage::Stray(_) => {
                let why = "somebody else's file is held in its place: --undo gives it back";
                return told(0, StepState::Refused, Some(why.to_owned()));
            }
            _ => return None,
        };
        let name = held_name(step);
        let file = match quarantine.pin(&name) {
            Ok(Some(file)) => file,
            Ok(None) if matches!(known.stage, Stage::Purging(_)) => {
                // It was deleted, and that was not written down any more.
                let bytes = known.intent.allocated;
                return match quarantine.journal.purged(step, bytes, LetGo::default()) {
                    Ok(()) => told(bytes, StepState::Done, None),
                    Err(why) => told(0, StepState::Refused, Some(why)),
                };
            }
            Ok(None) => {
                let why = "nothing is held of it any more".to_owned();
                return told(0, StepState::Refused, Some(why));
            }
            Err(why) => return told(0, StepState::Refused, Some(why)),
        };
        let (frees, remark) = self.frees(&file);
        if !self.yes {
            return match self.check_at_a_glance(&known.intent, held, &file) {
                Ok(()) => told(frees, StepState::Planned, remark),
                Err(why) => told(0, StepState::Refused, Some(kept(why))),
            };
        }
        match self.delete(quarantine, step, (&known.intent, held), &file, frees) {
            Ok(()) => told(frees, StepState::Done, remark),
            Err(why) => told(0, StepState::Refused, Some(kept(why))),
        }
    }

    /// Bytes that come back by it, and why not all.
    fn frees(&self, file: &Pinned) -> (u64, Option<String>) {
        let meta = &file.meta;
        if meta.is_folder() {
            return (0, None);
        }
        if self.going == 0 {
            return (0, Some("its bytes come back with its first name".to_owned()));
        }
        if meta.links > self.going {
            return (0, Some("nothing comes back yet: it has other names".to_owned()));
        }
        let id = meta.device.zip(meta.inode);
        if let Some(by) = id.and_then(|(device, inode)| self.holders.of_file(device, inode)) {
            return (0, Some(format!("nothing comes back before {by} lets go of it")));
        }
        let shared = file.read().map_or(0, |file| shared_of(&file));
        let all = meta.allocated.unwrap_or(meta.size);
        let remark = (shared > 0).then(|| "other files or snapshots share its blocks".to_owned());
        (all.saturating_sub(shared), remark)
    }

    /// What can be told without reading anything.
    fn check_at_a_glance(
        &self,
        intent: &Intent,
        held: &FileIdentity,
        file: &Pinned,
    ) -> Result<(), String> {
        if !file.is_as(held) {
            return Err(CHANGED.to_owned());
        }
        let Some(kept) = &intent.kept else { return Ok(()) };
        let candidates = self.candidates(intent);
        let mut fault = String::new();
        for path in candidates {
            match Keeper::open(None, path) {
                Ok(keeper) if intent.equal && keeper.pinned.meta.size == file.meta.size => {
                    return Ok(());
                }
                Ok(keeper) if keeper.pinned.is_as(&kept.was) => return Ok(()),
                Ok(_) => fault = format!("{path} was kept for it, and it has changed"),
                Err(why) => fault = format!("{path} was kept for it, and {why}"),
            }
        }
        Err(fault)
    }

    fn candidates<'i>(&'i self, intent: &'i Intent) -> Vec<&'i AbsPath> {
        let first = intent.kept.as_ref().map(|kept| &kept.path.0);
        let others = self.keepers.iter().filter(|path| Some(*path) != first && intent.equal);
        first.into_iter().chain(others).collect()
    }

    fn delete(
        &mut self,
        quarantine: &mut Quarantine,
        step: u64,
        (intent, held): (&Intent, &FileIdentity),
        file: &Pinned,
        frees: u64,
    ) -> Result<(), String> {
        if !file.is_as(held) {
            return Err(CHANGED.to_owned());
        }
        if file.meta.is_folder() {
            return self.unlink(quarantine, step, file, frees, AtFlags::REMOVEDIR);
        }
        let open = file.read()?;
        let guard = NoWriter::of(&open, &file.meta).map_err(WriterFault::into_words)?;
        match &intent.kept {
            None => {
                self.check_alone(intent, held, file, &open, &guard)?;
                undisturbed(&[&guard])?;
                self.unlink(quarantine, step, file, frees, AtFlags::empty())
            }
            Some(_) => {
                let mut fault = "nothing was kept for it".to_owned();
                for path in self.candidates(intent).into_iter().cloned().collect::<Vec<_>>() {
                    let tried = Keeper::open(None, &path).and_then(|keeper| {
                        self.check_kept(intent, (file, &open, &guard), &keeper, |purge| {
                            purge.unlink(quarantine, step, file, frees, AtFlags::empty())
                        })
                    });
                    match tried {
                        Ok(outcome) => return outcome,
                        Err(why) => fault = format!("{path} was kept for it, and {why}"),
                    }
                }
                Err(fault)
            }
        }
    }

    /// Of what nothing was kept for: it has to be, to the last byte, what somebody decided about.
    fn check_alone(
        &self,
        intent: &Intent,
        held: &FileIdentity,
        file: &Pinned,
        open: &File,
        guard: &NoWriter,
    ) -> Result<(), String> {
        let attention = Attention { watch: self.watch, guards: &[guard] };
        if let Some(was) = &intent.digest {
            return match digest(open, &attention)? == *was {
                true => Ok(()),
                false => Err(CHANGED.to_owned()),
            };
        }
        let changed = file.meta.changed.unwrap_or(0);
        let own = (file.filesystem.as_str().to_owned(), file.meta.inode.unwrap_or(0), changed);
        match changed == held.changed || self.own.contains(&own) {
            true => Ok(()),
            false => Err(CHANGED.to_owned()),
        }
    }

    /// Whether what was kept is there, is another file, and holds what it has to; then `go` is done
    /// while nobody can write to either.
    fn check_kept<T>(
        &mut self,
        intent: &Intent,
        (file, open, guard): (&Pinned, &File, &NoWriter),
        keeper: &Keeper,
        go: impl FnOnce(&mut Self) -> T,
    ) -> Result<T, String> {
        if keeper.pinned.is_same_inode(file) {
            // Another name of the same file: that stays.
            return match file.stat_now().is_ok_and(|now| now.links > 1) && keeper.is_there() {
                true => Ok(go(self)),
                false => Err("it is the same file".to_owned()),
            };
        }
        let kept_guard =
            NoWriter::of(&keeper.file, &keeper.pinned.meta).map_err(WriterFault::into_words)?;
        let guards = [guard, &kept_guard];
        let attention = Attention { watch: self.watch, guards: &guards };
        if intent.equal {
            if !is_equal(open, &keeper.file, &attention)? {
                return Err("it has other bytes now".to_owned());
            }
        } else {
            let was = intent.kept.as_ref().and_then(|kept| kept.digest.as_ref());
            if was != Some(&digest(&keeper.file, &attention)?) {
                return Err("it has changed".to_owned());
            }
            if intent.digest.as_ref() != Some(&digest(open, &attention)?) {
                return Err(CHANGED.to_owned());
            }
        }
        prove_distinct(open, &keeper.file)?;
        if !keeper.is_there() {
            return Err("its name leads elsewhere by now".to_owned());
        }
        undisturbed(&guards)?;
        Ok(go(self))
    }

    fn unlink(
        &mut self,
        quarantine: &mut Quarantine,
        step: u64,
        file: &Pinned,
        frees: u64,
        flags: AtFlags,
    ) -> Result<(), String> {
        let name = held_name(step);
        quarantine.journal.purging(step)?;
        // The folder is nobody else's: the name is still that of the file that was looked at.
        rustix::fs::unlinkat(&quarantine.folder, name.as_str(), flags).map_err(why)?;
        rustix::fs::fsync(&quarantine.folder).map_err(why)?;
        let changed = file.stat_now().ok().and_then(|now| now.changed);
        if let Some((inode, changed)) = file.meta.inode.zip(changed) {
            self.own.insert((file.filesystem.as_str().to_owned(), inode, changed));
        }
        quarantine.journal.purged(step, frees, LetGo { changed })
    }
}

const CHANGED: &str = "what is held has changed since it was taken";

fn kept(why: String) -> String {
    format!("{why}: what is held is kept")
}

/// Whether the ctime of a file tells that it was written to, also by a shared mapping.
pub(super) fn ctime_tells(file: &File) -> bool {
    stamps_mapped_stores(file.as_fd())
}
