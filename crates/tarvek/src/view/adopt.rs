//! What was adopted: file by file what it says, and what was guessed.

use std::collections::BTreeMap;
use std::path::Path;

use tarvek_core::adopt::guess::Guess;
use tarvek_core::facts::configured::Configuration;
use tarvek_core::words::name::Name;
use tarvek_core::words::text::{counted, shown};
use unicode_width::UnicodeWidthStr;

use super::screen::{Screen, Volume};
use super::style::{dim, strong};
use super::wrap::wrap;
use crate::inputs::Configured;

/// What one file says.
struct Row {
    file: String,
    format: &'static str,
    says: String,
}

pub(crate) fn text<'a>(
    read: &Configured,
    guesses: impl Iterator<Item = &'a Guess>,
    screen: &Screen,
) -> String {
    let said: Vec<Vec<Row>> =
        read.hosts.iter().map(|(host, found)| rows(read, host, found)).collect();
    let width = said.iter().flatten().map(|row| row.file.width()).max().unwrap_or(0);
    let middle = said.iter().flatten().map(|row| row.format.width()).max().unwrap_or(0);
    let mut out = String::new();
    for (n, ((host, configuration), rows)) in read.hosts.iter().zip(said).enumerate() {
        out += &format!("{}{}\n", if n > 0 { "\n" } else { "" }, strong(host));
        for Row { file, format, says } in rows {
            let gap = " ".repeat(width - file.width());
            out += &format!("  {file}{gap}  {}  {says}\n", dim(format!("{format:middle$}")));
        }
        out += &passed_over(read, host, screen);
        for (spot, flaw) in &configuration.flaws {
            out += &format!(
                "  ! {}\n",
                wrap(&format!("{spot}: {flaw}"), &[], screen.width() - 4, "    ")
            );
        }
    }
    if !read.daemons.is_empty() && screen.volume() != Volume::Quiet {
        let names: Vec<String> = read.daemons.iter().map(ToString::to_string).collect();
        let line = format!(
            "not taken, as they have mounts of their own and no media in them: {}",
            names.join(", ")
        );
        out += &format!("  {}\n", wrap(&line, &[], screen.width() - 4, "    "));
    }
    let guesses: Vec<&Guess> = guesses.collect();
    if screen.volume() == Volume::Quiet || guesses.is_empty() {
        return out;
    }
    out += &format!("\n{}\n", strong("Guessed – correct what is wrong"));
    for guess in guesses {
        let line = format!(
            "{}, because {}",
            shown(guess.what.as_bytes()),
            shown(guess.because.as_bytes())
        );
        out += &format!("  ? {}\n", wrap(&line, &[], screen.width() - 4, "    "));
    }
    out
}

/// The files of one host in the order in which they were read, then what they included.
fn rows(read: &Configured, host: &Name, found: &Configuration) -> Vec<Row> {
    let mut kinds: BTreeMap<&Name, Vec<(&str, u64)>> = BTreeMap::new();
    for found in &found.facts {
        let kinds = kinds.entry(&found.spot.file).or_default();
        match kinds.iter_mut().find(|(kind, _)| *kind == found.fact.kind()) {
            Some((_, count)) => *count += 1,
            None => kinds.push((found.fact.kind(), 1)),
        }
    }
    let row = |file: &Name, format, kinds: Vec<(&str, u64)>| {
        let says: Vec<String> = kinds.iter().map(|(kind, n)| counted(*n, word(kind))).collect();
        let says = if says.is_empty() { "–".to_owned() } else { says.join(", ") };
        Row { file: file.to_string(), format, says }
    };
    let named = read.files.iter().filter(|(of, ..)| of == host);
    let mut rows: Vec<Row> = named
        .map(|(_, file, format)| row(file, format.words(), kinds.remove(file).unwrap_or_default()))
        .collect();
    rows.extend(kinds.into_iter().map(|(file, kinds)| row(file, "", kinds)));
    rows
}

/// Files of a host that nobody could make anything of; the first of many.
fn passed_over(read: &Configured, host: &Name, screen: &Screen) -> String {
    const NAMED: usize = 5;
    let all: Vec<&Name> =
        read.passed_over.iter().filter(|(of, _)| of == host).map(|(_, file)| file).collect();
    if all.is_empty() || screen.volume() == Volume::Quiet {
        return String::new();
    }
    let named: Vec<String> = all.iter().take(NAMED).map(ToString::to_string).collect();
    let more = match all.len().saturating_sub(NAMED) {
        0 => String::new(),
        more => format!(" and {more} more"),
    };
    let line = format!("passed over, no configuration that is known: {}{more}", named.join(", "));
    format!("  {}\n", dim(wrap(&line, &[], screen.width() - 2, "  ")))
}

fn word(kind: &str) -> &str {
    match kind {
        "idmap" => "id range",
        "subordinate" => "subordinate range",
        "folder" => "ACL",
        kind => kind,
    }
}

/// What was written.
pub(crate) fn written(file: &Path, added: usize, extended: bool) -> String {
    let file = shown(std::os::unix::ffi::OsStrExt::as_bytes(file.as_os_str()));
    let parts = counted(added as u64, "part");
    match (extended, added) {
        (true, 0) => format!("\n{file} has all of it already; it stays as it is.\n"),
        (true, _) => format!("\nadded to {file}: {parts}\n"),
        (false, _) => format!("\nwritten: {file} ({parts}); `tarvek check` judges it\n"),
    }
}
