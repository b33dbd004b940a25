//! The readiness board and the findings, as text.

use std::collections::HashMap;
use std::fmt::Write;

use tarvek_core::check::board::{Row, Subject};
use tarvek_core::check::report::Report;
use tarvek_core::facts::host::Source;
use tarvek_core::link::intake::Stage;
use tarvek_core::words::about::Affected;
use tarvek_core::words::finding::Finding;
use tarvek_core::words::rule::Severity;
use tarvek_core::words::text::{ago, counted, shown};
use unicode_width::UnicodeWidthStr;

use super::screen::{Screen, Volume};
use super::steps;
use super::style::{Styled, dim, filing, severity, stage, strong, verdict};
use super::wrap::wrap;

/// The whole answer of `check`.
pub(crate) fn text(report: &Report, screen: &Screen, layout: &str) -> String {
    let mut out = String::new();
    headline(&mut out, report);
    if screen.volume() == Volume::Quiet {
        return out;
    }
    if !report.board.is_empty() {
        out.push('\n');
        board(&mut out, &report.board, screen.width());
    }
    findings(&mut out, report, screen, layout);
    hosts(&mut out, report, screen);
    out
}

fn headline(out: &mut String, report: &Report) {
    let of = |wanted: fn(&Row) -> bool| {
        let rows = || report.board.iter().filter(|row| wanted(row));
        (rows().filter(|row| row.ready).count() as u64, rows().count() as u64)
    };
    let site = strong(&report.site);
    let libraries = match of(|row| row.of != Subject::Intake) {
        (_, 0) if report.board.is_empty() => "no library and no intake is declared".to_owned(),
        (_, 0) => "no library is declared".to_owned(),
        (ready, all) if ready == all => format!("every library is ready ({all})"),
        (ready, all) => format!("{ready} of {} ready", counted(all, "library")),
    };
    let intakes = match of(|row| row.of == Subject::Intake) {
        (_, 0) => String::new(),
        (ready, all) if ready == all => format!(", and every intake ({all})"),
        (ready, all) => format!(", {ready} of {}", counted(all, "intake")),
    };
    let counts: Vec<String> = [Severity::Blocker, Severity::Risk, Severity::Note]
        .into_iter()
        .filter_map(|severity| match report.count(severity) as u64 {
            0 => None,
            count => Some(counted(count, severity.word())),
        })
        .collect();
    let counts = if counts.is_empty() { "nothing found".to_owned() } else { counts.join(", ") };
    let _ = writeln!(out, "{site}: {libraries}{intakes}; {counts}");
}

/// What the last stage is called: of libraries it is their titles, of intakes what filing does.
fn titles(rows: &[Row]) -> &'static str {
    if rows.iter().all(|row| row.of == Subject::Intake) { "filing" } else { "titles" }
}

fn board(out: &mut String, rows: &[Row], width: usize) {
    let name = |row: &Row| match row.of {
        Subject::Library(_) => row.name.to_string(),
        Subject::Intake => format!("intake {}", row.name),
    };
    let widest = rows.iter().map(|row| name(row).width()).max().unwrap_or(0).clamp(7, 24);
    let head = ["mapped", "mounted", "exists", "readable"];
    let _ = write!(out, "  {:widest$}", dim("library"));
    for title in head {
        let _ = write!(out, "  {:8}", dim(title));
    }
    let _ = writeln!(out, "  {}  {}", dim(titles(rows)), dim("verdict"));
    let used = 2 + widest + 4 * 10 + 2 + 6 + 2;
    let mut service = None;
    for row in rows {
        if service != Some(&row.service) {
            let _ = writeln!(out, "{}", strong(&row.service));
            service = Some(&row.service);
        }
        let shown_name = name(row);
        let s = &row.stages;
        if shown_name.width() > widest {
            // A name that is too long for its column gets a line of its own.
            let _ = write!(out, "  {shown_name}\n  {:widest$}", "");
        } else {
            let _ = write!(out, "  {shown_name}{}", " ".repeat(widest - shown_name.width()));
        }
        for cell in [s.mapped, s.mounted, s.exists, s.readable] {
            let _ = write!(out, "  {:8}", stage(cell));
        }
        match (s.titles, row.of) {
            (_, Subject::Intake) => drop(write!(out, "  {:6}", files(row))),
            (Some(titles), _) => drop(write!(out, "  {titles:>6}")),
            (None, Subject::Library(_)) => drop(write!(out, "  {:>6}", "?")),
        }
        let text = row.verdict.to_string();
        let shown = verdict(&text, row.ready);
        if used + text.width() <= width {
            let _ = writeln!(out, "  {shown}");
        } else {
            let indent = " ".repeat(widest + 4);
            let folded = wrap(&text, &[], width.saturating_sub(indent.len()), &indent);
            let _ = writeln!(out, "\n{indent}{}", verdict(&folded, row.ready));
        }
        if !row.steps.is_empty() {
            let _ = writeln!(out, "    {}", dim(way(row)));
        }
    }
}

/// What filing does with a download of an intake: in the column where libraries have their titles.
fn files(row: &Row) -> Styled {
    let does = row.steps.iter().find(|step| step.stage == Stage::File).map(|step| step.does);
    filing(row.stages.linkable, does)
}

/// The way of a download: `partial ─rename→ done ─link→ library`, by whom.
fn way(row: &Row) -> String {
    let mut text = String::new();
    for step in &row.steps {
        let (from, to) = match step.stage {
            Stage::Finish => ("partial", "done"),
            Stage::File => ("done", "library"),
        };
        if text.is_empty() {
            text += from;
        }
        text += &format!(" ─{}→ {to} ({})", step.does.word(), step.service);
    }
    text
}

/// Findings under what they block; those that block nothing stand last, under what they are about.
fn findings(out: &mut String, report: &Report, screen: &Screen, layout: &str) {
    let mut groups: Vec<(String, Vec<&Finding>)> = Vec::new();
    let mut known: HashMap<String, usize> = HashMap::new();
    for finding in &report.findings {
        let title = group_title(finding);
        let index = *known.entry(title.clone()).or_insert(groups.len());
        if index == groups.len() {
            groups.push((title, Vec::new()));
        }
        groups[index].1.push(finding);
    }
    for (title, findings) in &groups {
        let _ = writeln!(out, "\n{}", strong(title.as_str()));
        for finding in findings {
            one(out, finding, screen, layout);
        }
    }
    if report.silenced > 0 {
        let silenced = counted(report.silenced as u64, "finding");
        let _ = writeln!(out, "\n{}", dim(format!("{silenced} silenced by the layout")));
    }
}

fn group_title(finding: &Finding) -> String {
    if finding.affects.is_empty() {
        return format!("Findings about {}", finding.about.words());
    }
    // A library goes by its name alone, as in the board.
    let name = |affected: &Affected| match affected {
        Affected::Library(name) => name.to_string(),
        Affected::Intake(name) => format!("intake {name}"),
    };
    let names: Vec<String> = finding.affects.iter().map(name).collect();
    let word = match finding.severity {
        Severity::Blocker => "Blocking",
        _ => "Affecting",
    };
    format!("{word} {}", names.join(", "))
}

fn one(out: &mut String, finding: &Finding, screen: &Screen, layout: &str) {
    if let Some(cause) = finding.because {
        let words = format!("{}, because of {cause}", finding.rule.id);
        let _ = writeln!(out, "  {:9}  {}", severity(finding.severity), words);
        return;
    }
    // Where it was adopted from is what a person opens next.
    let spot = finding.place.origin.as_ref().map(|spot| format!("   {}", dim(spot)));
    let spot = spot.unwrap_or_default();
    let _ = writeln!(out, "  {:9}  {}{spot}", severity(finding.severity), finding.rule.id);
    let mut whole = Vec::new();
    let mut path = finding.place.path.clone();
    while let Some(here) = path {
        whole.push(here.to_string());
        path = here.parent();
    }
    let (width, indent) = (screen.width() - 13, " ".repeat(13));
    let steps = steps::lines(&finding.remedy, layout, width, &whole, &indent);
    let mut part = |label: &str, text: &str, fold: bool| {
        let text = if fold { wrap(text, &whole, width, &indent) } else { text.to_owned() };
        let _ = writeln!(out, "    {:7}  {text}", dim(label));
    };
    part("why", &finding.message, true);
    for (n, line) in steps.iter().enumerate() {
        part(if n == 0 { "remedy" } else { "" }, line, false);
    }
    for effect in &finding.remedy.effects {
        part("then", effect, true);
    }
    if screen.volume() == Volume::Verbose {
        let place = &finding.place;
        let host = place.host.as_ref().map(ToString::to_string);
        let path = place.path.as_ref().map(ToString::to_string);
        let line = place.line.map(|line| format!("{layout}:{line}"));
        let line = place.origin.as_ref().map(ToString::to_string).or(line);
        let parts: Vec<String> = [host, path].into_iter().flatten().collect();
        let mut at = parts.join(":");
        if let Some(line) = line {
            at += &format!("{}{line}", if at.is_empty() { "" } else { "   " });
        }
        part("where", &format!("{at}   {}", finding.evidence.word()), false);
    }
}

fn hosts(out: &mut String, report: &Report, screen: &Screen) {
    if report.hosts.is_empty() {
        return;
    }
    out.push('\n');
    for host in &report.hosts {
        let name = &host.host;
        let seen = match &host.seen {
            None => "not looked at: only the layout speaks of it".to_owned(),
            Some((_, Source::Live)) => "looked at just now".to_owned(),
            Some((taken, Source::File(file))) => {
                format!(
                    "seen {}, {} ago ({})",
                    super::screen::when(*taken),
                    ago(host.age),
                    shown(file.as_bytes())
                )
            }
        };
        let gaps = match host.gaps.len() as u64 {
            0 => String::new(),
            count => format!("; {} could not be looked into", counted(count, "place")),
        };
        let _ = writeln!(out, "{}", dim(format!("{name}: {seen}{gaps}")));
        let most = if screen.volume() == Volume::Verbose { usize::MAX } else { 3 };
        for gap in host.gaps.iter().take(most) {
            let _ = writeln!(out, "{}", dim(format!("    {}: {}", gap.path, gap.why)));
        }
        if host.gaps.len() > most {
            let _ = writeln!(out, "{}", dim("    … -v shows all of them"));
        }
    }
}
