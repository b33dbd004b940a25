//! Digests of files' contents.

use std::collections::HashMap;
use std::fs::File;
use std::path::Path;

use rusqlite::{Connection, Transaction, params};
use tarvek_core::facts::tree::NodeId;
use tarvek_core::kernel::entry::Meta;

use super::contents::{Added, Taken as Take, add, open_seen};
use super::{StoreError, load, open};
use crate::contents::{Taken, all_of, sample_of};
use crate::walk::Watch;

/// Adds the BLAKE3 digest of every regular file of a survey of this machine that has none yet. Digests of files of which only the inode
/// has changed since (mode, owner, names) count again if a sample of the contents is what it was.
///
/// # Errors
/// If the survey can't be read or written.
pub fn add_digests(file: &Path, watch: &Watch) -> Result<Added, StoreError> {
    carry(file)?;
    add::<Digest>(file, watch)
}

/// A digest that waits to be looked at again: its row, and the sample that was taken with it.
struct Waiting {
    entry: i64,
    head: Option<i64>,
    ends: Option<i64>,
}

fn carry(file: &Path) -> Result<(), StoreError> {
    let waiting = {
        let db = open(file, true)?;
        waiting(&db)?
    };
    if waiting.is_empty() {
        return Ok(());
    }
    let (facts, rows) = load::load_with_rows(file)?;
    let nodes: HashMap<i64, usize> =
        rows.ids.iter().enumerate().map(|(node, id)| (*id, node)).collect();
    let mut db = open(file, true)?;
    let transaction = db.transaction()?;
    for Waiting { entry, head, ends } in waiting {
        let node = nodes.get(&entry).and_then(|node| u32::try_from(*node).ok());
        let same = node.is_some_and(|node| {
            let node = NodeId(node);
            let (path, meta) = (facts.tree.path(node), facts.tree.meta(node));
            let sample = open_seen(&path, &meta).and_then(|file| sample_of(&file, &meta));
            let now = sample
                .map(|taken| (taken.head.map(u64::cast_signed), taken.ends.map(u64::cast_signed)));
            head.is_some() && now == Ok((head, ends))
        });
        let sql = match same {
            true => {
                "UPDATE content SET changed = (SELECT ctime FROM entry WHERE id = content.entry) WHERE entry = ?1"
            }
            false => "DELETE FROM content WHERE entry = ?1",
        };
        transaction.prepare_cached(sql)?.execute([entry])?;
    }
    Ok(transaction.commit()?)
}

fn waiting(db: &Connection) -> Result<Vec<Waiting>, StoreError> {
    let sql = "SELECT content.entry, head, ends FROM content JOIN entry ON entry.id = content.entry WHERE content.changed IS NOT entry.ctime";
    let mut statement = db.prepare(sql)?;
    let rows = statement.query_map([], |row| {
        Ok(Waiting { entry: row.get(0)?, head: row.get(1)?, ends: row.get(2)? })
    })?;
    Ok(rows.collect::<Result<_, _>>()?)
}

struct Digest(Taken);

impl Take for Digest {
    const TABLE: &'static str = "content";

    fn is_of(_: &[u8]) -> bool {
        true
    }

    fn expects(size: u64) -> u64 {
        size
    }

    fn take(file: &File, seen: &Meta, watch: &Watch) -> Result<(Self, u64), String> {
        Ok((Self(all_of(file, seen, watch)?), seen.size))
    }

    fn keep(&self, entry: i64, survey: &Transaction) -> rusqlite::Result<()> {
        let row = "INSERT OR REPLACE INTO content VALUES (?1, ?2, (SELECT ctime FROM entry WHERE id = ?1), ?3, ?4)";
        let Taken { head, ends, whole, .. } = &self.0;
        let whole = whole.as_ref().map(|whole| whole.as_slice());
        let signed = |value: &Option<u64>| value.map(u64::cast_signed);
        survey.execute(row, params![entry, whole, signed(head), signed(ends)]).map(drop)
    }
}
