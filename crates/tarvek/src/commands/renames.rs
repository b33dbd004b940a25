//! The review file of `forecast --renames`.

use std::path::Path;

use tarvek_core::check::outlook::Outlook;
use tarvek_core::forecast::renames::{Rename, renames};
use tarvek_core::site::join::Site;
use tarvek_core::used::names_in_use::NamesInUse;
use tarvek_core::words::place::Place;

use crate::inputs::write_new;
use crate::outcome::Failure;
use crate::view::csv::{self, Cell};

/// What could be renamed in some libraries.
pub(super) fn proposals(site: &Site, outlooks: &[Outlook]) -> Vec<Rename> {
    let mut all: Vec<Rename> = Vec::new();
    let names = NamesInUse::of(site);
    let is_in_use = |place: &Place| names.get().is_none_or(|names| names.has(place));
    for outlook in outlooks {
        let Outlook { kind, forecast, regions, .. } = outlook;
        for rename in renames(site, *kind, forecast, regions, is_in_use) {
            // Two libraries may have one folder.
            if !all.contains(&rename) {
                all.push(rename);
            }
        }
    }
    all
}

/// Writes them for a person to look through.
///
/// # Errors
/// If the file is there already, or can't be written.
pub(super) fn write(file: &Path, renames: &[Rename]) -> Result<(), Failure> {
    let rows = renames.iter().map(|rename| {
        vec![
            Cell::Path(&rename.old.path),
            Cell::Path(&rename.new),
            Cell::Text(rename.why.clone()),
            Cell::Text(rename.old.host.raw().to_owned()),
            Cell::Bytes(&rename.old.path),
        ]
    });
    let text = csv::text(&["old", "new", "why", "host", "old_bytes"], rows);
    write_new(file, &text)
}
