//! Deleting what is held: the only step after which something is gone, and that only if what was kept is still there.

use rustix::fs::AtFlags;
use rustix::io::Errno;
use tarvek_core::kernel::entry::Meta;

use super::act::{Spot, why};
use super::compare::equal;
use super::held::{Holding, look, open_file};
use super::journal::{Intent, Known, Stage, held_name};
use super::{Deed, State, Step};
use crate::contents::{Holders, shared_of};
use crate::walk::Watch;

/// Deletes what is held of a step; `None` if nothing is.
///
/// `going`: how many of its names go by what is done now.
pub(super) fn purge(
    holding: &mut Holding,
    step: u64,
    (yes, going): (bool, u32),
    holders: &Holders,
    watch: &Watch,
) -> Option<Step> {
    let known = holding.journal.steps.get(&step)?.clone();
    let told = |frees: u64, state: State, why: Option<String>| {
        let path = known.intent.path.0.as_bytes().to_vec();
        Some(Step { path, deed: Deed::Purge, frees, state, before: false, why })
    };
    if !matches!(known.stage, Stage::Done | Stage::Purging) {
        return None;
    }
    let name = held_name(step);
    let meta = match look(&holding.folder, name.as_bytes()) {
        Ok(meta) => meta,
        Err(Errno::NOENT) if known.stage == Stage::Purging => {
            // It was deleted, and that was not written down any more.
            let bytes = known.intent.allocated;
            return match holding.journal.purged(step, bytes) {
                Ok(()) => told(bytes, State::Done, None),
                Err(why) => told(0, State::Refused, Some(why)),
            };
        }
        Err(error) => {
            return told(
                0,
                State::Refused,
                Some(format!("what is held of it can't be looked at: {}", why(error))),
            );
        }
    };
    let (frees, remark) = frees(holding, &name, &known, &meta, (going, holders));
    if let Err(why) = checked(holding, &name, &known.intent, &meta, yes, watch) {
        return told(0, State::Refused, Some(format!("{why}: what is held is kept")));
    }
    if !yes {
        return told(frees, State::Planned, remark);
    }
    let flags = if meta.is_folder() { AtFlags::REMOVEDIR } else { AtFlags::empty() };
    let outcome = holding.journal.purging(step).and_then(|()| {
        rustix::fs::unlinkat(&holding.folder, name.as_str(), flags).map_err(why)?;
        rustix::fs::fsync(&holding.folder).map_err(why)?;
        holding.journal.purged(step, frees)
    });
    match outcome {
        Ok(()) => told(frees, State::Done, remark),
        Err(why) => told(0, State::Refused, Some(why)),
    }
}

/// Bytes that come back by it, and why not all.
fn frees(
    holding: &Holding,
    name: &str,
    known: &Known,
    meta: &Meta,
    (going, holders): (u32, &Holders),
) -> (u64, Option<String>) {
    if meta.is_folder() {
        return (0, None);
    }
    if going == 0 {
        return (0, Some("its bytes come back with its first name".to_owned()));
    }
    if meta.links > going {
        return (0, Some("nothing comes back yet: it has other names".to_owned()));
    }
    if let Some(by) = holders.of_file(known.intent.was.device, known.intent.was.inode) {
        return (0, Some(format!("nothing comes back before {by} lets go of it")));
    }
    let shared = open_file(&holding.folder, name.as_bytes()).map_or(0, |file| shared_of(&file));
    let all = meta.allocated.unwrap_or(meta.size);
    let remark = (shared > 0).then(|| "other files or snapshots share its blocks".to_owned());
    (all.saturating_sub(shared), remark)
}

/// Whether what is held may be deleted: it is what was taken, and what was kept for it is still there.
fn checked(
    holding: &Holding,
    name: &str,
    intent: &Intent,
    meta: &Meta,
    yes: bool,
    watch: &Watch,
) -> Result<(), String> {
    if !intent.was.is(meta) {
        return Err("what is held has changed since it was taken".to_owned());
    }
    let pairs = !matches!(intent.kind.as_str(), "leftover" | "hollow");
    if !pairs {
        return Ok(());
    }
    let mut fault = "nothing was kept for it".to_owned();
    for stays in &intent.stays {
        let path = &stays.path.0;
        let still = Spot::of(path).and_then(|spot| {
            let now = spot.look().map_err(|_| "it is not there any more".to_owned())?;
            match (stays.was.is(&now), intent.equal) {
                (false, false) => return Err("it has changed".to_owned()),
                (false, true) if !now.is_folder() && now.size == intent.was.size => {}
                (false, true) => return Err("it has changed".to_owned()),
                // Nothing of it has changed at all.
                (true, _) if now.changed == Some(stays.was.changed) => return Ok(()),
                (true, false) => return Ok(()),
                (true, true) => {}
            }
            if (Some(intent.was.device), Some(intent.was.inode)) == (now.device, now.inode) {
                return if now.links > 1 { Ok(()) } else { Err("it is the same file".to_owned()) };
            }
            if !yes {
                return Ok(());
            }
            let held = open_file(&holding.folder, name.as_bytes()).map_err(why)?;
            match equal(&held, &spot.open()?, meta.size, watch)? {
                true => Ok(()),
                false => Err("it has other bytes now".to_owned()),
            }
        });
        match still {
            Ok(()) => return Ok(()),
            Err(why) => fault = format!("{path} was kept for it, and {why}"),
        }
    }
    Err(fault)
}
