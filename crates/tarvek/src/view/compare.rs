//! What differs between two surveys, as text.

use std::fmt::Write;

use tarvek_core::facts::compare::Differences;
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::text::{counted, shown};

use super::screen::{Screen, Volume};
use super::style::{dim, strong};

/// More than these are counted only, unless everything is asked for.
const MOST: usize = 20;

/// The whole answer of `compare`.
pub(crate) fn text(differences: &Differences, screen: &Screen) -> String {
    let mut out = String::new();
    let sums = [
        (differences.appeared.len(), "appeared"),
        (differences.vanished.len(), "vanished"),
        (differences.changed.len(), "changed"),
        (
            differences.tables.len(),
            if differences.tables.len() == 1 {
                "table of the host differs"
            } else {
                "tables of the host differ"
            },
        ),
    ];
    let said: Vec<String> = sums
        .iter()
        .filter(|(count, _)| *count > 0)
        .map(|(count, word)| format!("{count} {word}"))
        .collect();
    let answer = if said.is_empty() { "nothing differs".to_owned() } else { said.join(", ") };
    let _ = writeln!(out, "{}", strong(answer));
    if screen.volume() == Volume::Quiet {
        return out;
    }
    let most = if screen.volume() == Volume::Verbose { usize::MAX } else { MOST };
    bunch(&mut out, "appeared", "+", &differences.appeared, most);
    bunch(&mut out, "vanished", "-", &differences.vanished, most);
    if !differences.changed.is_empty() {
        let _ = writeln!(out, "\n{}", strong("changed"));
        for change in differences.changed.iter().take(most) {
            let _ = writeln!(out, "  {}", change.path);
            for (field, old, new) in &change.fields {
                let _ = writeln!(out, "      {:16} {old} → {new}", dim(*field));
            }
        }
        rest(&mut out, differences.changed.len(), most);
    }
    for table in &differences.tables {
        let _ = writeln!(out, "\n{}", strong(&table.table));
        let lines = table
            .removed
            .iter()
            .map(|line| ('-', line))
            .chain(table.added.iter().map(|line| ('+', line)));
        for (sign, line) in lines.take(most) {
            let _ = writeln!(out, "  {sign} {}", shown(line.as_bytes()));
        }
        rest(&mut out, table.removed.len() + table.added.len(), most);
    }
    out
}

fn bunch(out: &mut String, title: &str, sign: &str, paths: &[(AbsPath, u64)], most: usize) {
    if paths.is_empty() {
        return;
    }
    let _ = writeln!(out, "\n{}", strong(title));
    for (path, with) in paths.iter().take(most) {
        let with = match with {
            0 => String::new(),
            count => format!(" (with {} below)", counted(*count, "entry")),
        };
        let _ = writeln!(out, "  {sign} {path}{with}");
    }
    rest(out, paths.len(), most);
}

fn rest(out: &mut String, count: usize, most: usize) {
    if count > most {
        let _ = writeln!(out, "  {}", dim(format!("… and {} more; -v shows all", count - most)));
    }
}
