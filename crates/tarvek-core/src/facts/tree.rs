//! Files and folders as they were seen: a compact tree of entries, addressed by number.
//!
//! A million entries must fit in memory beside another million. What many entries have alike –
//! owner, group, mode, ACLs – stands once, as a class; an entry is a fixed record of 52 bytes,
//! names stand one after another in one buffer, and the children of a folder stand together, sorted
//! by name.
//!
//! A tree may be read in part: a folder whose names were left where they are is *deferred*, and the
//! tree notes which of those it was asked for.

use std::borrow::Cow;
use std::cmp::Ordering;
use std::collections::{BTreeSet, HashMap};
use std::sync::{Mutex, PoisonError};

use crate::facts::classes::{Class, Classes, Extras};
use crate::kernel::entry::{EntryKind, Meta, Project};
use crate::kernel::object::Object;
use crate::words::path::AbsPath;

/// The folder in which files wait that were taken away. What is in it is nobody's any more: it is
/// neither waste nor media, and nobody's rights are judged by it.
pub const HELD: &str = ".tarvek-held";

/// An entry's number in its tree.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct NodeId(pub u32);

/// How much is known of what a folder holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Listing {
    /// It was not asked for.
    NotListed,
    /// All names were read.
    Complete,
    /// Reading failed; see the gaps.
    Failed,
}

/// What is known of a name in a folder.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Lookup {
    /// It is there.
    Found(NodeId),
    /// The folder was read to the end, and it is not there.
    Absent,
    /// The folder was not read, or not to the end.
    Unseen,
}

/// What ties an entry to others.
#[derive(Clone, Copy, Debug)]
pub(super) struct Node {
    pub(super) parent: u32,
    pub(super) name_at: u32,
    pub(super) class: u32,
    /// Of folders and symlinks an index into `folders` and `targets`; of all others the number of
    /// names.
    pub(super) own: u32,
}

/// What every entry has for itself.
#[derive(Clone, Copy, Debug)]
pub(super) struct Stat {
    pub(super) size: u64,
    /// `u64::MAX` where it is not known.
    pub(super) inode: u64,
    pub(super) modified: i64,
    /// `i64::MIN` where it is not known.
    pub(super) changed: i64,
}

/// What only folders have.
#[derive(Clone, Copy, Debug)]
pub(super) struct FolderRecord {
    pub(super) first_child: u32,
    pub(super) child_count: u32,
    pub(super) links: u32,
    pub(super) listing: Listing,
    /// Whether its names were left where they are.
    pub(super) deferred: bool,
}

/// What only symlinks have.
#[derive(Clone, Debug)]
pub(super) struct Target {
    pub(super) links: u32,
    pub(super) text: Option<Box<[u8]>>,
}

/// How much storage an entry takes, in units of 512 bytes (`stat(2)`).
pub(super) const UNIT: u64 = 512;
/// Nobody said how much.
pub(super) const UNTOLD: u32 = u32::MAX;
/// It is too much for 32 bits, or no multiple of the unit, and stands elsewhere.
pub(super) const ELSEWHERE: u32 = u32::MAX - 1;

/// The folders that a tree was asked for and had not been read. It is the tree's own, and not
/// copied with it.
#[derive(Debug, Default)]
struct Wanted(Mutex<BTreeSet<NodeId>>);

impl Clone for Wanted {
    fn clone(&self) -> Self {
        Self::default()
    }
}

/// The entries of one host that were seen.
#[derive(Clone, Debug, Default)]
pub struct Tree {
    pub(super) nodes: Vec<Node>,
    pub(super) stats: Vec<Stat>,
    /// Storage of each entry in units, or what stands for something else.
    pub(super) units: Vec<u32>,
    /// Storage in bytes of those that are [`ELSEWHERE`].
    pub(super) odd_storage: HashMap<u32, u64>,
    pub(super) names: Vec<u8>,
    pub(super) folders: Vec<FolderRecord>,
    pub(super) targets: Vec<Target>,
    pub(super) classes: Classes,
    wanted: Wanted,
}

impl Tree {
    /// The root folder, which every tree has.
    pub const ROOT: NodeId = NodeId(0);

    fn node(&self, id: NodeId) -> &Node {
        &self.nodes[id.0 as usize]
    }

    /// What a folder has as such. Whoever asks wants to know what is in it.
    fn folder(&self, id: NodeId) -> Option<&FolderRecord> {
        let node = self.node(id);
        let is_folder = self.classes.class(node.class).kind == EntryKind::Folder;
        let folder = is_folder.then(|| &self.folders[node.own as usize])?;
        if folder.deferred {
            self.wanted.0.lock().unwrap_or_else(PoisonError::into_inner).insert(id);
        }
        Some(folder)
    }

    /// The folders that it was asked for since the last time, and that are still deferred.
    pub fn take_wanted(&self) -> BTreeSet<NodeId> {
        let wanted = &mut *self.wanted.0.lock().unwrap_or_else(PoisonError::into_inner);
        let mut wanted = std::mem::take(wanted);
        wanted.retain(|id| self.folders[self.node(*id).own as usize].deferred);
        wanted
    }

    /// How many entries were seen, the root folder included. Every [`NodeId`] is below this.
    pub fn len(&self) -> usize {
        self.nodes.len()
    }

    /// A tree always has its root.
    pub fn is_empty(&self) -> bool {
        false
    }

    /// The number of an entry's class: below [`Tree::classes`], and equal only where all that
    /// decides about access to two entries is.
    pub fn class_number(&self, id: NodeId) -> u32 {
        self.node(id).class
    }

    /// How many classes there are.
    pub fn classes(&self) -> usize {
        self.classes.classes().len()
    }

    /// Whether it is a folder, a file, …
    pub fn kind(&self, id: NodeId) -> EntryKind {
        self.class(id).kind
    }

    fn class(&self, id: NodeId) -> &Class {
        self.classes.class(self.node(id).class)
    }

    /// Its size in bytes.
    pub fn size(&self, id: NodeId) -> u64 {
        self.stats[id.0 as usize].size
    }

    /// How many names it has.
    pub fn links(&self, id: NodeId) -> u32 {
        let own = self.node(id).own;
        match self.kind(id) {
            EntryKind::Folder => self.folders[own as usize].links,
            EntryKind::Symlink => self.targets[own as usize].links,
            _ => own,
        }
    }

    /// What `stat(2)` said.
    pub fn meta(&self, id: NodeId) -> Meta {
        let Class { kind, mode, uid, gid, device, flags, .. } = *self.class(id);
        let Stat { size, inode, modified, changed } = self.stats[id.0 as usize];
        Meta {
            kind,
            mode,
            uid,
            gid,
            size,
            allocated: match self.units[id.0 as usize] {
                UNTOLD => None,
                ELSEWHERE => self.odd_storage.get(&id.0).copied(),
                units => Some(u64::from(units) * UNIT),
            },
            inode: (inode != u64::MAX).then_some(inode),
            device,
            links: self.links(id),
            modified,
            changed: (changed != i64::MIN).then_some(changed),
            flags,
        }
    }

    /// The last component of its path; empty for the root.
    pub fn name(&self, id: NodeId) -> &[u8] {
        let start = self.node(id).name_at as usize;
        let end = self.nodes.get(id.0 as usize + 1).map(|next| next.name_at as usize);
        &self.names[start..end.unwrap_or(self.names.len())]
    }

    /// Whether what it holds is known.
    pub fn listing(&self, id: NodeId) -> Listing {
        self.folder(id).map_or(Listing::NotListed, |folder| folder.listing)
    }

    /// Where a symlink points, as written in it.
    pub fn target(&self, id: NodeId) -> Option<&[u8]> {
        match self.kind(id) {
            EntryKind::Symlink => self.targets[self.node(id).own as usize].text.as_deref(),
            _ => None,
        }
    }

    /// The project that it belongs to, where somebody could ask for it.
    pub fn project(&self, id: NodeId) -> Option<Project> {
        // A folder's own project was asked when it was read.
        let _ = self.folder(id);
        self.extras(id)?.project
    }

    /// Gives the names in NFSv4 ACLs the numbers that they have on this host; the flag says that a
    /// group is meant.
    pub fn resolve_names(&mut self, number: impl Fn(&str, bool) -> Option<u32>) {
        self.classes.resolve_names(number);
    }

    /// Its ACLs and label, if it has any.
    pub fn extras(&self, id: NodeId) -> Option<&Extras> {
        self.classes.extras_of(self.node(id).class)
    }

    /// The folder above; the root is its own.
    pub fn parent(&self, id: NodeId) -> NodeId {
        NodeId(self.node(id).parent)
    }

    /// The entries that were seen in a folder, sorted by name.
    pub fn children(
        &self,
        id: NodeId,
    ) -> impl DoubleEndedIterator<Item = NodeId> + ExactSizeIterator + use<> {
        let (first, count) = self.folder(id).map_or((0, 0), |f| (f.first_child, f.child_count));
        (first..first + count).map(NodeId)
    }

    /// Looks a name up in a folder.
    pub fn lookup(&self, folder: NodeId, name: &[u8]) -> Lookup {
        let Some(folder) = self.folder(folder) else { return Lookup::Unseen };
        let (mut low, mut high) = (folder.first_child, folder.first_child + folder.child_count);
        while low < high {
            let middle = u32::midpoint(low, high);
            match self.name(NodeId(middle)).cmp(name) {
                Ordering::Less => low = middle + 1,
                Ordering::Equal => return Lookup::Found(NodeId(middle)),
                Ordering::Greater => high = middle,
            }
        }
        match folder.listing {
            Listing::Complete => Lookup::Absent,
            _ => Lookup::Unseen,
        }
    }

    /// Follows a path without symlinks.
    pub fn find(&self, path: &AbsPath) -> Lookup {
        let mut here = Self::ROOT;
        for part in path.components() {
            match self.lookup(here, part) {
                Lookup::Found(next) => here = next,
                other => return other,
            }
        }
        Lookup::Found(here)
    }

    /// An entry and everything below it, but what is held; a folder stands before what it holds.
    pub fn below(&self, top: NodeId) -> impl Iterator<Item = NodeId> {
        self.below_but(top, |_| false)
    }

    /// As [`Tree::below`], without what is to be left out and everything below that.
    pub fn below_but(
        &self,
        top: NodeId,
        left_out: impl Fn(NodeId) -> bool,
    ) -> impl Iterator<Item = NodeId> {
        let mut todo = vec![top];
        std::iter::from_fn(move || {
            let node = todo.pop()?;
            let is_held = |child: &NodeId| self.name(*child) == HELD.as_bytes();
            todo.extend(self.children(node).filter(|child| !is_held(child) && !left_out(*child)));
            Some(node)
        })
    }

    /// How many entries were seen below one.
    pub fn count_below(&self, top: NodeId) -> u64 {
        self.below(top).count() as u64 - 1
    }

    /// An entry with all that decides about access to it, as it was seen.
    pub fn object(&self, node: NodeId) -> Object<'_> {
        let meta = self.meta(node);
        let Some(extras) = self.extras(node) else { return Object::plain(meta) };
        Object {
            meta,
            acl: extras.acl.as_ref().map(Cow::Borrowed),
            default_acl: extras.default_acl.as_ref().map(Cow::Borrowed),
            nfs4: extras.nfs4_acl.as_ref().map(Cow::Borrowed),
        }
    }

    /// The path of an entry.
    pub fn path(&self, id: NodeId) -> AbsPath {
        let mut chain = Vec::new();
        let mut here = id;
        while here != Self::ROOT {
            chain.push(here);
            here = self.parent(here);
        }
        let mut path = AbsPath::root();
        for id in chain.into_iter().rev() {
            path.push(self.name(id));
        }
        path
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::facts::build::{NewEntry, TreeBuilder};

    fn meta(kind: EntryKind) -> Meta {
        Meta::new(kind, 0o755, 0, 0)
    }

    #[test]
    fn a_name_is_found_absent_or_unseen() {
        let mut builder = TreeBuilder::new(NewEntry::plain("", meta(EntryKind::Folder)));
        let entry = |name: &str| NewEntry::plain(name, meta(EntryKind::Folder));
        let top = builder.fill(Tree::ROOT, vec![entry("loft"), entry("etc")], Listing::Complete);
        builder.fill(top[1], vec![entry("media")], Listing::NotListed);
        let tree = builder.finish();
        let find = |path: &str| tree.find(&AbsPath::new(path.as_bytes()).unwrap());
        let Lookup::Found(media) = find("/loft/media") else { panic!() };
        assert_eq!(tree.path(media).as_bytes(), b"/loft/media");
        assert_eq!(find("/loft/other"), Lookup::Unseen);
        assert_eq!(find("/home"), Lookup::Absent);
        assert_eq!(find("/"), Lookup::Found(Tree::ROOT));
    }
}
