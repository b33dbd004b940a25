//! From a survey file to facts.

use std::collections::HashMap;
use std::path::Path;

use rusqlite::{Connection, OptionalExtension, Row};
use tarvek_core::facts::build::{NewEntry, TreeBuilder};
use tarvek_core::facts::host::{Document, Gap, HostFacts, Root, Source};
use tarvek_core::facts::media::Media;
use tarvek_core::facts::mounts::{FstabEntry, MountEntry, MountTable};
use tarvek_core::facts::tree::{Extras, Listing, NodeId, Tree};
use tarvek_core::kernel::entry::{EntryKind, Flags, Meta, Project};
use tarvek_core::kernel::nfs4::Nfs4Acl;
use tarvek_core::words::file_name;
use tarvek_core::words::name::Name;
use tarvek_core::words::options::MountOptions;
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::secret;
use tarvek_core::words::terms::{Account, Group};
use tarvek_core::words::text::shown;
use tarvek_formats::acl;

use tarvek_formats::told;

use super::companions::Readable;
use super::{Rows, StoreError, open};

/// Reads a whole survey.
///
/// # Errors
/// If the file is none, is damaged, or was written by a newer version.
pub fn load(file: &Path) -> Result<HostFacts, StoreError> {
    Ok(load_with_rows(file)?.0)
}

/// Reads a whole survey, and where each entry stands in it, so that it can be renewed.
///
/// # Errors
/// As [`load`].
pub fn load_with_rows(file: &Path) -> Result<(HostFacts, Rows), StoreError> {
    let readable = Readable::of(file)?;
    let mut db = open(&readable.file, false)?;
    // Whoever holds a read transaction keeps writers out, so that all readers see the same.
    let transaction = db.transaction()?;
    transaction.query_row("SELECT 1 FROM survey", [], |_| Ok(())).optional()?;
    let (mut facts, rows) = facts(&transaction, Some(&readable.file))?;
    facts.source = Source::File(shown(file.as_os_str().as_encoded_bytes()));
    Ok((facts, rows))
}

/// The facts in an open survey, and the row of each entry of their tree.
/// `file`: where it is, if other connections may read it as well.
pub(super) fn facts(db: &Connection, file: Option<&Path>) -> Result<(HostFacts, Rows), StoreError> {
    let keys: HashMap<String, String> =
        rows(db, "SELECT key, value FROM survey", |row| Ok((row.get(0)?, row.get(1)?)))?
            .into_iter()
            .collect();
    let (tree, ids) = tree(db, file)?;
    let number = |key: &str| keys.get(key).and_then(|value| value.parse::<i64>().ok());
    let documents = rows(db, "SELECT name, text FROM document ORDER BY name", |row| {
        Ok(Document::new(name(row, 0)?, row.get::<_, String>(1)?.as_bytes()))
    })?;
    let mounts = mounts(db)?;
    let told = told::read(&documents, mounts.as_ref());
    let facts = HostFacts {
        name: keys.get("host").map(|host| host.as_str().into()).unwrap_or_default(),
        source: Source::File(String::new()),
        taken: number("taken").unwrap_or(0),
        taken_by: number("uid").and_then(|uid| u32::try_from(uid).ok()),
        kernel: keys.get("kernel").map(|kernel| kernel.as_str().into()),
        mounts,
        fstab: rows(
            db,
            "SELECT source, point, filesystem, options FROM fstab ORDER BY rowid",
            |row| {
                Ok(FstabEntry {
                    source: secret::hide(&row.get::<_, String>(0)?).into(),
                    point: path(row, 1)?,
                    filesystem: name(row, 2)?,
                    options: options(row, 3)?,
                })
            },
        )?,
        accounts: rows(db, "SELECT name, uid, gid, groups FROM account ORDER BY rowid", |row| {
            Ok(Account {
                name: name(row, 0)?,
                uid: row.get(1)?,
                gid: row.get(2)?,
                groups: list(row, 3)?.into_iter().map(Name::from).collect(),
            })
        })?,
        groups: rows(db, "SELECT name, gid FROM grp ORDER BY rowid", |row| {
            Ok(Group { name: name(row, 0)?, gid: row.get(1)? })
        })?,
        told,
        documents,
        roots: rows(db, "SELECT path, deep FROM root ORDER BY rowid", |row| {
            Ok(Root { path: path(row, 0)?, deep: row.get(1)? })
        })?,
        complete: keys.get("state").is_some_and(|state| state == "complete"),
        digests: digests(db, &ids)?,
        media: of_entries(db, "media", "SELECT * FROM media", &ids, header)?,
        tree,
        gaps: rows(db, "SELECT path, why FROM gap ORDER BY rowid", |row| {
            Ok(Gap { path: path(row, 0)?, why: name(row, 1)? })
        })?,
    };
    Ok((facts, Rows { ids, edition: number("edition").unwrap_or(0) }))
}

/// Digests of contents that are still those of their files: where the ctime has moved they wait to be looked at again.
fn digests(db: &Connection, ids: &[i64]) -> rusqlite::Result<HashMap<NodeId, [u8; 32]>> {
    let sql = match has_column(db, "content", "changed")? {
        true => {
            "SELECT entry, blake3 FROM content JOIN entry ON entry.id = content.entry WHERE content.changed IS entry.ctime"
        }
        false => "SELECT entry, blake3 FROM content",
    };
    of_entries(db, "content", sql, ids, |row| row.get(1))
}

/// Whether a table has a column, which those of older versions may lack.
fn has_column(db: &Connection, table: &str, column: &str) -> rusqlite::Result<bool> {
    let sql = "SELECT count(*) FROM pragma_table_info(?1) WHERE name = ?2";
    db.query_row(sql, [table, column], |row| row.get::<_, i64>(0)).map(|count| count > 0)
}

/// What a table has of the tree's entries. Surveys of older versions lack some tables.
fn of_entries<T>(
    db: &Connection,
    table: &str,
    sql: &str,
    ids: &[i64],
    read: impl Fn(&Row) -> rusqlite::Result<T>,
) -> rusqlite::Result<HashMap<NodeId, T>> {
    let there = "SELECT count(*) FROM main.sqlite_master WHERE type = 'table' AND name = ?1";
    if db.query_row(there, [table], |row| row.get::<_, i64>(0))? == 0 {
        return Ok(HashMap::new());
    }
    let mut known: HashMap<i64, T> =
        rows(db, sql, |row| Ok((row.get(0)?, read(row)?)))?.into_iter().collect();
    if known.is_empty() {
        return Ok(HashMap::new());
    }
    let of =
        |(node, id): (usize, &i64)| Some((NodeId(u32::try_from(node).ok()?), known.remove(id)?));
    Ok(ids.iter().enumerate().filter_map(of).collect())
}

fn header(row: &Row) -> rusqlite::Result<Option<Media>> {
    let number = |column: usize| row.get::<_, Option<i64>>(column);
    let small = |column: usize| {
        Ok::<_, rusqlite::Error>(number(column)?.and_then(|n| u32::try_from(n).ok()))
    };
    let tracks = small(6)?.unwrap_or(0);
    let media = Media {
        millis: number(1)?.and_then(|millis| u64::try_from(millis).ok()),
        width: small(2)?,
        height: small(3)?,
        video: row.get(4)?,
        audio: row.get(5)?,
        tracks,
        cut: row.get::<_, Option<bool>>("cut").ok().flatten().unwrap_or(false),
    };
    Ok((tracks > 0).then_some(media))
}

fn rows<T>(
    db: &Connection,
    sql: &str,
    read: impl FnMut(&Row) -> rusqlite::Result<T>,
) -> rusqlite::Result<Vec<T>> {
    db.prepare(sql)?.query_map([], read)?.collect()
}

fn list(row: &Row, column: usize) -> rusqlite::Result<Vec<String>> {
    let text: String = row.get(column)?;
    Ok(text.split(',').filter(|part| !part.is_empty()).map(str::to_owned).collect())
}

fn name(row: &Row, column: usize) -> rusqlite::Result<Name> {
    Ok(row.get::<_, String>(column)?.into())
}

fn options(row: &Row, column: usize) -> rusqlite::Result<MountOptions> {
    Ok(MountOptions::read(&row.get::<_, String>(column)?))
}

fn path(row: &Row, column: usize) -> rusqlite::Result<AbsPath> {
    let bytes: Vec<u8> = row.get(column)?;
    AbsPath::new(&bytes).map_err(|_| bad(column, "a path that is not absolute"))
}

fn bad(column: usize, what: &'static str) -> rusqlite::Error {
    rusqlite::Error::FromSqlConversionFailure(column, rusqlite::types::Type::Blob, what.into())
}

fn mounts(db: &Connection) -> Result<Option<MountTable>, StoreError> {
    let sql = "SELECT id, parent, major, minor, root, point, options, propagation, filesystem, source, super_options \
               FROM mount ORDER BY rowid";
    let entries = rows(db, sql, |row| {
        Ok(MountEntry {
            id: row.get::<_, i64>(0)?.cast_unsigned(),
            parent: row.get::<_, i64>(1)?.cast_unsigned(),
            device: (row.get(2)?, row.get(3)?),
            root: row.get(4)?,
            point: path(row, 5)?,
            options: options(row, 6)?,
            propagation: list(row, 7)?,
            filesystem: name(row, 8)?,
            source: secret::hidden(row.get(9)?),
            super_options: options(row, 10)?,
        })
    })?;
    Ok((!entries.is_empty()).then(|| MountTable::new(entries)))
}

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
fn tree(db: &Connection, file: Option<&Path>) -> Result<(Tree, Vec<i64>), StoreError> {
    let extras = extras(db)?;
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
    blocks(db, file, dense, &extras, &mut |block| {
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

/// Reads the rows up to `last` in the order of their ids. Taking rows apart costs more than all else, so that every processor
/// gets a connection, if there is much to read.
fn blocks(
    db: &Connection,
    file: Option<&Path>,
    last: i64,
    extras: &HashMap<i64, Extras>,
    take: &mut dyn FnMut(Vec<Loaded>) -> Result<(), StoreError>,
) -> Result<(), StoreError> {
    let threads = std::thread::available_parallelism().map_or(1, |n| n.get());
    let Some(file) = file.filter(|_| threads > 1 && last > 8 * BLOCK) else {
        for first in (0..=last).step_by(BLOCK as usize) {
            take(block(db, first, last.min(first + BLOCK - 1), extras)?)?;
        }
        return Ok(());
    };
    std::thread::scope(|scope| {
        let start = |turn: usize| {
            let (send, receive) = std::sync::mpsc::sync_channel(2);
            scope.spawn(move || {
                let read = || -> Result<(), StoreError> {
                    let db = open(file, false)?;
                    for first in (0..=last).step_by(BLOCK as usize).skip(turn).step_by(threads) {
                        let block = block(&db, first, last.min(first + BLOCK - 1), extras)?;
                        // Nobody listens any more after a mistake.
                        if send.send(Ok(block)).is_err() {
                            break;
                        }
                    }
                    Ok(())
                };
                if let Err(error) = read() {
                    let _ = send.send(Err(error));
                }
            });
            receive
        };
        let readers: Vec<_> = (0..threads).map(start).collect();
        for turn in 0..=usize::try_from(last / BLOCK).unwrap_or(usize::MAX) {
            take(readers[turn % threads].recv().map_err(|_| damaged())??)?;
        }
        Ok(())
    })
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

fn damaged() -> StoreError {
    StoreError::new("its tree does not hang together", "survey the host again, into a new file")
}

struct Grower {
    builder: TreeBuilder,
    /// The number of each id up to `dense`.
    numbers: Vec<u32>,
    late_numbers: HashMap<i64, NodeId>,
    ids: Vec<i64>,
    listings: Vec<Listing>,
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
        if self.builder.tree().meta(node).kind != EntryKind::Folder {
            return Err(damaged());
        }
        run.sort_by(|a, b| a.entry.name.cmp(&b.entry.name));
        let ids: Vec<(i64, Listing)> =
            run.iter().map(|loaded| (loaded.id, loaded.listing)).collect();
        let entries: Vec<NewEntry> = run.into_iter().map(|loaded| loaded.entry).collect();
        let listing = self.listings[node.0 as usize];
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
            if *listing != Listing::NotListed && self.builder.tree().children(node).len() == 0 {
                self.builder.fill(node, Vec::new(), *listing);
            }
        }
        Ok(())
    }

    fn finish(self) -> (Tree, Vec<i64>) {
        (self.builder.finish(), self.ids)
    }
}

pub(super) fn extras(db: &Connection) -> rusqlite::Result<HashMap<i64, Extras>> {
    let read = |row: &Row, column: usize| -> rusqlite::Result<_> {
        let text: Option<String> = row.get(column)?;
        let acl = text.map(|text| acl::read(&text).ok_or_else(|| bad(column, "no ACL")));
        acl.transpose()
    };
    let all = rows(
        db,
        "SELECT id, acl, default_acl, nfs4_acl, label, project, inherits FROM extras",
        |row| {
            let extras = Extras {
                acl: read(row, 1)?,
                default_acl: read(row, 2)?,
                nfs4_acl: row.get::<_, Option<Vec<u8>>>(3)?.as_deref().map(Nfs4Acl::read),
                label: row.get(4)?,
                project: match row.get(5)? {
                    Some(id) => Some(Project { id, inherits: row.get(6)? }),
                    None => None,
                },
            };
            Ok((row.get(0)?, extras))
        },
    )?;
    Ok(all.into_iter().collect())
}

fn loaded(row: &Row, extras: &HashMap<i64, Extras>) -> rusqlite::Result<Loaded> {
    let kind = match row.get_ref(3)?.as_str().unwrap_or_default() {
        "d" => EntryKind::Folder,
        "f" => EntryKind::File,
        "l" => EntryKind::Symlink,
        "p" => EntryKind::Fifo,
        "s" => EntryKind::Socket,
        "b" => EntryKind::BlockDevice,
        "c" => EntryKind::CharDevice,
        _ => return Err(bad(3, "no type of entry")),
    };
    let unsigned = |column| row.get::<_, Option<i64>>(column).map(|n| n.map(i64::cast_unsigned));
    let flags: Option<String> = row.get(14)?;
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
        flags: flags
            .map(|flags| Flags { immutable: flags.contains('i'), append: flags.contains('a') }),
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
