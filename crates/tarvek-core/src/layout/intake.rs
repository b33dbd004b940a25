//! The way a download takes.

use std::ops::Deref;

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

/// A folder as a service sees it, and where the layout names it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct InView {
    pub path: AbsPath,
    pub origin: Origin,
}

impl InView {
    /// A folder that no text names.
    pub fn of(path: AbsPath) -> Self {
        Self { path, origin: Origin::default() }
    }
}

impl Deref for InView {
    type Target = AbsPath;

    fn deref(&self) -> &AbsPath {
        &self.path
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
    pub partial: Option<InView>,
    /// The folder of finished files.
    pub done: InView,
    pub category: Option<String>,
}

/// Where the sorting service reads and files, in its own view.
#[derive(Clone, Debug, PartialEq)]
pub struct Sort {
    pub service: Name,
    /// The done folder.
    pub reads: InView,
    /// The library folder.
    pub files_into: InView,
    pub category: Option<String>,
}

words! {
    /// A folder on the way of a download.
    pub enum Station {
        /// Of unfinished files.
        Partial = "partial",
        /// Of finished files, as the fetching service sees it.
        Done = "done",
        /// The same, as the sorting service sees it.
        Reads = "reads",
        /// The library folder.
        FilesInto = "files_into",
    }
}
