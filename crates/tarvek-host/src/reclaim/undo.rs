//! Back to how it was, and what was broken off.

use rustix::fs::AtFlags;
use rustix::io::Errno;

use super::act::{Spot, exchange, passing_name, remove, rename_new, why};
use super::held::{Holding, look};
use super::journal::{Known, Stage, Was, held_name};
use super::{Deed, State, Step};

/// Brings a step to an end of which only the beginning is written down: it is done, or it was not begun. Nothing that others may
/// have put there is lost.
pub(super) fn recover(holding: &mut Holding, step: u64) -> Result<(), String> {
    let Known { intent, .. } = holding.journal.steps[&step].clone();
    let held = look(&holding.folder, held_name(step).as_bytes());
    let is_held = held.as_ref().is_ok_and(|meta| intent.was.is_same_file(meta));
    if intent.deed() == Deed::Drop {
        return match (is_held, held.is_ok()) {
            (true, _) => holding.journal.done(step),
            // Something else came in its place, and was on its way back.
            (false, true) => match Spot::of(&intent.path.0).map(|spot| {
                rename_new(
                    (&holding.folder, held_name(step).as_bytes()),
                    (&spot.folder, &spot.name),
                )
            }) {
                Ok(Ok(())) => holding.journal.refused(step),
                _ => holding.journal.done(step),
            },
            (false, false) => holding.journal.refused(step),
        };
    }
    let spot = match Spot::of(&intent.path.0) {
        Ok(spot) => spot,
        Err(_) if is_held => return holding.journal.done(step),
        Err(_) => return holding.journal.refused(step),
    };
    let passing = passing_name(holding, step);
    let into = intent.stays.first().map(|stays| stays.was).unwrap_or_default();
    let now = spot.look();
    let at = |was: &Was| now.as_ref().is_ok_and(|meta| was.is_same_file(meta));
    match look(&spot.folder, passing.as_bytes()) {
        // Exchanged for something that nobody expected: it goes back.
        Ok(meta) if !intent.was.is_same_file(&meta) && !into.is_same_file(&meta) && at(&into) => {
            let fault =
                exchange(&spot, passing.as_bytes(), &into, &Was::of(&meta).unwrap_or_default());
            if let Err(why) = fault
                && spot.look().is_ok_and(|now| into.is_same_file(&now))
            {
                return Err(why);
            }
        }
        // One name too many of a file that has others.
        Ok(meta)
            if meta.links > 1
                && (intent.was.is_same_file(&meta) && is_held || into.is_same_file(&meta)) =>
        {
            remove(&spot.folder, passing.as_bytes())?;
        }
        _ => {}
    }
    let now = spot.look();
    let at = |was: &Was| now.as_ref().is_ok_and(|meta| was.is_same_file(meta));
    if at(&into) && is_held {
        return holding.journal.done(step);
    }
    let spare = look(&holding.folder, held_name(step).as_bytes()).is_ok_and(|meta| meta.links > 1);
    if is_held && (at(&intent.was) || spare) {
        rustix::fs::unlinkat(&holding.folder, held_name(step).as_str(), AtFlags::empty())
            .map_err(why)?;
        return holding.journal.refused(step);
    }
    if is_held { holding.journal.done(step) } else { holding.journal.refused(step) }
}

/// Puts back what a step took away; `None` if it took nothing.
pub(super) fn undo(holding: &mut Holding, step: u64, yes: bool) -> Option<Step> {
    let known = holding.journal.steps.get(&step)?.clone();
    let told = |state: State, why: Option<String>| {
        let path = known.intent.path.0.as_bytes().to_vec();
        Some(Step { path, deed: known.intent.deed(), frees: 0, state, before: false, why })
    };
    match known.stage {
        Stage::Begun if yes => {
            if let Err(why) = recover(holding, step) {
                return told(State::Refused, Some(why));
            }
            if holding.journal.steps[&step].stage == Stage::Over {
                return told(State::Undone, Some("it had not been done".to_owned()));
            }
        }
        Stage::Begun | Stage::Done | Stage::Purging => {}
        Stage::Over => return None,
        Stage::Purged(_) => {
            return told(State::Refused, Some("it was purged: nothing is held of it".to_owned()));
        }
    }
    if !yes {
        return told(State::Planned, None);
    }
    match put_back(holding, step, &known) {
        Ok(()) => match holding.journal.undone(step) {
            Ok(()) => told(State::Undone, None),
            Err(why) => told(State::Refused, Some(why)),
        },
        Err(why) => told(State::Refused, Some(why)),
    }
}

/// Gives a name what is held of it.
pub(super) fn put_back(holding: &Holding, step: u64, known: &Known) -> Result<(), String> {
    let intent = &known.intent;
    let name = held_name(step);
    let is_at = |folder, name: &[u8], was: &Was| {
        look(folder, name).is_ok_and(|meta| was.is_same_file(&meta))
    };
    let spot = Spot::of(&intent.path.0)?;
    let is_held = is_at(&holding.folder, name.as_bytes(), &intent.was);
    let is_back = is_at(&spot.folder, &spot.name, &intent.was);
    let sync = || holding.sync(&spot.folder).map_err(|error| error.to_string());
    if !is_held && look(&holding.folder, name.as_bytes()).is_ok() {
        // It came to stand there at the very moment, and its name was taken when it was to go back.
        back_to(holding, &spot, &name)?;
        return sync();
    }
    if !is_held && look(&holding.folder, name.as_bytes()).is_ok() {
        // It came to stand there at that very moment, and its name was taken when it was to go back.
        back_to(holding, &spot, &name)?;
        return sync();
    }
    if !is_held {
        // It was put back, and that was not written down any more.
        return if is_back { sync() } else { Err("what was held of it is gone".to_owned()) };
    }
    let passing = passing_name(holding, step);
    let stays = intent.stays.first().map(|stays| stays.was).unwrap_or_default();
    let linked = intent.deed() == Deed::Link;
    if linked && (is_back || is_at(&spot.folder, &spot.name, &stays)) {
        if !is_back {
            match rustix::fs::linkat(
                &holding.folder,
                name.as_str(),
                &spot.folder,
                passing.as_str(),
                AtFlags::empty(),
            ) {
                Ok(()) => {}
                // Of an undo that was broken off.
                Err(Errno::EXIST) if is_at(&spot.folder, passing.as_bytes(), &intent.was) => {}
                Err(Errno::EXIST) => {
                    return Err(format!(
                        "another file stands as {passing} beside it: move that away"
                    ));
                }
                Err(error) => return Err(why(error)),
            }
            if let Some(left) = exchange(&spot, passing.as_bytes(), &stays, &intent.was)? {
                return Err(left);
            }
        } else if look(&spot.folder, passing.as_bytes()).is_ok_and(|meta| {
            meta.links > 1 && (intent.was.is_same_file(&meta) || stays.is_same_file(&meta))
        }) {
            remove(&spot.folder, passing.as_bytes())?;
        }
        sync()?;
        // It has its name again; else the one that is held is its last.
        if !is_at(&spot.folder, &spot.name, &intent.was) {
            return Err("another file took its place meanwhile: it is held".to_owned());
        }
        remove(&holding.folder, name.as_bytes())?;
        return sync();
    }
    back_to(holding, &spot, &name)?;
    sync()
}

/// Moves what is held under a name to where it was.
fn back_to(holding: &Holding, spot: &Spot, name: &str) -> Result<(), String> {
    rename_new((&holding.folder, name.as_bytes()), (&spot.folder, &spot.name)).map_err(|error| {
        match error {
            Errno::EXIST => format!(
                "another file took its name: it is held as {}",
                holding.path().child(name.as_bytes())
            ),
            other => why(other),
        }
    })
}
