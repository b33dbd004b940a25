//! Files and folders as they were seen: a compact tree of entries, addressed by number.
//!
//! A million entries must fit in memory beside another million, so an entry is a fixed record of about a hundred bytes, names
//! stand one after another in one buffer, and the children of a folder stand together, sorted by name.

use std::collections::HashMap;

use crate::acl::Acl;
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

#[derive(Clone, Debug)]
struct Node {
    parent: u32,
    name_at: u32,
    name_len: u16,
    listing: Listing,
    first_child: u32,
    child_count: u32,
    /// Index into `targets`, `NONE` if this is no symlink or its target is unknown.
    target: u32,
    /// Indices into `acls`, `NONE` where there is none.
    acl: u32,
    default_acl: u32,
    meta: Meta,
}

const NONE: u32 = u32::MAX;

/// The entries of one host that were seen.
#[derive(Clone, Debug)]
pub struct Tree {
    nodes: Vec<Node>,
    names: Vec<u8>,
    targets: Vec<Vec<u8>>,
    acls: Vec<Acl>,
}

impl Tree {
    /// The root folder, which every tree has.
    pub const ROOT: NodeId = NodeId(0);

    fn node(&self, id: NodeId) -> &Node {
        &self.nodes[id.0 as usize]
    }

    /// How many entries were seen, the root folder included.
    pub fn len(&self) -> usize {
        self.nodes.len()
    }

    /// A tree always has its root.
    pub fn is_empty(&self) -> bool {
        false
    }

    /// What `stat(2)` said.
    pub fn meta(&self, id: NodeId) -> &Meta {
        &self.node(id).meta
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

    /// Its access ACL, where it has one that says more than the mode.
    pub fn acl(&self, id: NodeId) -> Option<&Acl> {
        self.acls.get(self.node(id).acl as usize)
    }

    /// The ACL that new entries in this folder start with.
    pub fn default_acl(&self, id: NodeId) -> Option<&Acl> {
        self.acls.get(self.node(id).default_acl as usize)
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

/// One entry on its way into a tree.
#[derive(Clone, Debug, PartialEq)]
pub struct NewEntry {
    /// The last component of its path.
    pub name: Vec<u8>,
    /// What `stat(2)` said.
    pub meta: Meta,
    /// Where it points, for a symlink.
    pub target: Option<Vec<u8>>,
    /// Its access ACL, where it has one.
    pub acl: Option<Acl>,
    /// A folder's default ACL, where it has one.
    pub default_acl: Option<Acl>,
}

impl NewEntry {
    /// An entry without target or ACLs.
    pub fn plain(name: impl Into<Vec<u8>>, meta: Meta) -> Self {
        Self { name: name.into(), meta, target: None, acl: None, default_acl: None }
    }
}

/// Makes a [`Tree`], folder by folder.
#[derive(Debug)]
pub struct TreeBuilder {
    tree: Tree,
    /// Most entries of a tree share a handful of ACLs.
    known_acls: HashMap<Acl, u32>,
}

impl TreeBuilder {
    /// Starts with what is known of the root folder.
    pub fn new(root: NewEntry) -> Self {
        let tree =
            Tree { nodes: Vec::new(), names: Vec::new(), targets: Vec::new(), acls: Vec::new() };
        let mut builder = Self { tree, known_acls: HashMap::new() };
        builder.add(0, NewEntry { name: Vec::new(), ..root });
        builder
    }

    fn add(&mut self, parent: u32, entry: NewEntry) {
        let target = match entry.target {
            Some(target) => {
                self.tree.targets.push(target);
                number(self.tree.targets.len() - 1)
            }
            None => NONE,
        };
        let acl = self.known_acl(entry.acl);
        let default_acl = self.known_acl(entry.default_acl);
        self.tree.nodes.push(Node {
            parent,
            name_at: number(self.tree.names.len()),
            name_len: u16::try_from(entry.name.len()).expect("a name fits in 64 KiB"),
            listing: Listing::NotListed,
            first_child: 0,
            child_count: 0,
            target,
            acl,
            default_acl,
            meta: entry.meta,
        });
        self.tree.names.extend_from_slice(&entry.name);
    }

    fn known_acl(&mut self, acl: Option<Acl>) -> u32 {
        let Some(acl) = acl else { return NONE };
        let acls = &mut self.tree.acls;
        *self.known_acls.entry(acl).or_insert_with_key(|acl| {
            acls.push(acl.clone());
            number(acls.len() - 1)
        })
    }

    /// Puts everything that was seen in one folder into the tree, and says how complete that is. Of two entries with
    /// one name the later counts. Call it once per folder. Returns the numbers of the new entries.
    ///
    /// # Panics
    /// If the tree would pass 4 294 967 294 entries or 4 GiB of names.
    pub fn fill(
        &mut self,
        folder: NodeId,
        mut entries: Vec<NewEntry>,
        listing: Listing,
    ) -> Vec<NodeId> {
        entries.sort_by(|a, b| a.name.cmp(&b.name));
        entries.reverse();
        entries.dedup_by(|a, b| a.name == b.name);
        entries.reverse();
        let first = number(self.tree.nodes.len());
        let count = number(entries.len());
        for entry in entries {
            self.add(folder.0, entry);
        }
        let node = &mut self.tree.nodes[folder.0 as usize];
        debug_assert!(node.child_count == 0, "a folder is filled once");
        node.first_child = first;
        node.child_count = count;
        node.listing = listing;
        (first..first + count).map(NodeId).collect()
    }

    /// The tree so far.
    pub fn tree(&self) -> &Tree {
        &self.tree
    }

    /// The finished tree.
    pub fn finish(self) -> Tree {
        self.tree
    }
}

fn number(count: usize) -> u32 {
    u32::try_from(count).ok().filter(|n| *n != NONE).expect("a tree has less than 2^32 entries")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn meta(kind: EntryKind) -> Meta {
        Meta {
            kind,
            mode: 0o755,
            uid: 0,
            gid: 0,
            size: 0,
            allocated: None,
            inode: None,
            device: None,
            links: 1,
            modified: 0,
        }
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
