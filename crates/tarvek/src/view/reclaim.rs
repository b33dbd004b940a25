//! What a review comes to, as text.

use std::fmt::Write;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

use tarvek_core::words::text::{bytes, counted, shell_quoted};
use tarvek_host::reclaim::{Mode, Operation, ReclaimReport, ReclaimedFromLibrary, Step, StepState};
use unicode_width::UnicodeWidthStr;

use super::screen::{Screen, Volume, when};
use super::style::{dim, sign, step_state, strong};
use super::wrap::wrap;

/// What came of a review, and what was asked.
pub(crate) struct Shown<'a> {
    pub(crate) report: &'a ReclaimReport,
    pub(crate) mode: Mode,
    pub(crate) yes: bool,
    /// Groups that are ignored from now on.
    pub(crate) ignored: u64,
    pub(crate) review: &'a Path,
}

/// Steps on the first screen.
const MOST: usize = 40;

pub(crate) fn text(of: &Shown, screen: &Screen) -> String {
    let Shown { report, mode, yes, ignored, review } = *of;
    let mut out = headline(of);
    if screen.volume() == Volume::Quiet {
        return out;
    }
    if !report.steps.is_empty() {
        out.push('\n');
    }
    list_steps(&mut out, report, mode, screen);
    if ignored > 0 {
        let what = if yes { "ignored from now on" } else { "would be ignored from now on" };
        let _ = writeln!(out, "\n{} {what}", counted(ignored, "group"));
    }
    if yes && matches!(mode, Mode::Do | Mode::Resume) && report.held > 0 {
        let file = shell_quoted(review.as_os_str().as_bytes());
        let _ = writeln!(
            out,
            "\n{}\n{}",
            dim(format!("tarvek reclaim {file} --undo --yes    puts everything back")),
            dim(format!("tarvek reclaim {file} --purge --yes   deletes it for good"))
        );
    }
    out
}

/// What came of it, or would, in a line.
fn headline(of: &Shown) -> String {
    let Shown { report, mode, yes, .. } = *of;
    let mut out = String::new();
    let count =
        |state: StepState| report.steps.iter().filter(|step| step.state == state).count() as u64;
    let frees = |state: StepState| -> u64 {
        report.steps.iter().filter(|step| step.state == state).map(|step| step.frees).sum()
    };
    let (planned, done, refused, undone) = (
        count(StepState::Planned),
        count(StepState::Done),
        count(StepState::Refused),
        count(StepState::Undone),
    );
    let good = refused == 0 || planned + done + undone > 0;
    let before = report.steps.iter().filter(|step| step.before).count() as u64;
    let sign = sign(Some(good), refused > 0);
    // What a purge gives back is none that it deletes.
    let back = match mode {
        Mode::Purge => report.steps.iter().filter(|step| gives_back(step)).count() as u64,
        _ => 0,
    };
    let mut refusals = String::new();
    if back > 0 {
        let would = if yes { "" } else { "to be " };
        let _ = write!(refusals, ", {back} {would}put back");
    }
    if refused > 0 {
        let _ = write!(refusals, ", {refused} refused");
    }
    let _ = match (mode, yes) {
        (Mode::Do | Mode::Resume, _) if before > 0 && before == done && planned == 0 => writeln!(
            out,
            "{sign} nothing is left to do{refusals}: {} done before; {} held",
            counted(before, "step"),
            strong(bytes(report.held))
        ),
        (Mode::Do | Mode::Resume, false) if planned == 0 => {
            writeln!(out, "{sign} nothing would be done{refusals}")
        }
        (Mode::Do | Mode::Resume, true) if done == 0 => {
            writeln!(out, "{sign} nothing was done{refusals}; {} held", strong(bytes(report.held)))
        }
        (Mode::Do | Mode::Resume, false) => writeln!(
            out,
            "{sign} {} would be done{refusals}: {} would be held, and come back by --purge; --yes \
             does it",
            counted(planned, "step"),
            strong(bytes(frees(StepState::Planned)))
        ),
        (Mode::Do | Mode::Resume, true) => writeln!(
            out,
            "{sign} {} done{refusals}: {} held; nothing is gone yet",
            counted(done, "step"),
            strong(bytes(report.held))
        ),
        (Mode::Undo | Mode::Purge, _) if report.steps.is_empty() => {
            writeln!(out, "{sign} nothing is held for this review: nothing is left to do")
        }
        (Mode::Undo, false) => writeln!(
            out,
            "{sign} {} would be put back{refusals}; --yes does it",
            counted(planned, "name")
        ),
        (Mode::Undo, true) => {
            writeln!(out, "{sign} {} put back{refusals}", counted(undone, "name"))
        }
        (Mode::Purge, false) => writeln!(
            out,
            "{sign} {} would be deleted for good{refusals}: {} would come back; --yes does it",
            counted(planned - back, "name"),
            strong(bytes(frees(StepState::Planned)))
        ),
        (Mode::Purge, true) => writeln!(
            out,
            "{sign} {} deleted{refusals}: {} came back",
            counted(done, "name"),
            strong(bytes(report.freed))
        ),
    };
    out
}

/// Each step with what it brings and why, those that were refused first: they matter most.
fn list_steps(out: &mut String, report: &ReclaimReport, mode: Mode, screen: &Screen) {
    let (refused, fine): (Vec<&Step>, Vec<&Step>) =
        report.steps.iter().partition(|step| step.state == StepState::Refused);
    let most = if screen.volume() == Volume::Verbose { usize::MAX } else { MOST };
    let size = |step: &Step| if step.frees > 0 { bytes(step.frees) } else { "–".to_owned() };
    let width = report.steps.iter().map(|step| size(step).width()).max().unwrap_or(0);
    // A step that is undone is none that drops or links.
    let operation = |step: &Step| match mode {
        Mode::Undo => "back",
        Mode::Purge if gives_back(step) => "back",
        _ => step.operation.word(),
    };
    for step in refused.iter().chain(&fine).take(most) {
        let _ = writeln!(
            out,
            "  {:9}  {:6}  {:>width$}  {}",
            step_state(step.state),
            operation(step),
            size(step),
            screen.near(&step.path)
        );
        let indent = 2 + 9 + 2 + 6 + 2 + width + 2;
        for line in step.changes.iter().chain(&step.why) {
            // A path may have spaces, and is never broken.
            let most = if line.contains('/') {
                usize::MAX
            } else {
                screen.width().saturating_sub(indent).max(20)
            };
            let margin = " ".repeat(indent);
            let _ = writeln!(out, "{margin}{}", dim(wrap(line, &[], most, &margin)));
        }
    }
    if report.steps.len() > most {
        let _ = writeln!(
            out,
            "  {}",
            dim(format!("… and {} more; -v shows all", report.steps.len() - most))
        );
    }
}

/// Whether a step of a purge gives something back instead.
fn gives_back(step: &Step) -> bool {
    step.operation != Operation::Purge
        && matches!(step.state, StepState::Planned | StepState::Undone)
}

/// What was taken back so far.
pub(crate) fn total(taken: &[ReclaimedFromLibrary], screen: &Screen) -> String {
    let (files, all): (u64, u64) =
        (taken.iter().map(|t| t.files).sum(), taken.iter().map(|t| t.bytes).sum());
    let Some(since) = taken.iter().map(|taken| taken.since).min() else {
        return "nothing was taken back so far\n".to_owned();
    };
    let mut out = String::new();
    let _ = writeln!(
        out,
        "{} {} taken back from {}, since {}\n",
        sign(Some(true), false),
        strong(bytes(all)),
        counted(files, "file"),
        when(since)
    );
    let width =
        taken.iter().map(|taken| screen.near(taken.library.as_bytes()).width()).max().unwrap_or(0);
    for taken in taken {
        let _ = writeln!(
            out,
            "  {:width$}  {:>10}  {:>10}  {}",
            screen.near(taken.library.as_bytes()),
            bytes(taken.bytes),
            counted(taken.files, "file"),
            dim(format!("since {}", when(taken.since)))
        );
    }
    out
}
