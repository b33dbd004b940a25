//! What a listing begins with, how long it may be, and why one is not read.

use std::io;

use crate::mistake::Refused;

/// The first line of every listing of this version.
pub(super) const FIRST_LINE: &str = "tarvek-listing 1";

pub(super) const AGAIN: &str = "collect it again, and copy the whole output";

/// The longest path that is read, in bytes. A tree may be deeper than `PATH_MAX`, but nobody's
/// collector gets there.
pub(super) const LONGEST_PATH: usize = 1 << 16;

/// Why a listing is not read.
#[derive(Debug)]
pub enum Unread {
    /// Its first mistake; a listing that is cut off is refused, since nobody knows what it lacks.
    Refused(Box<Refused>),
    /// Its source broke off: what is packed is damaged, or the disk.
    Broken(io::Error),
    /// It is longer than it may be, in bytes.
    TooLong(u64),
}

impl From<Refused> for Unread {
    fn from(refused: Refused) -> Self {
        Self::Refused(Box::new(refused))
    }
}
