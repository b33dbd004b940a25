//! A place in a file of configuration.

use std::fmt;

use crate::words::name::Name;

/// A place in a file of configuration.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Spot {
    /// As somebody would open it.
    pub file: Name,
    /// From 1.
    pub line: u32,
}

impl fmt::Display for Spot {
    /// `compose.yaml:12`, escaped.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}", self.file, self.line)
    }
}
