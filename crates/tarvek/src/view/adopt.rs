//! What was adopted: file by file what it says, and what was guessed.

use std::collections::BTreeMap;
use std::path::Path;

use tarvek_core::adopt::guess::Guess;
use tarvek_core::words::name::Name;
use tarvek_core::words::text::{counted, shown};
use unicode_width::UnicodeWidthStr;

use super::style::{dim, strong};
use super::wrap::wrap;
use super::{Screen, Volume};
use crate::inputs::Configured;

/// How many facts of each kind.
type Counts = Vec<(&'static str, u64)>;

pub(crate) fn text<'a>(
    read: &Configured,
    guesses: impl Iterator<Item = &'a Guess>,
    screen: &Screen,
) -> String {
    let mut out = String::new();
    for (n, (host, configuration)) in read.hosts.iter().enumerate() {
        out += &format!("{}{}\n", if n > 0 { "\n" } else { "" }, strong(host));
        let mut says: BTreeMap<&Name, Counts> = BTreeMap::new();
        for found in &configuration.facts {
            let kinds = says.entry(&found.spot.file).or_default();
            match kinds.iter_mut().find(|(kind, _)| *kind == found.fact.kind()) {
                Some((_, count)) => *count += 1,
                None => kinds.push((found.fact.kind(), 1)),
            }
        }
        let mut files: Vec<(String, &str, Counts)> = Vec::new();
        for (of, file, format) in &read.files {
            if of == host {
                files.push((
                    file.to_string(),
                    format.words(),
                    says.remove(file).unwrap_or_default(),
                ));
            }
        }
        // What a file included stands under its own name.
        files.extend(says.into_iter().map(|(file, kinds)| (file.to_string(), "", kinds)));
        let width = files.iter().map(|(file, ..)| file.width()).max().unwrap_or(0);
        let middle = files.iter().map(|(_, format, _)| format.width()).max().unwrap_or(0);
        for (file, format, kinds) in &files {
            let says: Vec<String> = kinds.iter().map(|(kind, n)| counted(*n, word(kind))).collect();
            let says = if says.is_empty() { "–".to_owned() } else { says.join(", ") };
            let gap = " ".repeat(width - file.width());
            out += &format!("  {file}{gap}  {}  {says}\n", dim(format!("{format:middle$}")));
        }
        for (spot, flaw) in &configuration.flaws {
            out += &format!(
                "  ! {}\n",
                wrap(&format!("{spot}: {flaw}"), &[], screen.width() - 4, "    ")
            );
        }
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

fn word(kind: &str) -> &str {
    match kind {
        "idmap" => "range of ids",
        "subordinate" => "run of ids",
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
