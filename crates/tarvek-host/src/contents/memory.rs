//! What is known of contents already, and what is taken of them.

use tarvek_core::kernel::entry::Meta;
use tarvek_core::words::path::AbsPath;

use crate::store::connection::StoreError;

/// What was read of a file, as numbers that differ where contents differ (as good as always).
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct PartialDigests {
    /// Of its first bytes.
    pub head: Option<u64>,
    /// Of some in its middle and of its last ones.
    pub ends: Option<u64>,
    /// Of all bytes up to a place, by the number of the place.
    pub prefixes: Vec<(u8, u64)>,
    /// BLAKE3 of all.
    pub whole: Option<[u8; 32]>,
    /// Of a file that is mostly holes: BLAKE3 of its blocks that are not all zero, each with its
    /// place.
    pub blocks: Option<[u8; 32]>,
}

/// What is known of a file from before.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum CacheLookup {
    Nothing,
    /// Nothing of the file has changed since.
    Unchanged(PartialDigests),
    /// Its inode has, in a way that shows and has nothing to do with its contents: mode, owner,
    /// names. A program that writes under an old mtime could have been there as well, so that a
    /// sample is compared.
    Touched(PartialDigests),
}

/// A file that may be equal to others.
#[derive(Clone, Debug)]
pub struct Candidate {
    pub path: AbsPath,
    pub meta: Meta,
    /// What a survey of another time or place says of it, where it can't be read now.
    pub digest: Option<[u8; 32]>,
}

/// Where it is kept what was read of files.
pub trait Memory: Sync {
    fn recall(&self, path: &AbsPath, meta: &Meta) -> CacheLookup;
    /// Keeps it.
    ///
    /// # Errors
    /// If it can't be written.
    fn learn(&self, path: &AbsPath, meta: &Meta, taken: &PartialDigests) -> Result<(), StoreError>;
}
