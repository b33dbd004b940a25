//! Files of equal bytes: which one to keep, and what to do about the others.

use std::cmp::Reverse;
use std::collections::HashSet;

use crate::forecast::filed::season_of;
use crate::forecast::key::key;
use crate::forecast::reading::{read_show, split_ending};
use crate::waste::group::{Group, Item, Suggest, Waste};
use crate::waste::inventory::{FileId, Inventory, NameAt, Role};
use crate::waste::pattern::{Patterns, Sort};
use crate::waste::readers::change_as_link;
use crate::words::path::AbsPath;
use crate::words::text::counted;

/// How well a file is kept where it is; the greatest stays.
pub(super) type Rank =
    (bool, bool, u8, u8, bool, bool, usize, Reverse<i64>, Reverse<usize>, Reverse<AbsPath>);

/// The rank of a file by the best of its names.
pub(super) fn rank(stock: &Inventory, file: FileId, shared: bool) -> Rank {
    let names = stock.names(file);
    let meta = stock.meta(file);
    let elsewhere = meta.links as usize > names.len();
    let of_name = |name: &NameAt| {
        let path = stock.path(*name);
        let role = match stock.area(*name).role {
            Role::Library => 2,
            Role::Given => 1,
            Role::Intake => 0,
        };
        let last = stock.name(*name);
        let length = last.len();
        (role, filed(stock, *name), !is_numbered(last), Reverse(length), Reverse(path))
    };
    let best = names.iter().map(of_name).max().expect("a file has a name");
    let (role, filed, plain, length, path) = best;
    // What nobody can change can't be taken either.
    let fixed = meta.flags.is_some_and(|flags| flags.immutable || flags.append);
    (
        fixed,
        elsewhere && role > 0,
        role,
        filed,
        shared,
        plain,
        names.len(),
        Reverse(meta.modified),
        length,
        path,
    )
}

/// Whether a name is filed in its proper folder: 2 where the folder bears its title or season, 1 in
/// any folder, 0 loose at the top.
fn filed(stock: &Inventory, name: NameAt) -> u8 {
    let tree = stock.tree(name);
    let parent = tree.parent(name.node);
    if stock.area(name).place.path == tree.path(parent) {
        return 0;
    }
    let folder = String::from_utf8_lossy(tree.name(parent)).into_owned();
    if season_of(&folder).is_some() {
        return 2;
    }
    let text = String::from_utf8_lossy(stock.name(name));
    let own = key(&read_show(split_ending(&text).0).title);
    let folder = key(&read_show(&folder).title);
    if !own.is_empty() && own == folder { 2 } else { 1 }
}

/// What desktops call the second of two: `film (1).mkv`, `film - Copy.mkv`, `Copy of film.mkv`.
fn is_numbered(name: &[u8]) -> bool {
    let text = String::from_utf8_lossy(name).to_lowercase();
    let (stem, _) = split_ending(&text);
    let stem = stem.trim_end();
    let numbered = stem
        .strip_suffix(')')
        .and_then(|stem| stem.rsplit_once('('))
        .is_some_and(|(_, n)| (1..=2).contains(&n.len()) && n.bytes().all(|b| b.is_ascii_digit()));
    numbered || stem.ends_with(" copy") || stem.ends_with("- copy") || stem.starts_with("copy of ")
}

/// The names of a file that no other group has.
pub(super) fn free_names<'a>(
    stock: &'a Inventory,
    file: FileId,
    taken: &'a HashSet<NameAt>,
) -> impl Iterator<Item = NameAt> + 'a {
    stock.names(file).iter().copied().filter(|name| !taken.contains(name))
}

/// The group of some files with equal bytes; `None` if fewer than two have a name that no other
/// group has.
pub(super) fn copies(
    stock: &Inventory,
    patterns: &Patterns,
    files: &[FileId],
    digest: [u8; 32],
    taken: &HashSet<NameAt>,
    is_shared: &dyn Fn(FileId) -> bool,
) -> Option<Group> {
    let mut files: Vec<FileId> = files
        .iter()
        .copied()
        .filter(|file| free_names(stock, *file, taken).next().is_some())
        .collect();
    if files.len() < 2 {
        return None;
    }
    files.sort_by_cached_key(|file| Reverse(rank(stock, *file, is_shared(*file))));
    let is_unlinked = unlinked(stock, &files);
    let kind = if is_unlinked { Waste::Unlinked } else { Waste::Copy };
    let mut keep = files[0];
    if is_unlinked && let Some(other) = better_source(stock, &files) {
        keep = other;
    }
    let mut items: Vec<Item> =
        free_names(stock, keep, taken).map(|name| Item::new(name, Suggest::Keep, "")).collect();
    for &file in files.iter().filter(|file| **file != keep) {
        let of = |name: NameAt| {
            let (suggest, why) = suggest(stock, patterns, keep, file, name);
            Item::new(name, suggest, why)
        };
        items.extend(free_names(stock, file, taken).map(of));
    }
    let why = match kind {
        Waste::Unlinked => {
            "the library's file is a copy of the intake's; it should be a link".to_owned()
        }
        _ => format!("{} of equal bytes", counted(files.len() as u64, "file")),
    };
    Some(Group::new(kind, &[&digest], why, items))
}

/// The names of a file outside of a title that has equal bytes with one of its files: with the one
/// that is kept, or with another.
pub(super) fn beside(
    stock: &Inventory,
    patterns: &Patterns,
    keep: Option<FileId>,
    file: FileId,
    taken: &HashSet<NameAt>,
) -> Vec<Item> {
    let of = |name| match keep {
        Some(keep) => {
            let (suggest, why) = suggest(stock, patterns, keep, file, name);
            Item::new(name, suggest, why)
        }
        None => Item::new(name, Suggest::Look, "the same bytes as a version that may go"),
    };
    free_names(stock, file, taken).map(of).collect()
}

fn role(stock: &Inventory, file: FileId, role: Role) -> bool {
    stock.names(file).iter().any(|name| stock.area(*name).role == role)
}

/// Whether some files are a copy in an intake of what lies in a library, on one filesystem.
fn unlinked(stock: &Inventory, files: &[FileId]) -> bool {
    let of = |wanted, but| {
        files.iter().filter(move |file| role(stock, **file, wanted) && !role(stock, **file, but))
    };
    let device = |file: &FileId| stock.device(stock.names(*file)[0]);
    of(Role::Library, Role::Intake).any(|filed| {
        device(filed).is_some()
            && of(Role::Intake, Role::Library).any(|came| device(came) == device(filed))
    })
}

/// Of a library's file and an intake's the one whose permissions let everyone read who could read
/// either, if that is the intake's.
fn better_source(stock: &Inventory, files: &[FileId]) -> Option<FileId> {
    let filed = *files.iter().find(|file| role(stock, **file, Role::Library))?;
    let came = *files.iter().find(|file| role(stock, **file, Role::Intake))?;
    let lose = |old: FileId, new: FileId| {
        stock
            .names(old)
            .iter()
            .any(|name| change_as_link(stock, *name, new).no_longer_read().next().is_some())
    };
    (lose(came, filed) && !lose(filed, came)).then_some(came)
}

/// What to do about one name of a file, if another one of equal bytes is kept.
fn suggest(
    stock: &Inventory,
    patterns: &Patterns,
    keep: FileId,
    file: FileId,
    name: NameAt,
) -> (Suggest, String) {
    let kept = stock.names(keep)[0];
    if kept.host != name.host {
        return (Suggest::Look, "it lies on another host, and may be there for safety".to_owned());
    }
    match (stock.device(kept), stock.device(name)) {
        (Some(one), Some(other)) if one == other => {}
        (Some(_), Some(_)) => {
            return (
                Suggest::Look,
                "it lies on another filesystem, and may be there for safety".to_owned(),
            );
        }
        _ => {
            return (Suggest::Look, "nobody knows whether both lie on one filesystem".to_owned());
        }
    }
    let meta = stock.meta(file);
    if meta.flags.is_some_and(|flags| flags.immutable || flags.append) {
        return (Suggest::Look, "its flags let nobody take it away (chattr)".to_owned());
    }
    let (area, of_kept) = (stock.area(name), stock.area(kept));
    let last = stock.name(name);
    let sidecar = patterns.sort(last, false) == Some(Sort::Sidecar);
    let same_folder = stock.tree(name).parent(name.node) == stock.tree(kept).parent(kept.node);
    let both_served = area.role == Role::Library && of_kept.role == Role::Library;
    let to_link = area.role == Role::Intake
        || both_served && area.name != of_kept.name
        || sidecar && !same_folder
        || of_kept.role == Role::Intake;
    if !to_link {
        return (Suggest::Drop, String::new());
    }
    if let Some(why) = unlinkable(stock, kept, name) {
        return (Suggest::Look, why);
    }
    let change = change_as_link(stock, name, keep);
    let mut losers = change.no_longer_read();
    match losers.next() {
        None if !change.is_for_somebody() => (Suggest::Link, String::new()),
        None => {
            let why =
                format!("as a link {}: reclaim does it with --accept-rights", change.for_whom());
            (Suggest::Link, why)
        }
        Some(first) => {
            let more = match losers.count() {
                0 => String::new(),
                more => format!(" and {more} more"),
            };
            (Suggest::Look, format!("as a link {first}{more} could no longer read it"))
        }
    }
}

/// Why a name can't become one of a file: `link(2)` goes from one mount and project to the same.
fn unlinkable(stock: &Inventory, kept: NameAt, name: NameAt) -> Option<String> {
    if let Some(table) = &stock.facts(name).mounts {
        let mount = |name| table.at(&stock.path(name)).map(|mount| mount.id);
        if mount(kept) != mount(name) {
            return Some(
                "it lies on another mount of the same filesystem: no link leads there".to_owned(),
            );
        }
    }
    let tree = stock.tree(name);
    let into = tree.project(tree.parent(name.node)).filter(|project| project.inherits);
    let of = tree.project(kept.node).map_or(0, |project| project.id);
    into.is_some_and(|into| into.id != of)
        .then(|| "it lies in another project, into which no link leads".to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn second_names_of_desktops() {
        for (name, is) in [
            ("film (1).mkv", true),
            ("film (2011).mkv", false),
            ("film - Copy.mkv", true),
            ("film copy.mkv", true),
            ("Copy of film.mkv", true),
            ("film.mkv", false),
        ] {
            assert_eq!(is_numbered(name.as_bytes()), is, "{name}");
        }
    }
}
