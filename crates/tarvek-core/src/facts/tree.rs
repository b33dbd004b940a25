//! Files and folders as they were seen: a compact tree of entries, addressed by number.
//!
//! A million entries must fit in memory beside another million, so an entry is a fixed record of about a hundred bytes, names
//! stand one after another in one buffer, and the children of a folder stand together, sorted by name.

mod build;

pub use build::{Earlier, NewEntry, Renewal, TreeBuilder};

use crate::acl::Acl;
use crate::nfs4::Nfs4Acl;
use crate::path::AbsPath;

/// An entry's number in its tree.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct NodeId(pub u32);

/// The type of an entry (`inode(7)`).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum EntryKind {
    /// Folder.
    Folder,
    /// Regular file.
    File,
    /// Symbolic link.
    Symlink,
    /// FIFO; never opened.
    Fifo,
    /// Socket; never opened.
    Socket,
    /// Block device; never opened.
    BlockDevice,
    /// Character device; never opened.
    CharDevice,
}

impl EntryKind {
    /// What to call it in a sentence.
    pub fn word(self) -> &'static str {
        match self {
            Self::Folder => "folder",
            Self::File => "file",
            Self::Symlink => "symlink",
            Self::Fifo => "FIFO",
            Self::Socket => "socket",
            Self::BlockDevice => "block device",
            Self::CharDevice => "character device",
        }
    }
}

/// What `stat(2)` says of an entry.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Meta {
    /// Type.
    pub kind: EntryKind,
    /// The twelve permission bits.
    pub mode: u16,
    /// Owner.
    pub uid: u32,
    /// Owning group.
    pub gid: u32,
    /// Bytes.
    pub size: u64,
    /// Bytes of storage, where known.
    pub allocated: Option<u64>,
    /// Inode number, where known.
    pub inode: Option<u64>,
    /// `st_dev`, where known: `major << 32 | minor`.
    pub device: Option<u64>,
    /// Number of names.
    pub links: u32,
    /// Last change of the contents: nanoseconds since 1970 UTC.
    pub modified: i64,
    /// Last change of the inode, where known: nanoseconds since 1970 UTC.
    pub changed: Option<i64>,
    /// Whether it may not be changed at all, and whether it may only grow (`chattr(1)`), where known.
    pub flags: Option<Flags>,
}

impl Meta {
    /// Of an entry of which no more is known than who may do what with it.
    pub fn new(kind: EntryKind, mode: u16, uid: u32, gid: u32) -> Self {
        Self {
            kind,
            mode,
            uid,
            gid,
            size: 0,
            allocated: None,
            inode: None,
            device: None,
            links: 1,
            modified: 0,
            changed: None,
            flags: None,
        }
    }
}

/// A project quota's mark on an inode (`xfs_quota(8)`, `FS_IOC_FSGETXATTR` in `ioctl_fsgetxattr(2)`).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Project {
    /// Its number; 0 is none.
    pub id: u32,
    /// Whether what is made in this folder belongs to the same project, and nothing of another one may be linked or moved in.
    pub inherits: bool,
}

/// Inode flags that refuse even root (`ioctl_iflags(2)`).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub struct Flags {
    /// `+i`.
    pub immutable: bool,
    /// `+a`.
    pub append: bool,
}

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
struct Packed {
    size: u64,
    allocated: u64,
    inode: u64,
    modified: i64,
    changed: i64,
    uid: u32,
    gid: u32,
    links: u32,
    /// Index into `devices`, `u16::MAX` where it is not known.
    device: u16,
    mode: u16,
    kind: EntryKind,
    /// Bit 0: known, bit 1: immutable, bit 2: append-only.
    flags: u8,
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
struct Node {
    meta: Packed,
    parent: u32,
    name_at: u32,
    first_child: u32,
    child_count: u32,
    /// Index into `targets`, `NONE` if this is no symlink or its target is unknown.
    target: u32,
    /// Index into `extras`, `NONE` where there is nothing.
    extras: u32,
    name_len: u16,
    listing: Listing,
}

const NONE: u32 = u32::MAX;

/// The entries of one host that were seen.
#[derive(Clone, Debug)]
pub struct Tree {
    nodes: Vec<Node>,
    names: Vec<u8>,
    targets: Vec<Vec<u8>>,
    extras: Vec<Extras>,
    devices: Vec<u64>,
    /// Numbers that belong to no entry any more, after a renewal.
    dropped: usize,
}

impl Tree {
    /// The root folder, which every tree has.
    pub const ROOT: NodeId = NodeId(0);

    fn node(&self, id: NodeId) -> &Node {
        &self.nodes[id.0 as usize]
    }

    /// How many entries were seen, the root folder included.
    pub fn len(&self) -> usize {
        self.nodes.len() - self.dropped
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
    pub fn children(&self, id: NodeId) -> impl ExactSizeIterator<Item = NodeId> + use<> {
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

    fn meta(kind: EntryKind) -> Meta {
        Meta::new(kind, 0o755, 0, 0)
    }

    #[test]
    fn a_name_is_found_absent_or_unseen() {
        let mut builder = TreeBuilder::new(NewEntry::plain("", meta(EntryKind::Folder)));
        let entry = |name: &str| NewEntry::plain(name, meta(EntryKind::Folder));
        let top = builder.fill(Tree::ROOT, vec![entry("silo"), entry("etc")], Listing::Complete);
        builder.fill(top[1], vec![entry("media")], Listing::NotListed);
        let tree = builder.finish();
        let find = |path: &str| tree.find(&AbsPath::new(path.as_bytes()).unwrap());
        let Lookup::Found(media) = find("/silo/media") else { panic!() };
        assert_eq!(tree.path(media).as_bytes(), b"/silo/media");
        assert_eq!(find("/silo/other"), Lookup::Unseen);
        assert_eq!(find("/home"), Lookup::Absent);
        assert_eq!(find("/"), Lookup::Found(Tree::ROOT));
    }
}
