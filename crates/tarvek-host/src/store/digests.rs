//! Digests of files' contents.

use std::fs::File;
use std::path::Path;

use rusqlite::{Connection, params};
use tarvek_core::kernel::entry::Meta;

use super::connection::StoreError;
use super::contents::{Added, FileRecord, add, open_seen};
use super::file::open;
use super::load;
use super::load::Contents;
use crate::content_fault::ContentFault;
use crate::contents::memory::PartialDigests;
use crate::contents::rounds::{all_of, sample_of};
use crate::sink::Number;
use crate::walk::Watch;

/// Adds the BLAKE3 digest of every regular file of a survey of this machine that has none yet.
/// Digests of files of which only the inode has changed since (mode, owner, names) count again if a
/// sample of the contents is what it was.
///
/// # Errors
/// If the survey can't be read or written.
pub fn add_digests(file: &Path, watch: &Watch) -> Result<Added, StoreError> {
    carry(file)?;
    add::<Digest>(file, watch)
}

fn carry(file: &Path) -> Result<(), StoreError> {
    let mut db = open(file, true)?;
    let (facts, folders) = load::load_with_folders(file)?;
    let tree = &facts.tree;
    let mut waiting = Contents { db: &db, tree, folders: &folders }.all_digests()?;
    waiting.retain(|(node, digest)| digest.changed != tree.meta(*node).changed);
    if waiting.is_empty() {
        return Ok(());
    }
    let numbers = load::numbers(&folders);
    let transaction = db.transaction()?;
    for (node, load::Digest { head, ends, .. }) in waiting {
        let (path, meta) = (tree.path(node), tree.meta(node));
        let sample = open_seen(&path, &meta).and_then(|file| sample_of(&file, &meta));
        let now = sample
            .map(|taken| (taken.head.map(u64::cast_signed), taken.ends.map(u64::cast_signed)));
        let (folder, name) = (numbers[&tree.parent(node)], tree.name(node));
        if head.is_some() && now == Ok((head, ends)) {
            let sql = "UPDATE content SET changed = ?3 WHERE folder = ?1 AND name = ?2";
            transaction.prepare_cached(sql)?.execute(params![folder, name, meta.changed])?;
        } else {
            let sql = "DELETE FROM content WHERE folder = ?1 AND name = ?2";
            transaction.prepare_cached(sql)?.execute(params![folder, name])?;
        }
    }
    Ok(transaction.commit()?)
}

struct Digest(PartialDigests);

impl FileRecord for Digest {
    const TABLE: &'static str = "content";

    fn is_of(_: &[u8]) -> bool {
        true
    }

    fn expects(size: u64) -> u64 {
        size
    }

    fn take(file: &File, seen: &Meta, watch: &Watch) -> Result<(Self, u64), ContentFault> {
        Ok((Self(all_of(file, seen, watch)?), seen.size))
    }

    fn keep(
        &self,
        folder: Number,
        name: &[u8],
        seen: &Meta,
        survey: &Connection,
    ) -> rusqlite::Result<()> {
        let row = "INSERT OR REPLACE INTO content VALUES (?1, ?2, ?3, ?4, ?5, ?6)";
        let PartialDigests { head, ends, whole, .. } = &self.0;
        let whole = whole.as_ref().map(|whole| whole.as_slice());
        let signed = |value: &Option<u64>| value.map(u64::cast_signed);
        let values = params![folder, name, whole, seen.changed, signed(head), signed(ends)];
        survey.prepare_cached(row)?.execute(values).map(drop)
    }
}
