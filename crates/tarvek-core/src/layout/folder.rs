//! Folders with a declared owner, mode or rights.

use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::terms::Origin;
use crate::words::word::words;

words! {
    /// What somebody may do in a folder and everything below, as declared.
    pub enum Right {
        None = "none",
        /// Read and list.
        Read = "read",
        /// Read, and add new entries.
        Add = "add",
        /// Read, add, change and remove.
        Change = "change",
    }
}

/// A folder with a declared owner, mode or rights.
#[derive(Clone, Debug, PartialEq)]
pub struct Folder {
    pub host: Name,
    /// As the host sees it.
    pub path: AbsPath,
    pub owner: Option<Name>,
    pub group: Option<Name>,
    /// Permission bits.
    pub mode: Option<u16>,
    /// Who may do what: account, service, or `@group`.
    pub rights: Vec<(Name, Right)>,
    pub purpose: Option<Purpose>,
    pub origin: Origin,
}

words! {
    /// What a declared folder is for.
    pub enum Purpose {
        /// Libraries.
        Media = "media",
        /// Downloads on their way.
        Intake = "intake",
        /// A service's own files.
        Config = "config",
    }
}
