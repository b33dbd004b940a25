//! The review file of `forecast --renames`.

use std::path::Path;

use tarvek_core::check::outlook::Outlook;
use tarvek_core::forecast::renames::{Rename, renames};
use tarvek_core::site::join::Site;

use crate::inputs::write_new;
use crate::outcome::Failure;
use crate::view::csv::{self, Cell};

/// What could be renamed in some libraries.
pub(super) fn proposals(site: &Site, outlooks: &[Outlook]) -> Vec<Rename> {
    let mut all: Vec<Rename> = Vec::new();
    for outlook in outlooks {
        for rename in renames(site, outlook.kind, &outlook.forecast, &outlook.regions) {
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
