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

/// The longest name of an entry, in bytes: that of a filesystem in user space (`FUSE_NAME_MAX`).
/// Most end at 255 (`NAME_MAX`); names in other encodings take up to three times as much.
pub const LONGEST: usize = 1024;

/// Whether some bytes can be the name of one entry of a folder (`path_resolution(7)`): not empty,
/// not too long, no `.` or `..`, no slash and no NUL.
pub fn is_one(name: &[u8]) -> bool {
    !name.is_empty()
        && name.len() <= LONGEST
        && !matches!(name, b"." | b"..")
        && !name.contains(&b'/')
        && !name.contains(&0)
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_entry_has_one_name() {
        let long = vec![b'x'; LONGEST + 1];
        for name in [&b""[..], b".", b"..", b"../x", b"/etc", b"a/b", b"a\0", &long] {
            assert!(!is_one(name), "{name:?}");
        }
        for name in [&b"a"[..], b"...", b"\xff\n", &long[1..]] {
            assert!(is_one(name), "{name:?}");
        }
    }
}
