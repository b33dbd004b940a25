//! Terms of the trade that the layout and what was seen of a host have in common.

use super::word::words;
use crate::words::name::Name;

/// Where in the layout file something was written; both count from 1. Columns count characters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub struct Origin {
    pub line: u32,
    pub column: u32,
}

/// The largest uid or gid. The number after it stands for "no change" (`setresuid(2)`, `chown(2)`)
/// and is nobody's.
pub const LARGEST_ID: u32 = u32::MAX - 1;

/// A uid or gid that is written as a number.
pub fn id(text: &str) -> Option<u32> {
    text.parse().ok().filter(|id| *id <= LARGEST_ID)
}

words! {
    /// A host's system, as far as paths and mounts differ.
    #[derive(Default)]
    pub enum Os {
        /// POSIX paths.
        #[default]
        Linux = "linux",
        /// Drive letters and UNC paths.
        Windows = "windows",
        /// POSIX paths, `/Volumes`.
        Macos = "macos",
    }
}

/// An account with its number on one host.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Account {
    pub name: Name,
    pub uid: u32,
    /// The primary group's number, where known.
    pub gid: Option<u32>,
    /// Names of further groups.
    pub groups: Vec<Name>,
}

/// A group with its number on one host.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Group {
    pub name: Name,
    pub gid: u32,
}

words! {
    /// Whether something may be written through a layer.
    #[derive(Default)]
    pub enum Access {
        ReadOnly = "ro",
        #[default]
        ReadWrite = "rw",
    }
}

words! {
    /// How a mount reaches its source.
    pub enum Protocol {
        /// NFS of any version.
        Nfs = "nfs",
        /// SMB of any version.
        Smb = "smb",
        /// A local filesystem.
        Disk = "disk",
        /// A folder of the same host attached at a second place.
        Bind = "bind",
    }
}

impl Protocol {
    /// Whether the source is another machine.
    pub fn is_network(self) -> bool {
        matches!(self, Self::Nfs | Self::Smb)
    }
}

words! {
    /// What a library holds.
    #[derive(PartialOrd, Ord)]
    pub enum Kind {
        Films = "films",
        Series = "series",
        Music = "music",
        Photos = "photos",
        Books = "books",
        HomeVideo = "home-video",
    }
}

words! {
    /// SELinux relabelling of a mapping.
    pub enum Label {
        /// `z`: other containers may use it too.
        Shared = "shared",
        /// `Z`: this container only.
        Private = "private",
    }
}
