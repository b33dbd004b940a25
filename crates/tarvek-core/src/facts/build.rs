//! Making a tree folder by folder, and bringing one that was seen before up to date.

use std::collections::HashMap;

use crate::facts::tree::{Extras, Listing, NONE, Node, NodeId, Packed, Tree};
use crate::kernel::entry::{EntryKind, Meta, Project};

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
    /// Target and extras are those that the tree knows for this name already.
    pub as_before: bool,
}

impl NewEntry {
    /// An entry without target or ACLs.
    pub fn plain(name: impl Into<Vec<u8>>, meta: Meta) -> Self {
        let (target, extras) = (None, Extras::default());
        Self { name: name.into(), meta, target, extras, as_before: false }
    }

    /// An entry whose inode has not changed since it was seen before.
    pub fn as_before(name: impl Into<Vec<u8>>, meta: Meta) -> Self {
        Self { as_before: true, ..Self::plain(name, meta) }
    }
}

/// What a tree, brought up to date, differs in from what it was. Entries of a folder whose names have changed get new numbers.
#[derive(Clone, Debug, Default)]
pub struct Renewal {
    /// How many numbers were taken before.
    first: u32,
    /// For each later number the one that the entry had before, or `NONE`.
    origins: Vec<u32>,
    changed: Vec<NodeId>,
    removed: Vec<NodeId>,
}

impl Renewal {
    /// Every entry that got a new number, in order, and the one that it had before, if it was there.
    pub fn numbered(&self) -> impl Iterator<Item = (NodeId, Option<NodeId>)> + '_ {
        let old = |old: u32| (old != NONE).then_some(NodeId(old));
        (self.first..).map(NodeId).zip(self.origins.iter().map(move |&origin| old(origin)))
    }

    /// Entries that were there before and differ, each once.
    pub fn changed(&self) -> &[NodeId] {
        &self.changed
    }

    /// Entries that are gone, with everything below them, by the numbers that they had.
    pub fn removed(&self) -> &[NodeId] {
        &self.removed
    }
}

/// What a tree knows of one folder already.
#[derive(Clone, Debug)]
pub struct Earlier {
    names: Vec<u8>,
    entries: Vec<(usize, NodeId, Meta)>,
    /// Whether these were all.
    pub listing: Listing,
}

impl Default for Earlier {
    fn default() -> Self {
        Self { names: Vec::new(), entries: Vec::new(), listing: Listing::NotListed }
    }
}

impl Earlier {
    /// How many entries.
    pub fn len(&self) -> usize {
        self.entries.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.entries.is_empty()
    }

    /// The name, number and metadata of an entry; they are sorted by name.
    pub fn entry(&self, index: usize) -> (&[u8], NodeId, &Meta) {
        let start = if index == 0 { 0 } else { self.entries[index - 1].0 };
        let (end, node, meta) = &self.entries[index];
        (&self.names[start..*end], *node, meta)
    }

    /// Where a name stands.
    pub fn find(&self, name: &[u8]) -> Option<usize> {
        let (mut low, mut high) = (0, self.entries.len());
        while low < high {
            let middle = usize::midpoint(low, high);
            match self.entry(middle).0.cmp(name) {
                std::cmp::Ordering::Less => low = middle + 1,
                std::cmp::Ordering::Equal => return Some(middle),
                std::cmp::Ordering::Greater => high = middle,
            }
        }
        None
    }
}

/// Makes a [`Tree`], or brings one up to date, folder by folder.
#[derive(Debug)]
pub struct TreeBuilder {
    tree: Tree,
    /// Most entries of a tree share a handful of ACLs and labels.
    known: HashMap<Extras, u32>,
    /// The number of each device.
    devices: HashMap<u64, u16>,
    renewal: Renewal,
}

impl TreeBuilder {
    /// Starts with what is known of the root folder.
    pub fn new(root: NewEntry) -> Self {
        let tree = Tree {
            nodes: Vec::new(),
            names: Vec::new(),
            targets: Vec::new(),
            extras: Vec::new(),
            devices: Vec::new(),
            dropped: 0,
        };
        let mut builder = Self {
            tree,
            known: HashMap::new(),
            devices: HashMap::new(),
            renewal: Renewal::default(),
        };
        builder.add(0, NewEntry { name: Vec::new(), ..root });
        builder
    }

    /// Goes on with a tree that was seen before. What is not filled again stays as it was.
    pub fn renew(tree: Tree) -> Self {
        let known = tree.extras.iter().cloned().zip(0..).collect();
        let renewal = Renewal { first: number(tree.nodes.len()), ..Renewal::default() };
        Self { tree, known, devices: HashMap::new(), renewal }
    }

    fn add(&mut self, parent: u32, entry: NewEntry) {
        let target = self.target(entry.target);
        let extras = self.known(entry.extras);
        let meta = self.pack(&entry.meta);
        self.tree.nodes.push(Node {
            parent,
            name_at: number(self.tree.names.len()),
            name_len: u16::try_from(entry.name.len()).expect("a name fits in 64 KiB"),
            listing: Listing::NotListed,
            first_child: 0,
            child_count: 0,
            target,
            extras,
            meta,
        });
        self.tree.names.extend_from_slice(&entry.name);
    }

    fn target(&mut self, target: Option<Vec<u8>>) -> u32 {
        let Some(target) = target else { return NONE };
        self.tree.targets.push(target);
        number(self.tree.targets.len() - 1)
    }

    fn known(&mut self, extras: Extras) -> u32 {
        if extras == Extras::default() {
            return NONE;
        }
        let all = &mut self.tree.extras;
        *self.known.entry(extras).or_insert_with_key(|extras| {
            all.push(extras.clone());
            number(all.len() - 1)
        })
    }

    /// Where a device's number is kept. Of more filesystems than can be told apart (`u16::MAX`) the rest are not known.
    fn device(&mut self, device: u64) -> u16 {
        let all = &mut self.tree.devices;
        // The last one is the likeliest: a folder's entries mostly share it.
        if all.last() == Some(&device) {
            return number(all.len() - 1) as u16;
        }
        if self.devices.is_empty() {
            self.devices.extend(all.iter().copied().zip(0..));
        }
        let next = u16::try_from(all.len()).unwrap_or(u16::MAX);
        *self.devices.entry(device).or_insert_with(|| {
            if next < u16::MAX {
                all.push(device);
            }
            next
        })
    }

    fn pack(&mut self, meta: &Meta) -> Packed {
        let device = meta.device.map_or(u16::MAX, |device| self.device(device));
        Packed {
            size: meta.size,
            allocated: meta.allocated.unwrap_or(u64::MAX),
            inode: meta.inode.unwrap_or(u64::MAX),
            modified: meta.modified,
            changed: meta.changed.unwrap_or(i64::MIN),
            uid: meta.uid,
            gid: meta.gid,
            links: meta.links,
            device,
            mode: meta.mode,
            kind: meta.kind,
            flags: meta
                .flags
                .map_or(0, |f| 1 | u8::from(f.immutable) << 1 | u8::from(f.append) << 2),
        }
    }

    /// What is known of a folder so far.
    pub fn earlier(&self, folder: NodeId, into: &mut Earlier) {
        into.names.clear();
        into.entries.clear();
        into.listing = self.tree.listing(folder);
        for child in self.tree.children(folder) {
            into.names.extend_from_slice(self.tree.name(child));
            into.entries.push((into.names.len(), child, self.tree.meta(child)));
        }
    }

    /// Puts everything that was seen in one folder into the tree, and says how complete that is. Of two entries with
    /// one name the later counts. What the folder held before and holds no more goes; a folder that stays keeps what is
    /// below it until it is filled itself. Returns the numbers of the entries, in the order of their names.
    ///
    /// # Panics
    /// If the tree would pass 4 294 967 294 entries or 4 GiB of names.
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
        if self.tree.node(folder).listing != listing {
            self.tree.nodes[folder.0 as usize].listing = listing;
            self.differs(folder);
        }
        let old: Vec<NodeId> = self.tree.children(folder).collect();
        let same_names = old.len() == entries.len()
            && old.iter().zip(&entries).all(|(&old, new)| self.tree.name(old) == new.name);
        if same_names {
            for (&node, entry) in old.iter().zip(entries) {
                self.amend(node, entry);
            }
            return old;
        }
        let first = number(self.tree.nodes.len());
        let count = number(entries.len());
        let mut old = old.into_iter().peekable();
        for entry in entries {
            while let Some(gone) = old.next_if(|&old| self.tree.name(old) < entry.name.as_slice()) {
                self.remove(gone);
            }
            let origin = old.next_if(|&old| self.tree.name(old) == entry.name);
            match origin {
                Some(origin) => self.renumber(origin, entry),
                None => self.add(folder.0, entry),
            }
            if self.renewal.first > 0 {
                self.renewal.origins.push(origin.map_or(NONE, |origin| origin.0));
            }
        }
        for gone in old {
            self.remove(gone);
        }
        let node = &mut self.tree.nodes[folder.0 as usize];
        node.first_child = first;
        node.child_count = count;
        (first..first + count).map(NodeId).collect()
    }

    /// Gives an entry that stays the next number, so that it stands among its neighbours.
    fn renumber(&mut self, old: NodeId, entry: NewEntry) {
        let node = self.tree.node(old).clone();
        let new = NodeId(number(self.tree.nodes.len()));
        for child in self.tree.children(old) {
            self.tree.nodes[child.0 as usize].parent = new.0;
        }
        self.tree.nodes.push(node);
        self.tree.dropped += 1;
        self.amend(new, entry);
    }

    /// Brings one entry up to date.
    pub fn amend(&mut self, node: NodeId, entry: NewEntry) {
        let before = self.tree.node(node);
        let kept = entry.as_before
            || (self.tree.target(node) == entry.target.as_deref()
                && self.tree.extras(node).unwrap_or(&Extras::default()) == &entry.extras);
        let (target, extras) = (before.target, before.extras);
        if kept && self.tree.meta(node) == entry.meta {
            return;
        }
        let held_something = before.child_count > 0 || before.listing != Listing::NotListed;
        let (target, extras) = if kept {
            (target, extras)
        } else {
            (self.target(entry.target), self.known(entry.extras))
        };
        let meta = self.pack(&entry.meta);
        let now = &mut self.tree.nodes[node.0 as usize];
        (now.meta, now.target, now.extras) = (meta, target, extras);
        self.differs(node);
        if held_something && entry.meta.kind != EntryKind::Folder {
            self.fill(node, Vec::new(), Listing::NotListed);
        }
    }

    /// Notes the project of an entry.
    pub fn project(&mut self, node: NodeId, project: Project) {
        let mut extras = self.tree.extras(node).cloned().unwrap_or_default();
        if extras.project != Some(project) {
            extras.project = Some(project);
            self.tree.nodes[node.0 as usize].extras = self.known(extras);
            self.differs(node);
        }
    }

    fn differs(&mut self, node: NodeId) {
        if self.renewal.first > 0 {
            self.renewal.changed.push(node);
        }
    }

    fn remove(&mut self, top: NodeId) {
        self.tree.dropped += self.tree.below(top).count();
        self.renewal.removed.push(top);
    }

    /// Makes the tree that is being renewed say what another one says.
    pub fn take_over(&mut self, new: &Tree) {
        let entry = |node| NewEntry {
            name: new.name(node).to_vec(),
            meta: new.meta(node),
            target: new.target(node).map(<[u8]>::to_vec),
            extras: new.extras(node).cloned().unwrap_or_default(),
            as_before: false,
        };
        self.amend(Tree::ROOT, entry(Tree::ROOT));
        let mut todo = vec![(Tree::ROOT, Tree::ROOT)];
        while let Some((node, from)) = todo.pop() {
            let entries = new.children(from).map(entry).collect();
            let numbers = self.fill(node, entries, new.listing(from));
            todo.extend(numbers.into_iter().zip(new.children(from)));
        }
    }

    /// The tree so far.
    pub fn tree(&self) -> &Tree {
        &self.tree
    }

    /// The finished tree.
    pub fn finish(self) -> Tree {
        self.tree
    }

    /// The tree, and what it differs in from what it was.
    pub fn finish_renewed(mut self) -> (Tree, Renewal) {
        let first = self.renewal.first;
        let origins = &self.renewal.origins;
        let added = |node: &NodeId| {
            node.0 >= first && origins.get((node.0 - first) as usize).is_some_and(|&o| o == NONE)
        };
        self.renewal.changed.retain(|node| !added(node));
        self.renewal.changed.sort_unstable();
        self.renewal.changed.dedup();
        (self.tree, self.renewal)
    }
}

pub(crate) fn number(count: usize) -> u32 {
    u32::try_from(count).ok().filter(|n| *n != NONE).expect("a tree has less than 2^32 entries")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::words::path::AbsPath;

    fn meta(kind: EntryKind) -> Meta {
        Meta::new(kind, 0o755, 0, 0)
    }

    type Told = (AbsPath, Meta, Listing, Option<Vec<u8>>, Extras);

    /// Every path of a tree with what is known of it.
    fn all(tree: &Tree) -> Vec<Told> {
        let mut all = Vec::new();
        let mut todo = vec![Tree::ROOT];
        while let Some(node) = todo.pop() {
            let extras = tree.extras(node).cloned().unwrap_or_default();
            let target = tree.target(node).map(<[u8]>::to_vec);
            all.push((tree.path(node), tree.meta(node), tree.listing(node), target, extras));
            for child in tree.children(node) {
                assert_eq!(tree.parent(child), node, "{}", tree.path(child));
                todo.push(child);
            }
        }
        all.sort_by(|a, b| a.0.cmp(&b.0));
        all
    }

    /// A tree from the digits of a number: which names are in it, of which kind, how deep, with which mode.
    fn from_seed(mut seed: u64) -> Tree {
        let mut next = |below: u64| {
            seed = seed
                .wrapping_mul(6_364_136_223_846_793_005)
                .wrapping_add(1_442_695_040_888_963_407);
            (seed >> 33) % below
        };
        let mut builder = TreeBuilder::new(NewEntry::plain("", meta(EntryKind::Folder)));
        let mut todo = vec![(Tree::ROOT, 0)];
        while let Some((folder, depth)) = todo.pop() {
            let mut entries = Vec::new();
            for name in ["a", "b", "c", "d"] {
                let kind = match next(5) {
                    0 => continue,
                    1 => EntryKind::Symlink,
                    2 | 3 if depth < 4 => EntryKind::Folder,
                    _ => EntryKind::File,
                };
                let mut entry = NewEntry::plain(name, Meta { mode: next(3) as u16, ..meta(kind) });
                entry.target = (kind == EntryKind::Symlink).then(|| vec![b'x'; next(3) as usize]);
                entry.extras.label = (next(4) == 0).then(|| b"label".to_vec());
                entries.push(entry);
            }
            let listing = if next(6) == 0 { Listing::Failed } else { Listing::Complete };
            for node in builder.fill(folder, entries, listing) {
                if builder.tree().meta(node).kind == EntryKind::Folder && next(5) > 0 {
                    todo.push((node, depth + 1));
                }
            }
        }
        builder.finish()
    }

    #[test]
    fn a_renewed_tree_is_the_new_one_and_tells_what_differs() {
        for seed in 0..400 {
            let (old, new) = (from_seed(seed), from_seed(seed + 1000));
            let before = all(&old);
            let count = old.len();
            let mut builder = TreeBuilder::renew(old);
            builder.take_over(&new);
            let (renewed, renewal) = builder.finish_renewed();
            assert_eq!(all(&renewed), all(&new), "seed {seed}");
            assert_eq!(renewed.len(), new.len(), "seed {seed}");
            // What was there, less what went, plus what came, is what is there.
            let gone = |top: &NodeId| renewed.below(*top).count();
            let gone: usize = renewal.removed().iter().map(gone).sum();
            let came = renewal.numbered().filter(|(_, origin)| origin.is_none()).count();
            assert_eq!(count - gone + came, renewed.len(), "seed {seed}");
            // Everything in both that differs is named, and nothing else.
            let after = all(&renewed);
            let differs =
                before.iter().filter(|entry| after.iter().any(|a| a.0 == entry.0 && a != *entry));
            let mut differs: Vec<AbsPath> = differs.map(|entry| entry.0.clone()).collect();
            let mut named: Vec<AbsPath> =
                renewal.changed().iter().map(|&node| renewed.path(node)).collect();
            differs.sort();
            named.sort();
            assert_eq!(named, differs, "seed {seed}");
        }
    }
}
