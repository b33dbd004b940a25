//! The way a download takes.

use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::terms::Origin;
use crate::words::word::words;

words! {
    /// What an intake should do between its steps.
    #[derive(Default)]
    pub enum Want {
        #[default]
        Hardlink = "hardlink",
        Rename = "rename",
        Copy = "copy",
    }
}

/// The way a download takes.
#[derive(Clone, Debug, PartialEq)]
pub struct Intake {
    pub name: Name,
    pub fetch: Option<Fetch>,
    pub sort: Option<Sort>,
    pub want: Want,
    pub origin: Origin,
}

/// Where the fetching service puts files, in its own view.
#[derive(Clone, Debug, PartialEq)]
pub struct Fetch {
    pub service: Name,
    /// The folder of unfinished files.
    pub partial: Option<AbsPath>,
    /// The folder of finished files.
    pub done: AbsPath,
    pub category: Option<String>,
}

/// Where the sorting service reads and files, in its own view.
#[derive(Clone, Debug, PartialEq)]
pub struct Sort {
    pub service: Name,
    /// The done folder.
    pub reads: AbsPath,
    /// The library folder.
    pub files_into: AbsPath,
    pub category: Option<String>,
}
