//! `tarvek reclaim`.

use std::collections::HashSet;
use std::path::Path;
use std::sync::atomic::Ordering;

use tarvek_core::waste::group::Decision;
use tarvek_formats::review::Review;
use tarvek_host::files;
use tarvek_host::reclaim::{Ledger, Mode, ReclaimReport, Request, StepState, reclaim};

use super::progress::{interruptible, with_progress};
use crate::cli::{Format, Globals, ReclaimArgs};
use crate::inputs::{self, LiveSite};
use crate::outcome::{Failure, Outcome};
use crate::view::{Screen, json, reclaim as view};

pub(super) fn run(
    globals: &Globals,
    args: &ReclaimArgs,
    screen: &Screen,
) -> Result<Outcome, Failure> {
    if args.total {
        return total(args, screen);
    }
    let file = args.review.as_deref().expect("clap requires it");
    let review = inputs::review(file)?;
    let mode = match (args.undo, args.resume, args.purge) {
        (true, ..) => Mode::Undo,
        (_, true, _) => Mode::Resume,
        (_, _, true) => Mode::Purge,
        _ => Mode::Do,
    };
    let site = LiveSite::new(globals)?;
    // Whoever has no state folder has purged nothing that could be remembered.
    let ledger = Ledger::usual();
    let purged = ledger.as_ref().map_or_else(|_| Ok(HashSet::new()), Ledger::purged);
    let purged = purged.unwrap_or_else(|why| {
        screen.complain(&format!("what was purged before is not known: {why}\n"));
        HashSet::new()
    });
    let request = Request {
        purged: &purged,
        review: &review,
        host: site.host().raw(),
        mode,
        yes: args.yes,
        accept_rights: args.accept_rights,
    };
    let watch = interruptible();
    let mut report = with_progress(&watch, "files", screen, || reclaim(&request, &site, &watch));
    let ignored = match mode {
        Mode::Do | Mode::Resume => ignore(globals, args, &review, &mut report)?,
        Mode::Undo | Mode::Purge => 0,
    };
    if args.yes && mode == Mode::Purge {
        let kept = ledger.and_then(|ledger| {
            ledger.settle(&review)?;
            ledger.take_away_empty(&review)
        });
        if let Err(why) = kept {
            screen.complain(&format!(
                "the running total is not up to date: {why}\n        the next \
                                      purge writes it down\n"
            ));
        }
    }
    let shown = view::Shown { report: &report, mode, yes: args.yes, ignored, review: file };
    let text = match args.format {
        Format::Text => view::text(&shown, screen),
        Format::Json => json::text(&json::Reclaim::new(&report)),
    };
    screen.say(&text)?;
    if watch.stop.load(Ordering::Relaxed) {
        return Err(Failure::with_remedy(
            "interrupted; each name has what it had, or what the review says",
            "--resume --yes goes on, --undo --yes puts everything back",
        ));
    }
    let refused = report.steps.iter().filter(|step| step.state == StepState::Refused).count();
    Ok(match refused {
        0 => Outcome::Fine,
        all if all == report.steps.len() && ignored == 0 => Outcome::Unanswered,
        _ => Outcome::Found,
    })
}

/// Remembers the groups that are not to be shown again, and says how many.
fn ignore(
    globals: &Globals,
    args: &ReclaimArgs,
    review: &Review,
    report: &mut ReclaimReport,
) -> Result<u64, Failure> {
    let rows: Vec<_> = review.rows.iter().filter(|row| row.decision == Decision::Ignore).collect();
    let Some(first) = rows.first() else { return Ok(0) };
    let Some(file) = inputs::ignored_file(globals, args.ignored.as_deref())? else {
        let why = "there is no layout to keep ignored groups beside; name a file: --ignored FILE";
        report.refuse_ignore(first.path.as_bytes(), why);
        return Ok(0);
    };
    let mut ignored = inputs::ignored(&file)?;
    let new = rows.iter().filter(|row| ignored.add(&row.group, row.path.as_bytes())).count() as u64;
    if args.yes && new > 0 {
        write(&file, &ignored.write())?;
    }
    Ok(new)
}

fn write(file: &Path, text: &str) -> Result<(), Failure> {
    files::replace(file, text.as_bytes()).map_err(|error| {
        Failure::with_remedy(
            format!("can't write {}: {error}", inputs::name_of(file)),
            "name another file: --ignored FILE",
        )
    })
}

fn total(args: &ReclaimArgs, screen: &Screen) -> Result<Outcome, Failure> {
    let ledger = Ledger::usual().map_err(Failure::new)?;
    if let Some(file) = &args.review {
        ledger.settle(&inputs::review(file)?).map_err(Failure::new)?;
    }
    let taken = ledger.total().map_err(Failure::new)?;
    let text = match args.format {
        Format::Text => view::total(&taken, screen),
        Format::Json => json::text(&json::ReclaimTotal::new(&taken)),
    };
    screen.say(&text)?;
    Ok(Outcome::Fine)
}
