//! Back to how it was: of what was done, and of what was broken off.

use rustix::io::Errno;

use super::entry::{Location, Pinned, REPLACED, exchange, move_out, why};
use super::journal::{KnownStep, LetGo, Stage};
use super::operation::has_other_names;
use super::quarantine::{Quarantine, held_name, incoming_name};
use super::step::{Operation, Step, StepState};

/// What giving back came to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Restored {
    /// Its name has what it had.
    Back(LetGo),
    /// Nothing had been taken.
    NothingTaken,
}

/// Gives a name what a step took from it, however far the step had come. Nothing that others may
/// have put there is lost.
///
/// # Errors
/// Why it stays where it is, in words.
pub(super) fn give_back(quarantine: &Quarantine, step: u64) -> Result<Restored, String> {
    let KnownStep { intent, stage, .. } = quarantine.step(step);
    let names = [incoming_name(step), held_name(step)];
    let mut inside = Vec::new();
    for name in &names {
        inside.extend(quarantine.pin(name)?.map(|pinned| (name.as_str(), pinned)));
    }
    let location = match Location::open(None, &intent.path.0) {
        Ok(location) => location,
        Err(_) if inside.is_empty() && *stage == Stage::Begun => return Ok(Restored::NothingTaken),
        Err(why) => return Err(why),
    };
    let expected = match stage {
        Stage::Done(held) | Stage::Purging(held) | Stage::Stray(held) => held,
        Stage::Begun | Stage::Over | Stage::Purged(_) => &intent.was,
    };
    let kept = intent.kept.as_ref().filter(|_| intent.operation() == Operation::Link);
    let is_kept = |file: &Pinned| kept.is_some_and(|kept| file.is_file_of(&kept.was));
    if inside.is_empty() {
        return match (stage, location.pin()) {
            (Stage::Begun, _) => Ok(Restored::NothingTaken),
            // Of an undo that was broken off.
            (_, Ok(now)) if now.is_file_of(expected) => Ok(back(&now)),
            _ => Err("nothing is held of it any more".to_owned()),
        };
    }
    let mut is_back = false;
    for (name, held) in inside {
        let is_expected = held.is_file_of(expected);
        if !is_expected && is_kept(&held) {
            // The new link, which had not got its name yet, or lost it again.
            remove_unless_last(quarantine, name, &held)?;
            continue;
        }
        if !is_expected && *stage != Stage::Begun {
            return Err(format!(
                "what is held as {} is not what was taken: it stays there",
                quarantine.path().child(name.as_bytes())
            ));
        }
        match location.pin() {
            Ok(now) if now.is_same_inode(&held) => {
                remove_unless_last(quarantine, name, &held)?;
            }
            Ok(now) if is_kept(&now) => exchange_back(quarantine, name, &location, &now)?,
            Ok(_) => return Err(taken(quarantine, name)),
            Err(Errno::NOENT) => {
                move_out(&quarantine.folder, name, &location).map_err(|error| match error {
                    Errno::EXIST => taken(quarantine, name),
                    other => why(other),
                })?;
            }
            Err(error) => return Err(why(error)),
        }
        is_back = true;
    }
    quarantine.sync_with(&location.folder)?;
    match location.pin() {
        Ok(now) if is_back => Ok(back(&now)),
        _ => Ok(Restored::NothingTaken),
    }
}

fn back(now: &Pinned) -> Restored {
    Restored::Back(LetGo { changed: now.meta.changed })
}

fn taken(quarantine: &Quarantine, name: &str) -> String {
    let place = quarantine.path().child(name.as_bytes());
    format!("another file took its name: it is held as {place}")
}

fn remove_unless_last(quarantine: &Quarantine, name: &str, file: &Pinned) -> Result<(), String> {
    match has_other_names(file) {
        true => quarantine.remove_spare(name),
        false => Err(format!(
            "{} is the last name of its file: it stays there",
            quarantine.path().child(name.as_bytes())
        )),
    }
}

/// Gives a name back what it had, for the link that it became, which goes.
fn exchange_back(
    quarantine: &Quarantine,
    name: &str,
    location: &Location,
    link: &Pinned,
) -> Result<(), String> {
    if !has_other_names(link) {
        return Err(
            "it has become the last name of the file that was kept: give that another name first"
                .to_owned(),
        );
    }
    exchange(&quarantine.folder, name, location).map_err(why)?;
    match quarantine.pin(name)? {
        Some(out) if out.is_same_inode(link) => remove_unless_last(quarantine, name, &out),
        _ => {
            exchange(&quarantine.folder, name, location).map_err(why)?;
            Err(REPLACED.to_owned())
        }
    }
}

/// Brings a step to an end of which only the beginning is written down: all is as it was, or what
/// could not go back is held.
///
/// # Errors
/// Why that is so, or why it can't be done, in words.
pub(super) fn settle(quarantine: &mut Quarantine, step: u64) -> Result<(), String> {
    let fault = match give_back(quarantine, step) {
        Ok(Restored::Back(left)) => return quarantine.journal.refused(step, left),
        Ok(Restored::NothingTaken) => {
            return quarantine.journal.refused(step, LetGo::default());
        }
        Err(fault) => fault,
    };
    let was = quarantine.step(step).intent.was.clone();
    let (held, incoming) = (held_name(step), incoming_name(step));
    if let Some(file) = quarantine.pin(&incoming)?
        && file.is_file_of(&was)
        && quarantine.pin(&held)?.is_none()
    {
        rustix::fs::renameat(&quarantine.folder, &incoming, &quarantine.folder, &held)
            .map_err(why)?;
    }
    for name in [held, incoming] {
        if let Some(file) = quarantine.pin(&name)? {
            let identity = file.identity();
            match file.is_file_of(&was) {
                true => quarantine.journal.done(step, identity)?,
                false => quarantine.journal.stray(step, identity)?,
            }
            break;
        }
    }
    Err(fault)
}

/// Why nothing can be put back.
pub(super) const PURGED: &str = "it was purged: nothing is held of it";

/// Puts back what a step took away; `None` if it took nothing.
pub(super) fn undo(quarantine: &mut Quarantine, step: u64, yes: bool) -> Option<Step> {
    let known = quarantine.journal.steps.get(&step)?.clone();
    let told = |state: StepState, why: Option<String>| Some(Step::of(&known.intent, state, why));
    match known.stage {
        Stage::Over => return None,
        Stage::Purged(_) => {
            return told(StepState::Refused, Some(PURGED.to_owned()));
        }
        _ if !yes => return told(StepState::Planned, None),
        _ => {}
    }
    let outcome = give_back(quarantine, step).and_then(|restored| match restored {
        Restored::Back(left) => quarantine.journal.undone(step, left).map(|()| None),
        Restored::NothingTaken => quarantine
            .journal
            .undone(step, LetGo::default())
            .map(|()| Some("it had not been done".to_owned())),
    });
    match outcome {
        Ok(remark) => told(StepState::Undone, remark),
        Err(why) => told(StepState::Refused, Some(why)),
    }
}
