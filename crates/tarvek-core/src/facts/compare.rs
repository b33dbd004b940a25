//! What differs between two looks at one host.

use std::collections::BTreeSet;

use crate::facts::host::{Document, HostFacts};
use crate::facts::mounts::{FstabEntry, MountEntry};
use crate::facts::tree::{Listing, Lookup, NodeId, Tree};
use crate::kernel::entry::{EntryKind, Flags, Project};
use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::terms::Account;
use crate::words::text::shown;

/// An entry that differs, and in what.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Differing {
    /// The entry.
    pub path: AbsPath,
    /// Field, value before, value after.
    pub fields: Vec<(&'static str, String, String)>,
}

/// Lines of one table of the host that came or went.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TableChange {
    /// `mount`, `account`, `group`, `fstab`, or the name of a document.
    pub table: Name,
    /// Only in the new one.
    pub added: Vec<String>,
    /// Only in the old one.
    pub removed: Vec<String>,
}

/// Everything that differs.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Differences {
    /// Entries that are only in the new one; of a new folder only the folder itself, with how much
    /// it holds.
    pub appeared: Vec<(AbsPath, u64)>,
    /// Entries that are only in the old one, likewise.
    pub vanished: Vec<(AbsPath, u64)>,
    /// Entries in both that differ.
    pub changed: Vec<Differing>,
    /// Tables of the host that differ.
    pub tables: Vec<TableChange>,
}

impl Differences {
    /// Whether nothing differs.
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }
}

/// Documents that differ each time somebody looks.
const RESTLESS: &[&str] = &["capacity", "lacking", "processes"];

/// Compares two looks. What only one of them looked at is no difference, and neither is the space
/// that is left.
pub fn compare(old: &HostFacts, new: &HostFacts) -> Differences {
    let mut differences = Differences::default();
    trees(old, new, &mut differences);
    let mounts = |facts: &HostFacts| {
        facts.mounts.iter().flat_map(|table| table.entries()).map(mount_line).collect::<Vec<_>>()
    };
    let accounts = |facts: &HostFacts| {
        let line = |a: &Account| {
            let gid = a.gid.map_or_else(|| "-".to_owned(), |gid| gid.to_string());
            let groups = match a.groups.as_slice() {
                [] => String::new(),
                groups => {
                    let names: Vec<&str> = groups.iter().map(Name::raw).collect();
                    format!(" groups {}", names.join(","))
                }
            };
            format!("{} uid {} gid {gid}{groups}", a.name.raw(), a.uid)
        };
        facts.accounts.iter().map(line).collect::<Vec<_>>()
    };
    let groups = |facts: &HostFacts| {
        facts.groups.iter().map(|g| format!("{} gid {}", g.name.raw(), g.gid)).collect::<Vec<_>>()
    };
    let fstab = |facts: &HostFacts| {
        let line = |l: &FstabEntry| {
            format!("{} {} {} {}", l.source.raw(), l.point, l.filesystem.raw(), l.options)
        };
        facts.fstab.iter().map(line).collect::<Vec<_>>()
    };
    let mut table = |name: &str, before: Vec<String>, after: Vec<String>| {
        let (before, after): (BTreeSet<_>, BTreeSet<_>) =
            (before.into_iter().collect(), after.into_iter().collect());
        if before != after {
            differences.tables.push(TableChange {
                table: name.into(),
                added: after.difference(&before).cloned().collect(),
                removed: before.difference(&after).cloned().collect(),
            });
        }
    };
    table("mount", mounts(old), mounts(new));
    table("fstab", fstab(old), fstab(new));
    table("account", accounts(old), accounts(new));
    table("group", groups(old), groups(new));
    for before in old.documents.iter().filter(|document| !RESTLESS.contains(&document.name.raw())) {
        let lines = |document: &Document| document.text.lines().map(str::to_owned).collect();
        if let Some(after) = new.documents.iter().find(|after| after.name == before.name) {
            table(before.name.raw(), lines(before), lines(after));
        }
    }
    differences
}

/// Without the numbers that the kernel gives anew at each boot.
fn mount_line(entry: &MountEntry) -> String {
    format!(
        "{} {} on {} {} {}",
        entry.filesystem,
        shown(&entry.source),
        entry.point,
        shown(&entry.root),
        entry.options
    )
}

fn trees(before: &HostFacts, after: &HostFacts, differences: &mut Differences) {
    let both_tell = |what| before.told.lacks(what).is_none() && after.told.lacks(what).is_none();
    let told = Tells { acls: both_tell("acl"), marks: both_tell("marks") };
    let (old, new) = (&before.tree, &after.tree);
    let mut todo = vec![(Tree::ROOT, Tree::ROOT)];
    while let Some((before, after)) = todo.pop() {
        let fields = fields(old, before, new, after, told);
        if !fields.is_empty() {
            differences.changed.push(Differing { path: new.path(after), fields });
        }
        // An absence counts only where the folder was read to its end.
        let whole = |tree: &Tree, folder| tree.listing(folder) == Listing::Complete;
        if whole(new, after) {
            for child in old.children(before) {
                if !matches!(new.lookup(after, old.name(child)), Lookup::Found(_)) {
                    differences.vanished.push((old.path(child), old.count_below(child)));
                }
            }
        }
        for child in new.children(after) {
            match old.lookup(before, new.name(child)) {
                Lookup::Found(then) => todo.push((then, child)),
                Lookup::Absent => {
                    differences.appeared.push((new.path(child), new.count_below(child)))
                }
                Lookup::Unseen => {}
            }
        }
    }
    differences.appeared.sort();
    differences.vanished.sort();
    differences.changed.sort_by(|a, b| a.path.cmp(&b.path));
}

/// What both looks can tell; one on a box without the tools can tell less.
#[derive(Clone, Copy)]
struct Tells {
    acls: bool,
    marks: bool,
}

fn fields(
    old: &Tree,
    before: NodeId,
    new: &Tree,
    after: NodeId,
    told: Tells,
) -> Vec<(&'static str, String, String)> {
    let (a, b) = (old.meta(before), new.meta(after));
    let mut fields = Vec::new();
    let mut field = |name, before: String, after: String| {
        if before != after {
            fields.push((name, before, after));
        }
    };
    field("type", a.kind.word().into(), b.kind.word().into());
    field("owner", format!("{}:{}", a.uid, a.gid), format!("{}:{}", b.uid, b.gid));
    field("mode", format!("{:04o}", a.mode), format!("{:04o}", b.mode));
    let acl = |tree: &Tree, node, default: bool| {
        let acl = tree
            .extras(node)
            .and_then(|e| if default { e.default_acl.as_ref() } else { e.acl.as_ref() });
        acl.map_or_else(|| "none".to_owned(), ToString::to_string)
    };
    if told.acls {
        field("acl", acl(old, before, false), acl(new, after, false));
        field("default-acl", acl(old, before, true), acl(new, after, true));
    }
    if a.kind == EntryKind::File && b.kind == EntryKind::File {
        field("size", a.size.to_string(), b.size.to_string());
        field("contents-changed", seconds(a.modified), seconds(b.modified));
    }
    let target = |tree: &Tree, node| tree.target(node).map(shown).unwrap_or_default();
    field("target", target(old, before), target(new, after));
    if let (Some(a), Some(b)) = (a.flags, b.flags) {
        let words = |flags: Flags| match (flags.immutable, flags.append) {
            (false, false) => "none",
            (true, false) => "immutable",
            (false, true) => "append-only",
            (true, true) => "immutable, append-only",
        };
        field("flags", words(a).into(), words(b).into());
    }
    if told.marks {
        let label = |tree: &Tree, node| {
            let label = tree.extras(node).and_then(|extras| extras.label.as_deref());
            label.map_or_else(|| "none".to_owned(), shown)
        };
        field("label", label(old, before), label(new, after));
        let nfs4 = |tree: &Tree, node| {
            let acl = tree.extras(node).and_then(|extras| extras.nfs4_acl.as_ref());
            acl.map_or_else(|| "none".to_owned(), ToString::to_string)
        };
        field("nfs4-acl", nfs4(old, before), nfs4(new, after));
    }
    if let (Some(a), Some(b)) = (old.project(before), new.project(after)) {
        let words = |p: Project| format!("{}{}", p.id, if p.inherits { ", inherited" } else { "" });
        field("project", words(a), words(b));
    }
    fields
}

fn seconds(nanoseconds: i64) -> String {
    nanoseconds.div_euclid(1_000_000_000).to_string()
}
