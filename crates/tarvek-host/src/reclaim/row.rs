//! A line of a review against what is on disk.

use std::collections::HashSet;

use tarvek_core::facts::tree::HELD;
use tarvek_core::kernel::entry::{EntryKind, Meta};
use tarvek_core::waste::group::{Waste, is_id_of};
use tarvek_core::waste::inventory::LOST_AND_FOUND;
use tarvek_core::waste::pattern::Patterns;
use tarvek_core::waste::versions::title_at;
use tarvek_core::words::path::{AbsPath, components};
use tarvek_core::words::text::shown;
use tarvek_core::words::word::Word;
use tarvek_formats::review::{Row, device, moment, seal};

use super::entry::{Location, Pinned, names_in};
use super::journal::Intent;
use super::step::SiteKnowledge;

/// Files of which a ctime is known to be one's own work: filesystem, inode, ctime.
pub(super) type OwnChanges = HashSet<(String, u64, i64)>;

/// Whether a line may be believed: it is of this machine, has been changed in nothing but its
/// decision, and lies where it says.
///
/// # Errors
/// Why not.
pub(super) fn check_line(row: &Row, host: &str, site: &dyn SiteKnowledge) -> Result<Waste, String> {
    if !row.host.is_empty() && row.host != host {
        return Err(format!("it is a file of {}: run reclaim there", shown(row.host.as_bytes())));
    }
    let kind = Waste::named(&row.kind)
        .ok_or_else(|| format!("{:?} is no kind of waste", shown(row.kind.as_bytes())))?;
    if row.group.is_empty() {
        return Err(
            "the line names no group, so that nothing is known to be kept for it".to_owned()
        );
    }
    if let Some(root) = &row.root
        && (row.path == *root || !row.path.within(root))
    {
        return Err(format!("it does not lie in {root}, the folder that was reviewed"));
    }
    let root = row.root.clone().or_else(|| row.path.parent()).unwrap_or_else(AbsPath::root);
    let mut within = components(row.path.below(&root).unwrap_or_default());
    let is_held = row.path.components().any(|name| name == HELD.as_bytes());
    if is_held || within.any(|name| name == LOST_AND_FOUND) {
        return Err("it lies in a folder that nothing is taken from".to_owned());
    }
    let own_host = if row.host.is_empty() { host } else { &row.host };
    match row.seal.as_str() {
        // Without it, what the line says of its group and folder has to be true by itself. Where it
        // names no folder either, nothing is touched but the one that the file lies in, and only
        // for what is there once more.
        "" if (row.root.is_some() || !kind.needs_keeper()) && !site.is_of_layout(&root) => {
            return Err(format!(
                "its line has no seal, and {root} is no folder of the layout: nothing says that \
                 anybody asked for it"
            ));
        }
        "" if !is_id_of(&row.group, kind, own_host, &row.path, &row.digest) => {
            return Err(
                "its line has no seal, and its group is not one that it can belong to".to_owned()
            );
        }
        "" => {}
        written if written == seal(row) => {}
        _ => {
            return Err(
                "more than the decision was changed in its line since it was reviewed: put it \
                 back, or review it again"
                    .to_owned(),
            );
        }
    }
    Ok(kind)
}

/// Whether a file is still what its line says.
///
/// # Errors
/// What has changed.
pub(super) fn check_file(
    row: &Row,
    kind: Waste,
    file: &Pinned,
    own: &OwnChanges,
) -> Result<(), String> {
    let meta = &file.meta;
    if meta.kind == EntryKind::Symlink {
        return Err("a symlink took its place".to_owned());
    }
    if row.inode.is_none() || row.device.is_none() && row.filesystem.is_empty() {
        return Err("the line does not say which file it was (device, inode)".to_owned());
    }
    if row.inode != meta.inode || !is_on_filesystem(row, file) {
        return Err("another file took its place".to_owned());
    }
    match meta.kind {
        // What was in it is gone by now.
        EntryKind::Folder => return Ok(()),
        EntryKind::File => {}
        _ => return Err("it is no regular file".to_owned()),
    }
    check_times(row, meta)?;
    if !matches!(kind, Waste::Leftover | Waste::Hollow) || !row.digest.is_empty() {
        return Ok(());
    }
    // Nothing is kept for it that its bytes could be compared with.
    let changed = meta.changed.unwrap_or(0);
    let is_own =
        || own.contains(&(file.filesystem.as_str().to_owned(), meta.inode.unwrap_or(0), changed));
    match row.changed.as_str() {
        "" => Err("the line does not say when it last changed (ctime)".to_owned()),
        written if written == moment(changed) || is_own() => Ok(()),
        _ => Err("it was changed since (ctime)".to_owned()),
    }
}

/// Device numbers change; where the filesystem is known by more, that counts.
fn is_on_filesystem(row: &Row, file: &Pinned) -> bool {
    match row.filesystem.as_str() {
        "" => row.device == device(&file.meta),
        written if written == file.filesystem.as_str() => true,
        written => row.device == device(&file.meta) && file.filesystem.may_be(written),
    }
}

fn check_times(row: &Row, meta: &Meta) -> Result<(), String> {
    match row.bytes {
        None => return Err("the line does not say how many bytes it had".to_owned()),
        Some(bytes) if bytes != meta.size => {
            return Err(format!("it has {} bytes now, and had {bytes}", meta.size));
        }
        Some(_) => {}
    }
    match row.modified.as_str() {
        "" => Err("the line does not say when it was written (mtime)".to_owned()),
        written if written == moment(meta.modified) => Ok(()),
        _ => Err("it was written to since".to_owned()),
    }
}

/// Whether a step was done for just this line: all of it, not only the path.
pub(super) fn is_line_of(row: &Row, intent: &Intent) -> bool {
    let was = &intent.was;
    let is_same_file =
        was.folder || row.bytes == Some(was.size) && row.modified == moment(was.modified);
    row.path == intent.path.0
        && row.inode == Some(was.inode)
        && (row.filesystem.is_empty() || row.filesystem == was.filesystem)
        && is_same_file
        && row.group == intent.group
        && row.kind == intent.kind
}

/// The title that a film or episode is by its own name and those of its folders, as they are on
/// disk.
pub(super) fn title_of(row: &Row, location: &Location, site: &dyn SiteKnowledge) -> Option<String> {
    let text = |name: &[u8]| String::from_utf8_lossy(name).into_owned();
    let parent = row.path.parent()?;
    let root = row.root.as_ref().unwrap_or(&parent);
    let folders: Vec<String> = components(parent.below(root)?).map(text).collect();
    let patterns = Patterns::new(&[]);
    let names: Vec<String> = names_in(&location.folder)
        .ok()?
        .iter()
        .filter(|name| patterns.sort(name, false).is_none())
        .map(|name| text(name))
        .collect();
    title_at(site.kind_at(&row.path), &folders, &names, &text(&location.name))
}
