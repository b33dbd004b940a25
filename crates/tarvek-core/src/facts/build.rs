//! Making a tree folder by folder.

use crate::facts::classes::{Class, Classes, Extras, Known, number};
use crate::facts::tree::{
    ELSEWHERE, FolderRecord, Listing, Node, NodeId, Stat, Target, Tree, UNIT, UNTOLD,
};
use crate::kernel::entry::{EntryKind, Meta, Project};
use crate::words::path::AbsPath;

/// One entry on its way into a tree.
#[derive(Clone, Debug, PartialEq)]
pub struct NewEntry {
    /// The last component of its path.
    pub name: Vec<u8>,
    /// What `stat(2)` said.
    pub meta: Meta,
    /// Where it points, for a symlink.
    pub target: Option<Vec<u8>>,
    /// ACLs and label.
    pub extras: Extras,
}

impl NewEntry {
    /// An entry without target or ACLs.
    pub fn plain(name: impl Into<Vec<u8>>, meta: Meta) -> Self {
        Self { name: name.into(), meta, target: None, extras: Extras::default() }
    }
}

/// One entry on its way into a tree that knows its class already.
#[derive(Clone, Copy, Debug)]
pub struct Row<'a> {
    pub name: &'a [u8],
    /// Its number among the classes of the tree.
    pub class: u32,
    /// Bytes.
    pub size: u64,
    /// Bytes of storage, where known.
    pub allocated: Option<u64>,
    /// Inode number, where known.
    pub inode: Option<u64>,
    /// Number of names.
    pub links: u32,
    /// Nanoseconds since 1970 UTC.
    pub modified: i64,
    /// Nanoseconds since 1970 UTC, where known.
    pub changed: Option<i64>,
    /// Where it points, for a symlink.
    pub target: Option<&'a [u8]>,
}

/// Makes a [`Tree`] folder by folder, or goes on with one that was read in part.
#[derive(Debug)]
pub struct TreeBuilder {
    tree: Tree,
    known: Known,
    /// Whether folders are deferred until they are filled.
    defers: bool,
}

impl TreeBuilder {
    /// Starts with what is known of the root folder.
    pub fn new(root: NewEntry) -> Self {
        let mut builder = Self { tree: Tree::default(), known: Known::default(), defers: false };
        builder.entry(0, NewEntry { name: Vec::new(), ..root });
        builder
    }

    /// Starts with the root folder, in a tree of known classes. `defers`: whether folders count as
    /// left where they are until they are filled.
    pub fn of_rows(classes: Classes, root: Row, defers: bool) -> Self {
        let mut builder = Self { tree: Tree::default(), known: classes.into(), defers };
        builder.row(0, root);
        builder
    }

    /// Goes on with a tree whose folders are deferred.
    pub fn more(mut tree: Tree) -> Self {
        let known = std::mem::take(&mut tree.classes).into();
        Self { tree, known, defers: true }
    }

    fn entry(&mut self, parent: u32, entry: NewEntry) {
        let NewEntry { name, meta, target, extras } = entry;
        let extras = self.known.extras(&extras);
        let class = self.known.class(Class::of(&meta, extras));
        let Meta { size, allocated, inode, links, modified, changed, .. } = meta;
        let target = target.as_deref();
        let row =
            Row { name: &name, class, size, allocated, inode, links, modified, changed, target };
        self.row(parent, row);
    }

    fn row(&mut self, parent: u32, row: Row) {
        let tree = &mut self.tree;
        let own = match self.known.all.class(row.class).kind {
            EntryKind::Folder => {
                tree.folders.push(FolderRecord {
                    first_child: 0,
                    child_count: 0,
                    links: row.links,
                    listing: Listing::NotListed,
                    deferred: self.defers,
                });
                number(tree.folders.len() - 1)
            }
            EntryKind::Symlink => {
                tree.targets.push(Target { links: row.links, text: row.target.map(Into::into) });
                number(tree.targets.len() - 1)
            }
            _ => row.links,
        };
        let node = number(tree.nodes.len());
        let units = match row.allocated {
            None => UNTOLD,
            Some(bytes) => match u32::try_from(bytes / UNIT) {
                Ok(units) if bytes % UNIT == 0 && units < ELSEWHERE => units,
                _ => {
                    tree.odd_storage.insert(node, bytes);
                    ELSEWHERE
                }
            },
        };
        tree.units.push(units);
        tree.stats.push(Stat {
            size: row.size,
            inode: row.inode.unwrap_or(u64::MAX),
            modified: row.modified,
            changed: row.changed.unwrap_or(i64::MIN),
        });
        let name_at = number(tree.names.len());
        tree.nodes.push(Node { parent, name_at, class: row.class, own });
        tree.names.extend_from_slice(row.name);
    }

    /// Puts everything that was seen in one folder into the tree, and says how complete that is. Of
    /// two entries with one name the later counts. Returns the numbers of the entries, in the order
    /// of their names.
    ///
    /// # Panics
    /// If the folder was filled before, or if the tree would pass 4 294 967 294 entries or 4 GiB of
    /// names.
    pub fn fill(
        &mut self,
        folder: NodeId,
        mut entries: Vec<NewEntry>,
        listing: Listing,
    ) -> Vec<NodeId> {
        if !entries.is_sorted_by(|a, b| a.name < b.name) {
            entries.sort_by(|a, b| a.name.cmp(&b.name));
            entries.reverse();
            entries.dedup_by(|a, b| a.name == b.name);
            entries.reverse();
        }
        let first = number(self.tree.nodes.len());
        for entry in entries {
            self.entry(folder.0, entry);
        }
        self.filled(folder, first, listing)
    }

    /// As [`TreeBuilder::fill`], of rows in the order of their names.
    pub fn fill_rows<'a>(
        &mut self,
        folder: NodeId,
        rows: impl IntoIterator<Item = Row<'a>>,
        listing: Listing,
    ) -> Vec<NodeId> {
        let first = number(self.tree.nodes.len());
        for row in rows {
            self.row(folder.0, row);
        }
        self.filled(folder, first, listing)
    }

    fn filled(&mut self, folder: NodeId, first: u32, listing: Listing) -> Vec<NodeId> {
        let tree = &mut self.tree;
        let end = number(tree.nodes.len());
        let node = tree.nodes[folder.0 as usize];
        if self.known.all.class(node.class).kind != EntryKind::Folder {
            assert!(first == end, "only folders hold something");
            return Vec::new();
        }
        let record = &mut tree.folders[node.own as usize];
        assert!(record.child_count == 0, "a folder is filled once");
        (record.first_child, record.child_count) = (first, end - first);
        (record.listing, record.deferred) = (listing, false);
        (first..end).map(NodeId).collect()
    }

    /// Notes the project of an entry.
    pub fn project(&mut self, node: NodeId, project: Project) {
        let node = &mut self.tree.nodes[node.0 as usize];
        let mut extras = self.known.all.extras_of(node.class).cloned().unwrap_or_default();
        extras.project = Some(project);
        let extras = self.known.extras(&extras);
        node.class = self.known.class(Class { extras, ..*self.known.all.class(node.class) });
    }

    /// What an entry is, so far.
    pub fn kind(&self, node: NodeId) -> EntryKind {
        self.known.all.class(self.tree.nodes[node.0 as usize].class).kind
    }

    /// What an entry is called, so far.
    pub fn name(&self, node: NodeId) -> &[u8] {
        self.tree.name(node)
    }

    /// Where an entry is, so far.
    pub fn path(&self, node: NodeId) -> AbsPath {
        self.tree.path(node)
    }

    /// The finished tree.
    pub fn finish(mut self) -> Tree {
        self.tree.classes = self.known.all;
        self.tree
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::facts::classes::NONE;
    use crate::facts::tree::Lookup;

    #[test]
    fn an_entry_comes_out_as_it_went_in() {
        let folder = Meta { links: 7, ..Meta::new(EntryKind::Folder, 0o2750, 0, 2100) };
        let mut builder = TreeBuilder::new(NewEntry::plain("", folder));
        let storage = [None, Some(0), Some(512), Some(513), Some(3 << 40), Some(u64::MAX)];
        let kinds = [EntryKind::File, EntryKind::Symlink, EntryKind::Folder, EntryKind::Fifo];
        let mut entries = Vec::new();
        for (n, allocated) in storage.into_iter().enumerate() {
            for kind in kinds {
                let meta = Meta {
                    allocated,
                    size: n as u64,
                    inode: (n > 0).then_some(n as u64),
                    device: (n > 1).then_some(n as u64 / 2),
                    links: n as u32 + 1,
                    modified: -(n as i64),
                    changed: (n > 2).then_some(n as i64),
                    ..Meta::new(kind, n as u16, n as u32, 7)
                };
                let mut entry = NewEntry::plain(format!("{n}{kind:?}"), meta);
                entry.target = (kind == EntryKind::Symlink && n > 0).then(|| vec![b'x'; n]);
                entry.extras.label = (n % 2 == 0).then(|| b"label".to_vec());
                entries.push(entry);
            }
        }
        entries.sort_by(|a, b| a.name.cmp(&b.name));
        let numbers = builder.fill(Tree::ROOT, entries.clone(), Listing::Complete);
        let project = Project { id: 4, inherits: true };
        builder.project(numbers[0], project);
        entries[0].extras.project = Some(project);
        let tree = builder.finish();
        for (node, entry) in tree.children(Tree::ROOT).zip(&entries) {
            let extras = tree.extras(node).cloned().unwrap_or_default();
            let target = tree.target(node).map(<[u8]>::to_vec);
            let name = tree.name(node).to_vec();
            assert_eq!(NewEntry { name, meta: tree.meta(node), target, extras }, *entry);
            assert_eq!(tree.lookup(Tree::ROOT, &entry.name), Lookup::Found(node));
        }
        assert_eq!((tree.len(), numbers.len()), (entries.len() + 1, entries.len()));
        assert_eq!(tree.meta(Tree::ROOT), folder);
    }

    #[test]
    fn what_is_deferred_is_noted_and_can_be_filled() {
        let folder = Meta::new(EntryKind::Folder, 0o755, 0, 0);
        let mut classes = Known::default();
        let class = classes.class(Class::of(&folder, NONE));
        let row = |name| Row {
            name,
            class,
            size: 0,
            allocated: None,
            inode: None,
            links: 2,
            modified: 0,
            changed: None,
            target: None,
        };
        let tree = TreeBuilder::of_rows(classes.all, row(b""), true).finish();
        assert_eq!(tree.lookup(Tree::ROOT, b"loft"), Lookup::Unseen);
        assert_eq!(tree.take_wanted().into_iter().collect::<Vec<_>>(), [Tree::ROOT]);
        let mut builder = TreeBuilder::more(tree);
        builder.fill_rows(Tree::ROOT, [row(b"etc"), row(b"loft")], Listing::Complete);
        let tree = builder.finish();
        let Lookup::Found(loft) = tree.lookup(Tree::ROOT, b"loft") else { panic!() };
        assert_eq!(tree.lookup(Tree::ROOT, b"home"), Lookup::Absent);
        assert_eq!(tree.take_wanted().len(), 0);
        assert_eq!((tree.children(loft).len(), tree.listing(loft)), (0, Listing::NotListed));
        assert_eq!(tree.take_wanted().into_iter().collect::<Vec<_>>(), [loft]);
    }
}
