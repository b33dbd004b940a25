//! The two operations, each in steps of which none loses anything: whatever comes out of a rename
//! is recognised by descriptor, in a folder that nobody else writes to.

use rustix::io::Errno;

use super::entry::{
    FileIdentity, GONE, Location, Pinned, REPLACED, exchange, is_empty, move_in, move_out, why,
};
use super::quarantine::{Quarantine, held_name, incoming_name};

/// What became of a file that could not be taken as it should.
#[derive(Debug)]
pub(super) enum TakeFault {
    /// Everything is as it was.
    Untouched(String),
    /// It is held all the same.
    Held(String, FileIdentity),
    /// Somebody else's file is held.
    Stray(String, FileIdentity),
}

/// A file that is held now, and what else there is to say.
pub(super) type HeldFile = (Pinned, Option<String>);

/// Moves a name into the holding folder.
pub(super) fn move_to_quarantine(
    quarantine: &Quarantine,
    location: &Location,
    step: u64,
    wanted: &Pinned,
) -> Result<HeldFile, TakeFault> {
    let name = held_name(step);
    move_in(location, &quarantine.folder, &name).map_err(|error| {
        TakeFault::Untouched(if error == Errno::NOENT { GONE.to_owned() } else { why(error) })
    })?;
    let arrived = match quarantine.pin(&name) {
        Ok(Some(arrived)) => arrived,
        Ok(None) => return Err(TakeFault::Untouched(GONE.to_owned())),
        Err(why) => return Err(TakeFault::Held(why, wanted.identity())),
    };
    let fault = match () {
        () if !arrived.is_same_inode(wanted) => REPLACED,
        () if !wanted.is_unchanged(&arrived.meta) => "it was written to meanwhile",
        () if arrived.meta.is_folder() && !is_empty(&quarantine.folder, name.as_bytes()) => {
            "something was put into it meanwhile"
        }
        () => {
            let remark = quarantine.sync_with(&location.folder).err();
            return Ok((arrived, remark));
        }
    };
    Err(match move_out(&quarantine.folder, &name, location) {
        Ok(()) => TakeFault::Untouched(fault.to_owned()),
        Err(_) => left(quarantine, &name, fault, &arrived, wanted),
    })
}

/// What is held could not go back.
fn left(
    quarantine: &Quarantine,
    name: &str,
    fault: &str,
    arrived: &Pinned,
    wanted: &Pinned,
) -> TakeFault {
    let place = quarantine.path().child(name.as_bytes());
    let why = format!("{fault}, and its name is taken: what was there is held as {place}");
    match arrived.is_same_inode(wanted) {
        true => TakeFault::Held(why, arrived.identity()),
        false => TakeFault::Stray(why, arrived.identity()),
    }
}

/// Puts a file in the place of another one, which is held: linked into the holding folder first,
/// then exchanged for what stands there, so that the name is never absent and whatever else came to
/// stand there meanwhile is not lost.
pub(super) fn replace_by_link(
    quarantine: &Quarantine,
    location: &Location,
    step: u64,
    wanted: &Pinned,
    kept: &Pinned,
) -> Result<HeldFile, TakeFault> {
    let incoming = incoming_name(step);
    kept.link_to(&quarantine.folder, &incoming)
        .map_err(|error| TakeFault::Untouched(why(error)))?;
    if let Err(error) = exchange(&quarantine.folder, &incoming, location) {
        let fault = match error {
            Errno::NOENT => GONE.to_owned(),
            Errno::INVAL | Errno::NOSYS | Errno::OPNOTSUPP => {
                "its filesystem can't exchange two names in one step, and nothing less is safe"
                    .to_owned()
            }
            other => why(other),
        };
        return Err(remove_new_link(quarantine, &incoming, kept, fault));
    }
    let out = match quarantine.pin(&incoming) {
        Ok(Some(out)) => out,
        Ok(None) => return Err(TakeFault::Untouched(GONE.to_owned())),
        Err(why) => return Err(TakeFault::Held(why, wanted.identity())),
    };
    let fault = match () {
        () if !out.is_same_inode(wanted) => REPLACED.to_owned(),
        () if !wanted.is_unchanged(&out.meta) => "it was written to meanwhile".to_owned(),
        () => {
            let held = held_name(step);
            return match rustix::fs::renameat(
                &quarantine.folder,
                &incoming,
                &quarantine.folder,
                &held,
            ) {
                Ok(()) => Ok((out, quarantine.sync_with(&location.folder).err())),
                Err(error) => Err(TakeFault::Held(why(error), out.identity())),
            };
        }
    };
    // What came out goes back to where it was.
    if exchange(&quarantine.folder, &incoming, location).is_err() {
        return Err(match move_out(&quarantine.folder, &incoming, location) {
            Ok(()) => TakeFault::Untouched(fault),
            Err(_) => left(quarantine, &incoming, &fault, &out, wanted),
        });
    }
    match quarantine.pin(&incoming) {
        Ok(Some(inner)) if inner.is_same_inode(kept) => {
            Err(remove_new_link(quarantine, &incoming, kept, fault))
        }
        Ok(Some(inner)) => Err(left(quarantine, &incoming, &fault, &inner, wanted)),
        Ok(None) => Err(TakeFault::Untouched(fault)),
        Err(why) => Err(TakeFault::Held(why, wanted.identity())),
    }
}

/// Removes the new link again, unless it has become the last name of its file.
fn remove_new_link(quarantine: &Quarantine, name: &str, kept: &Pinned, fault: String) -> TakeFault {
    if !has_other_names(kept) {
        let place = quarantine.path().child(name.as_bytes());
        let why = format!("{fault}; the file that was kept has no other name by now than {place}");
        return TakeFault::Stray(why, kept.identity());
    }
    match quarantine.remove_spare(name) {
        Ok(()) => TakeFault::Untouched(fault),
        Err(left) => TakeFault::Untouched(format!("{fault}; {left}")),
    }
}

/// Whether one name of a file may go without its being gone.
pub(super) fn has_other_names(file: &Pinned) -> bool {
    file.stat_now().is_ok_and(|meta| meta.links > 1)
}
