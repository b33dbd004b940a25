//! A place: a host, and a path there.

use std::fmt;

use crate::words::file_name::FileName;
use crate::words::name::Name;
use crate::words::path::AbsPath;

/// A path of one host.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Place {
    pub host: Name,
    /// As that host sees it.
    pub path: AbsPath,
}

impl Place {
    /// A path on a host.
    pub fn new(host: impl Into<Name>, path: impl Into<AbsPath>) -> Self {
        Self { host: host.into(), path: path.into() }
    }

    /// An entry of it.
    pub fn child(&self, name: &FileName) -> Self {
        Self { host: self.host.clone(), path: self.path.child(name.as_bytes()) }
    }

    /// `/loft/media on granary`, as a sentence names it.
    pub fn on(&self) -> String {
        format!("{} on {}", self.path, self.host)
    }
}

impl fmt::Display for Place {
    /// `granary:/loft/media`, escaped.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}", self.host, self.path)
    }
}
