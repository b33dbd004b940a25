//! The trees of surveys up to version 4: a row per entry.

use std::collections::{HashMap, HashSet};

use rusqlite::{Connection, Row};
use tarvek_core::facts::build::{NewEntry, TreeBuilder};
use tarvek_core::facts::classes::Extras;
use tarvek_core::facts::tree::{Listing, NodeId, Tree};
use tarvek_core::kernel::entry::{EntryKind, Meta};
use tarvek_core::words::file_name;

use super::load::bad;
use super::{StoreError, classes, damaged};

/// One row of `entry` on its way into the tree.
struct Loaded {
    id: i64,
    parent: i64,
    entry: NewEntry,
    listing: Listing,
}

/// The tree, and the id of each of its entries.
///
/// Rows of a first survey stand folder by folder, and are put into the tree as they come. Rows that a later survey added
/// stand at the end; they are read first, and wait for their folder.
pub(super) fn tree(db: &Connection) -> Result<(Tree, Vec<i64>), StoreError> {
    let extras: HashMap<i64, Extras> = classes::extras(db)?.into_iter().collect();
    let dense: Option<String> =
        db.query_row("SELECT max(value) FROM survey WHERE key = 'dense'", [], |row| row.get(0))?;
    let dense: i64 = dense.and_then(|dense| dense.parse().ok()).unwrap_or(0);
    let ends = "SELECT ifnull(min(id), 0), ifnull(max(id), 0), (SELECT page_count * page_size FROM pragma_page_count, pragma_page_size) FROM entry";
    let (least, last, size): (i64, i64, i64) =
        db.query_row(ends, [], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))?;
    // A row takes more than one byte.
    if least < 0 || dense < 0 || dense > size {
        return Err(damaged());
    }
    let dense = dense.min(last);
    let mut late: HashMap<i64, Vec<Loaded>> = HashMap::new();
    for loaded in block(db, dense + 1, i64::MAX, &extras)? {
        late.entry(loaded.parent).or_default().push(loaded);
    }
    let mut grower: Option<Grower> = None;
    let mut run: Vec<Loaded> = Vec::new();
    blocks(db, dense, &extras, &mut |block| {
        for next in block {
            if next.id == 0 {
                grower = Some(Grower::new(next, dense));
                continue;
            }
            if run.first().is_some_and(|first| first.parent != next.parent) {
                let run = std::mem::take(&mut run);
                grower.as_mut().ok_or_else(damaged)?.fill(run, &mut late)?;
            }
            run.push(next);
        }
        Ok(())
    })?;
    let mut grower = grower.ok_or_else(|| {
        StoreError::new(
            "it holds nothing: the survey was broken off at its start",
            "survey the host again",
        )
    })?;
    grower.fill(run, &mut late)?;
    grower.rest(&mut late)?;
    Ok(grower.finish())
}

/// How many rows are read in one go.
const BLOCK: i64 = 8192;

/// Reads the rows up to `last` in the order of their ids.
fn blocks(
    db: &Connection,
    last: i64,
    extras: &HashMap<i64, Extras>,
    take: &mut dyn FnMut(Vec<Loaded>) -> Result<(), StoreError>,
) -> Result<(), StoreError> {
    for first in (0..=last).step_by(BLOCK as usize) {
        take(block(db, first, last.min(first + BLOCK - 1), extras)?)?;
    }
    Ok(())
}

fn block(
    db: &Connection,
    first: i64,
    last: i64,
    extras: &HashMap<i64, Extras>,
) -> Result<Vec<Loaded>, StoreError> {
    let sql = "SELECT id, parent, name, type, mode, uid, gid, size, allocated, inode, device, links, mtime, ctime, \
               flags, listing, target, extras FROM entry WHERE id BETWEEN ?1 AND ?2 ORDER BY id";
    let mut statement = db.prepare_cached(sql)?;
    let mut query = statement.query([first, last])?;
    let mut block =
        Vec::with_capacity(usize::try_from(last - first + 1).unwrap_or(0).min(BLOCK as usize));
    while let Some(row) = query.next()? {
        block.push(loaded(row, extras)?);
    }
    Ok(block)
}

struct Grower {
    builder: TreeBuilder,
    /// The number of each id up to `dense`.
    numbers: Vec<u32>,
    late_numbers: HashMap<i64, NodeId>,
    ids: Vec<i64>,
    listings: Vec<Listing>,
    /// Folders that have what is in them.
    filled: HashSet<NodeId>,
}

const UNKNOWN: u32 = u32::MAX;

impl Grower {
    fn new(root: Loaded, dense: i64) -> Self {
        let mut numbers = vec![UNKNOWN; usize::try_from(dense + 1).unwrap_or(1).max(1)];
        numbers[0] = 0;
        Self {
            builder: TreeBuilder::new(root.entry),
            numbers,
            late_numbers: HashMap::new(),
            ids: vec![0],
            listings: vec![root.listing],
            filled: HashSet::new(),
        }
    }

    fn number(&self, id: i64) -> Option<NodeId> {
        let dense = usize::try_from(id).ok().and_then(|id| self.numbers.get(id)).copied();
        match dense {
            Some(UNKNOWN) => None,
            Some(number) => Some(NodeId(number)),
            None => self.late_numbers.get(&id).copied(),
        }
    }

    /// Fills one folder with the rows of a run, and with what a later survey added to it.
    fn fill(
        &mut self,
        mut run: Vec<Loaded>,
        late: &mut HashMap<i64, Vec<Loaded>>,
    ) -> Result<(), StoreError> {
        let Some(parent) = run.first().map(|first| first.parent) else { return Ok(()) };
        run.extend(late.remove(&parent).unwrap_or_default());
        self.folder(parent, run)
    }

    fn folder(&mut self, parent: i64, mut run: Vec<Loaded>) -> Result<(), StoreError> {
        let node = self.number(parent).ok_or_else(damaged)?;
        if self.builder.kind(node) != EntryKind::Folder {
            return Err(damaged());
        }
        run.sort_by(|a, b| a.entry.name.cmp(&b.entry.name));
        let ids: Vec<(i64, Listing)> =
            run.iter().map(|loaded| (loaded.id, loaded.listing)).collect();
        let entries: Vec<NewEntry> = run.into_iter().map(|loaded| loaded.entry).collect();
        let listing = self.listings[node.0 as usize];
        if !self.filled.insert(node) {
            return Err(damaged());
        }
        let numbers = self.builder.fill(node, entries, listing);
        if numbers.len() != ids.len() {
            return Err(damaged());
        }
        for (number, (id, listing)) in numbers.into_iter().zip(ids) {
            match usize::try_from(id).ok().and_then(|id| self.numbers.get_mut(id)) {
                Some(slot) => *slot = number.0,
                None => drop(self.late_numbers.insert(id, number)),
            }
            self.ids.push(id);
            self.listings.push(listing);
        }
        Ok(())
    }

    /// Folders that hold only what a later survey added, and empty folders that were read.
    fn rest(&mut self, late: &mut HashMap<i64, Vec<Loaded>>) -> Result<(), StoreError> {
        let mut ready: Vec<i64> =
            late.keys().copied().filter(|id| self.number(*id).is_some()).collect();
        while let Some(parent) = ready.pop() {
            let run = late.remove(&parent).unwrap_or_default();
            ready.extend(run.iter().map(|loaded| loaded.id).filter(|id| late.contains_key(id)));
            self.folder(parent, run)?;
        }
        if !late.is_empty() {
            return Err(damaged());
        }
        for (n, listing) in self.listings.iter().enumerate() {
            let node = NodeId(u32::try_from(n).expect("a tree has less than 2^32 entries"));
            if *listing != Listing::NotListed && !self.filled.contains(&node) {
                self.builder.fill(node, Vec::new(), *listing);
            }
        }
        Ok(())
    }

    fn finish(self) -> (Tree, Vec<i64>) {
        (self.builder.finish(), self.ids)
    }
}

fn loaded(row: &Row, extras: &HashMap<i64, Extras>) -> rusqlite::Result<Loaded> {
    let kind = classes::kind(row, 3)?;
    let unsigned = |column| row.get::<_, Option<i64>>(column).map(|n| n.map(i64::cast_unsigned));
    let meta = Meta {
        kind,
        mode: row.get(4)?,
        uid: row.get(5)?,
        gid: row.get(6)?,
        size: unsigned(7)?.unwrap_or(0),
        allocated: unsigned(8)?,
        inode: unsigned(9)?,
        device: unsigned(10)?,
        links: row.get(11)?,
        modified: row.get(12)?,
        changed: row.get(13)?,
        flags: classes::flags(row, 14)?,
    };
    // Only folders have the one and only symlinks the other; with a million rows it pays not to ask.
    let (mut listing, mut target) = (Listing::NotListed, None);
    match kind {
        EntryKind::Folder => {
            listing = match row.get_ref(15)?.as_str_or_null() {
                Ok(Some("complete")) => Listing::Complete,
                Ok(Some("failed")) => Listing::Failed,
                _ => Listing::NotListed,
            };
        }
        EntryKind::Symlink => target = row.get(16)?,
        _ => {}
    }
    let extras_id: Option<i64> = row.get(17)?;
    let extras = match extras_id {
        Some(id) => extras.get(&id).cloned().ok_or_else(|| bad(17, "extras that are not there"))?,
        None => Extras::default(),
    };
    let name: Vec<u8> = row.get(2)?;
    let id: i64 = row.get(0)?;
    if id != 0 && !file_name::is_one(&name) {
        return Err(bad(2, "no name of an entry"));
    }
    let entry = NewEntry { target, extras, ..NewEntry::plain(name, meta) };
    Ok(Loaded { id, parent: row.get(1)?, entry, listing })
}
