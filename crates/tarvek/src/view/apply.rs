//! The edits of the layout that findings advise: the diff, what is left, and what comes of it.

use std::collections::BTreeSet;
use std::fmt::Write;

use tarvek_core::check::apply::{Outcome, Selection};
use tarvek_core::check::report::Report;
use tarvek_core::words::finding::Finding;
use tarvek_core::words::remedy::Step;
use tarvek_core::words::rule::Severity;
use tarvek_core::words::text::{counted, shown};

use super::screen::{Screen, Volume};
use super::style::{dim, strong};
use super::wrap::wrap;

/// What `check --apply` came to.
pub(crate) struct Applied<'a> {
    /// Unified; empty where nothing is edited.
    pub(crate) diff: &'a str,
    pub(crate) selection: &'a Selection<'a>,
    pub(crate) outcome: &'a Outcome<'a>,
    pub(crate) before: &'a Report,
    pub(crate) after: &'a Report,
    /// Whether the layout was written.
    pub(crate) written: bool,
    /// The layout's file.
    pub(crate) file: &'a str,
}

/// As text.
pub(crate) fn text(applied: &Applied, screen: &Screen) -> String {
    let mut out = String::new();
    // What stands in a file may move a terminal.
    for line in applied.diff.lines() {
        let _ = writeln!(out, "{}", shown_line(line));
    }
    let (selection, outcome) = (applied.selection, applied.outcome);
    if selection.edits.is_empty() {
        let all_left = selection.left.iter().any(|(f, _)| f.remedy.edits().next().is_some());
        let why = match all_left {
            true => "No edit can be made as it is advised",
            false => "No finding's remedy is an edit",
        };
        let _ = writeln!(out, "{why}: {} stays as it is.", applied.file);
    }
    let on_hosts: Vec<&Step> = selection
        .chosen
        .iter()
        .flat_map(|finding| &finding.remedy.steps)
        .filter(|step| step.edit().is_none())
        .collect();
    if !on_hosts.is_empty() && screen.volume() != Volume::Quiet {
        let _ = writeln!(out, "\n{}", strong("Still to be done on hosts"));
        let mut said: Vec<String> = Vec::new();
        for step in on_hosts {
            let place = step.host().map(|host| format!("on {host}: ")).unwrap_or_default();
            let line = format!("{place}{step}");
            if !said.contains(&line) {
                let folded = match step {
                    Step::Run { .. } => line.clone(),
                    _ => wrap(&line, &[], screen.width() - 4, "    "),
                };
                let _ = writeln!(out, "  {} {folded}", dim("·"));
                said.push(line);
            }
        }
    }
    // What somebody gains or loses is said also where little is said.
    let effects: BTreeSet<&String> =
        selection.chosen.iter().flat_map(|finding| &finding.remedy.effects).collect();
    if !effects.is_empty() {
        let _ = writeln!(out, "\n{}", strong("What else it changes"));
        for effect in effects {
            let effect = wrap(effect, &[], screen.width() - 4, "    ");
            let _ = writeln!(out, "  {} {effect}", dim("·"));
        }
    }
    // What is no edit at all is in the answer of `check`.
    let left: Vec<_> = selection
        .left
        .iter()
        .filter(|(finding, _)| finding.remedy.edits().next().is_some())
        .collect();
    if !left.is_empty() {
        let _ = writeln!(out, "\n{}", strong("Edits that are left"));
        for (finding, why) in left {
            line(&mut out, finding, why, screen);
        }
    }
    let verb = if applied.written { "Cleared" } else { "Cleared by these edits" };
    findings(&mut out, verb, &outcome.cleared, screen);
    let verb = if applied.written { "New" } else { "New with these edits" };
    findings(&mut out, verb, &outcome.new, screen);
    let totals = |report: &Report| {
        let all = [Severity::Blocker, Severity::Risk, Severity::Note];
        let counts = all.map(|severity| counted(report.count(severity) as u64, severity.word()));
        counts.join(", ")
    };
    let _ =
        writeln!(out, "\nbefore: {}\nafter:  {}", totals(applied.before), totals(applied.after));
    let end = match (selection.edits.is_empty(), applied.written) {
        (true, _) => String::new(),
        (_, true) => format!("\nwritten: {}\n", applied.file),
        _ => format!("\nNothing was written; --yes writes {}.\n", applied.file),
    };
    out + &end
}

fn findings(out: &mut String, title: &str, findings: &[&Finding], screen: &Screen) {
    if findings.is_empty() {
        return;
    }
    let _ = writeln!(out, "\n{}", strong(title));
    for finding in findings {
        line(out, finding, &finding.message, screen);
    }
}

fn line(out: &mut String, finding: &Finding, words: &str, screen: &Screen) {
    let text = format!("{}: {words}", finding.rule.id);
    let _ = writeln!(out, "  {} {}", dim("·"), wrap(&text, &[], screen.width() - 4, "    "));
}

/// A line of a diff, escaped and coloured by its first character.
fn shown_line(line: &str) -> String {
    let text = shown(line.as_bytes());
    match line.chars().next() {
        Some('+') if !line.starts_with("+++") => super::style::added(text).to_string(),
        Some('-') if !line.starts_with("---") => super::style::removed(text).to_string(),
        Some('@') => dim(text).to_string(),
        _ => text,
    }
}
