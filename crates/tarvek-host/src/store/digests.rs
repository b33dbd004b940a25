//! Digests of files' contents.

use std::fs::File;
use std::path::Path;

use rusqlite::{Transaction, params};
use tarvek_core::kernel::entry::Meta;

use super::StoreError;
use super::contents::{Added, Taken, add};
use crate::walk::Watch;

/// Adds the BLAKE3 digest of every regular file of a survey of this machine that has none yet.
///
/// # Errors
/// If the survey can't be read or written.
pub fn add_digests(file: &Path, watch: &Watch) -> Result<Added, StoreError> {
    add::<Digest>(file, watch)
}

struct Digest(blake3::Hash);

impl Taken for Digest {
    const TABLE: &'static str = "content";

    fn is_of(_: &[u8]) -> bool {
        true
    }

    fn take(file: &File, seen: &Meta) -> Result<(Self, u64), String> {
        let mut hasher = blake3::Hasher::new();
        hasher.update_reader(file).map_err(|error| error.to_string())?;
        Ok((Self(hasher.finalize()), seen.size))
    }

    fn keep(&self, entry: i64, survey: &Transaction) -> rusqlite::Result<()> {
        let row = "INSERT OR REPLACE INTO content VALUES (?1, ?2)";
        survey.execute(row, params![entry, self.0.as_bytes()]).map(drop)
    }
}
