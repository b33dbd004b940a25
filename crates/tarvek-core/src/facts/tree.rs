//! Files and folders as they were seen: a compact tree of entries, addressed by number.
//!
//! A million entries must fit in memory beside another million, so an entry is a fixed record of about a hundred bytes, names
//! stand one after another in one buffer, and the children of a folder stand together, sorted by name.

use std::borrow::Cow;

use crate::kernel::acl::Acl;
use crate::kernel::entry::{EntryKind, Flags, Meta, Project};
use crate::kernel::nfs4::Nfs4Acl;
use crate::kernel::object::Object;
use crate::words::path::AbsPath;

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

/// What `stat(2)` said, packed: a million of these stand in memory.
#[derive(Clone, Copy, Debug)]
pub(super) struct Packed {
    pub(super) size: u64,
    pub(super) allocated: u64,
    pub(super) inode: u64,
    pub(super) modified: i64,
    pub(super) changed: i64,
    pub(super) uid: u32,
    pub(super) gid: u32,
    pub(super) links: u32,
    /// Index into `devices`, `u16::MAX` where it is not known.
    pub(super) device: u16,
    pub(super) mode: u16,
    pub(super) kind: EntryKind,
    /// Bit 0: known, bit 1: immutable, bit 2: append-only.
    pub(super) flags: u8,
}

/// What few entries have, and many of those alike.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
pub struct Extras {
    /// The access ACL.
    pub acl: Option<Acl>,
    /// A folder's default ACL.
    pub default_acl: Option<Acl>,
    /// The NFSv4 ACL (RFC 8881); where there is one, it decides instead of mode and POSIX ACL.
    pub nfs4_acl: Option<Nfs4Acl>,
    /// The SELinux label.
    pub label: Option<Vec<u8>>,
    /// The project, where somebody could ask for it.
    pub project: Option<Project>,
}

#[derive(Clone, Debug)]
pub(super) struct Node {
    pub(super) meta: Packed,
    pub(super) parent: u32,
    pub(super) name_at: u32,
    pub(super) first_child: u32,
    pub(super) child_count: u32,
    /// Index into `targets`, `NONE` if this is no symlink or its target is unknown.
    pub(super) target: u32,
    /// Index into `extras`, `NONE` where there is nothing.
    pub(super) extras: u32,
    pub(super) name_len: u16,
    pub(super) listing: Listing,
}

/// What stands for no number.
pub(super) const NONE: u32 = u32::MAX;

/// The entries of one host that were seen.
#[derive(Clone, Debug)]
pub struct Tree {
    pub(super) nodes: Vec<Node>,
    pub(super) names: Vec<u8>,
    pub(super) targets: Vec<Vec<u8>>,
    pub(super) extras: Vec<Extras>,
    pub(super) devices: Vec<u64>,
    /// Numbers that belong to no entry any more, after a renewal.
    pub(super) dropped: usize,
}

impl Tree {
    /// The root folder, which every tree has.
    pub const ROOT: NodeId = NodeId(0);

    pub(super) fn node(&self, id: NodeId) -> &Node {
        &self.nodes[id.0 as usize]
    }

    /// How many entries were seen, the root folder included.
    pub fn len(&self) -> usize {
        self.nodes.len() - self.dropped
    }

    /// How many numbers entries may have: every [`NodeId`] is below this.
    pub fn numbers(&self) -> usize {
        self.nodes.len()
    }

    /// A tree always has its root.
    pub fn is_empty(&self) -> bool {
        false
    }

    /// What `stat(2)` said.
    pub fn meta(&self, id: NodeId) -> Meta {
        let packed = self.node(id).meta;
        let known = |value: u64| (value != u64::MAX).then_some(value);
        Meta {
            kind: packed.kind,
            mode: packed.mode,
            uid: packed.uid,
            gid: packed.gid,
            size: packed.size,
            allocated: known(packed.allocated),
            inode: known(packed.inode),
            device: self.devices.get(usize::from(packed.device)).copied(),
            links: packed.links,
            modified: packed.modified,
            changed: (packed.changed != i64::MIN).then_some(packed.changed),
            flags: (packed.flags & 1 != 0).then_some(Flags {
                immutable: packed.flags & 2 != 0,
                append: packed.flags & 4 != 0,
            }),
        }
    }

    /// The last component of its path; empty for the root.
    pub fn name(&self, id: NodeId) -> &[u8] {
        let node = self.node(id);
        &self.names[node.name_at as usize..][..node.name_len as usize]
    }

    /// Whether what it holds is known.
    pub fn listing(&self, id: NodeId) -> Listing {
        self.node(id).listing
    }

    /// Where a symlink points, as written in it.
    pub fn target(&self, id: NodeId) -> Option<&[u8]> {
        self.targets.get(self.node(id).target as usize).map(Vec::as_slice)
    }

    /// Gives the names in NFSv4 ACLs the numbers that they have on this host; the flag says that a group is meant.
    pub fn resolve_names(&mut self, number: impl Fn(&str, bool) -> Option<u32>) {
        for acl in self.extras.iter_mut().filter_map(|extras| extras.nfs4_acl.as_mut()) {
            acl.resolve(&number);
        }
    }

    /// Its ACLs and label, if it has any.
    pub fn extras(&self, id: NodeId) -> Option<&Extras> {
        self.extras.get(self.node(id).extras as usize)
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
        let node = self.node(id);
        (node.first_child..node.first_child + node.child_count).map(NodeId)
    }

    /// Looks a name up in a folder.
    pub fn lookup(&self, folder: NodeId, name: &[u8]) -> Lookup {
        let node = self.node(folder);
        let (first, count) = (node.first_child as usize, node.child_count as usize);
        let children = &self.nodes[first..first + count];
        let at = |child: &Node| &self.names[child.name_at as usize..][..child.name_len as usize];
        match children.binary_search_by(|child| at(child).cmp(name)) {
            Ok(index) => Lookup::Found(NodeId((first + index) as u32)),
            Err(_) if node.listing == Listing::Complete => Lookup::Absent,
            Err(_) => Lookup::Unseen,
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

    /// An entry and everything below it; a folder stands before what it holds.
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
            todo.extend(self.children(node).filter(|child| !left_out(*child)));
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
