//! The name of one entry of a folder.

use std::fmt;

use crate::words::text::shown;

/// One component of a path, as bytes; it is shown escaped.
#[derive(Clone, PartialEq, Eq)]
pub struct FileName(Vec<u8>);

impl FileName {
    /// The bytes.
    pub fn as_bytes(&self) -> &[u8] {
        &self.0
    }
}

impl From<&[u8]> for FileName {
    fn from(name: &[u8]) -> Self {
        Self(name.to_vec())
    }
}

impl fmt::Display for FileName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&shown(&self.0))
    }
}

impl fmt::Debug for FileName {
    /// In quotation marks, as a message quotes it.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Debug::fmt(&shown(&self.0), f)
    }
}
