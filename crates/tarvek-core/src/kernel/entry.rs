//! One entry of a filesystem, as `stat(2)` tells it.

use crate::words::word::words;

words! {
    /// The type of an entry (`inode(7)`). Only folders and files are ever opened.
    pub enum EntryKind {
        Folder = "folder",
        File = "file",
        Symlink = "symlink",
        Fifo = "FIFO",
        Socket = "socket",
        BlockDevice = "block device",
        CharDevice = "character device",
    }
}

/// What `stat(2)` says of an entry.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Meta {
    pub kind: EntryKind,
    /// The twelve permission bits.
    pub mode: u16,
    pub uid: u32,
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
    /// Whether it may not be changed at all, and whether it may only grow (`chattr(1)`), where
    /// known.
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

    /// Whether it is a folder.
    pub fn is_folder(&self) -> bool {
        self.kind == EntryKind::Folder
    }
}

/// A project quota's mark on an inode (`xfs_quota(8)`, `FS_IOC_FSGETXATTR` in
/// `ioctl_fsgetxattr(2)`).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Project {
    /// Its number; 0 is none.
    pub id: u32,
    /// Whether what is made in this folder belongs to the same project, and nothing of another one
    /// may be linked or moved in.
    pub inherits: bool,
}

/// Inode flags that refuse even root (`ioctl_iflags(2)`).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Default)]
pub struct Flags {
    /// `+i`.
    pub immutable: bool,
    /// `+a`.
    pub append: bool,
}

impl Flags {
    /// The letters of those that are set, as `chattr(1)` takes them: `ia`.
    pub fn letters(self) -> String {
        let letters = [(self.immutable, 'i'), (self.append, 'a')];
        letters.iter().filter(|(on, _)| *on).map(|(_, letter)| *letter).collect()
    }
}
