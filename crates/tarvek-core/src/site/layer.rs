//! Layers that a way passes, each of which can be read-only as a whole.

use std::fmt;

use crate::words::name::Name;
use crate::words::part::Part;
use crate::words::path::AbsPath;
use crate::words::place::Place;
use crate::words::terms::{Access, Protocol};

/// What kind of layer it is.
#[derive(Clone, Debug, PartialEq)]
pub enum LayerKind {
    /// A mapping of a service or system container, as the layout names it.
    Mapping(Part),
    /// A network mount.
    Mount(Protocol),
    Share(Name, Protocol),
    /// A mounted filesystem: its type, and its source.
    Filesystem(Name, Name),
    /// A Btrfs subvolume in it.
    Subvolume,
}

/// A layer that can be read-only as a whole.
#[derive(Clone, Debug, PartialEq)]
pub struct Layer {
    pub kind: LayerKind,
    /// Where it is attached.
    pub at: Place,
    pub access: Access,
    /// Whether the filesystem itself is read-only, and not only this way to it. The kernel then
    /// refuses before it looks at owners and modes (`sb_permission` in `fs/namei.c`).
    pub filesystem: bool,
    /// Of a read-only mapping: the mount below it that the way goes on to. Engines differ in
    /// whether read-only reaches there (MOUNT_ATTR_RDONLY with or without AT_RECURSIVE,
    /// mount_setattr(2)).
    pub nested: Option<AbsPath>,
}

impl Layer {
    /// Whether the mount itself says so, which a kernel asks before it looks up a name
    /// (`mnt_want_write`); a subvolume is asked with the entries in it.
    pub fn is_of_mount(&self) -> bool {
        self.kind != LayerKind::Subvolume
    }
}

impl fmt::Display for Layer {
    /// In words, for a sentence: `the mapping to /media`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let path = &self.at.path;
        match &self.kind {
            LayerKind::Mapping(_) => write!(f, "the mapping to {path}"),
            LayerKind::Mount(protocol) => write!(f, "the {} mount at {path}", protocol.word()),
            LayerKind::Share(name, _) => write!(f, "the share {name}"),
            LayerKind::Subvolume => write!(f, "the subvolume at {path}"),
            LayerKind::Filesystem(..) => write!(f, "the filesystem mounted at {path}"),
        }
    }
}
