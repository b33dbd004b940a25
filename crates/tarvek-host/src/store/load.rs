//! From a survey file to facts.

use std::borrow::Cow;
use std::collections::{HashMap, HashSet};
use std::path::Path;

use rusqlite::types::ValueRef;
use rusqlite::{Connection, OptionalExtension, Row};
use tarvek_core::facts::build::{self as core_build, TreeBuilder};
use tarvek_core::facts::classes::Classes;
use tarvek_core::facts::host::{Document, Gap, HostFacts, Root, Source};
use tarvek_core::facts::media::Media;
use tarvek_core::facts::mounts::{FstabEntry, MountEntry, MountTable};
use tarvek_core::facts::tree::{Listing, Lookup, NodeId, Tree};
use tarvek_core::kernel::entry::Project;
use tarvek_core::words::name::Name;
use tarvek_core::words::options::MountOptions;
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::secret;
use tarvek_core::words::terms::{Account, Group};
use tarvek_core::words::text::shown;
use tarvek_formats::host_report;

use super::companions::Readable;
use super::connection::{StoreError, damaged, guarded};
use super::file::open;
use super::rows::{all, bad};
use super::{classes, entries};
use crate::sink::{ABOVE, Before, Earlier, Number, OwnOf};

/// Reads a whole survey.
///
/// # Errors
/// If the file is none, is damaged, or is of another version.
pub fn load(file: &Path) -> Result<HostFacts, StoreError> {
    guarded(|| Ok(load_with_folders(file)?.0))
}

/// Reads a whole survey, and the number of each of its folders.
///
/// # Errors
/// As [`load`].
pub(super) fn load_with_folders(file: &Path) -> Result<(HostFacts, Folders), StoreError> {
    let readable = Readable::of(file)?;
    let mut db = open(&readable.file, false)?;
    // Whoever holds a read transaction keeps writers out, so that all readers see the same.
    let transaction = db.transaction()?;
    transaction.query_row("SELECT 1 FROM survey", [], |_| Ok(())).optional()?;
    let (tree, folders) = tree(&transaction, &readable.file)?;
    let facts = small(&transaction, file, tree)?;
    let (digests, media) = {
        let contents = Contents { db: &transaction, tree: &facts.tree, folders: &folders };
        (contents.digests()?, contents.media()?)
    };
    Ok((HostFacts { digests, media, ..facts }, folders))
}

/// The node of each folder's number.
pub(super) type Folders = HashMap<Number, NodeId>;

/// The number of each folder's node.
pub(super) fn numbers(folders: &Folders) -> HashMap<NodeId, Number> {
    folders.iter().map(|(number, node)| (*node, *number)).collect()
}

/// What is known of the host besides its contents, around a tree.
pub(super) fn small(db: &Connection, file: &Path, tree: Tree) -> Result<HostFacts, StoreError> {
    let keys: HashMap<String, String> =
        all(db, "SELECT key, value FROM survey", |row| Ok((row.get(0)?, row.get(1)?)))?
            .into_iter()
            .collect();
    let number = |key: &str| keys.get(key).and_then(|value| value.parse::<i64>().ok());
    let documents = all(db, "SELECT name, text FROM document ORDER BY name", |row| {
        Ok(Document::new(name(row, 0)?, row.get::<_, String>(1)?.as_bytes()))
    })?;
    let mounts = mounts(db)?;
    let told = host_report::read(&documents, mounts.as_ref());
    Ok(HostFacts {
        name: keys.get("host").map(|host| host.as_str().into()).unwrap_or_default(),
        source: Source::File(shown(file.as_os_str().as_encoded_bytes())),
        taken: number("taken").unwrap_or(0),
        taken_by: number("uid").and_then(|uid| u32::try_from(uid).ok()),
        kernel: keys.get("kernel").map(|kernel| kernel.as_str().into()),
        mounts,
        fstab: all(
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
        accounts: all(db, "SELECT name, uid, gid, groups FROM account ORDER BY rowid", |row| {
            Ok(Account {
                name: name(row, 0)?,
                uid: row.get(1)?,
                gid: row.get(2)?,
                groups: list(row, 3)?.into_iter().map(Name::from).collect(),
            })
        })?,
        groups: all(db, "SELECT name, gid FROM grp ORDER BY rowid", |row| {
            Ok(Group { name: name(row, 0)?, gid: row.get(1)? })
        })?,
        told,
        documents,
        roots: all(db, "SELECT path, deep FROM root ORDER BY rowid", |row| {
            Ok(Root { path: path(row, 0)?, deep: row.get(1)? })
        })?,
        complete: keys.get("state").is_some_and(|state| state == "complete"),
        digests: HashMap::new(),
        media: HashMap::new(),
        tree,
        gaps: all(db, "SELECT path, why FROM gap ORDER BY rowid", |row| {
            Ok(Gap { path: path(row, 0)?, why: name(row, 1)? })
        })?,
    })
}

/// The tables of what files hold; its rows name the files by folder and name.
pub(super) struct Contents<'a> {
    pub(super) db: &'a Connection,
    pub(super) tree: &'a Tree,
    pub(super) folders: &'a Folders,
}

/// A digest, the ctime that it is of, and the sample that was taken with it.
#[derive(Clone, Debug)]
pub(super) struct Digest {
    pub(super) blake3: Vec<u8>,
    pub(super) changed: Option<i64>,
    pub(super) head: Option<i64>,
    pub(super) ends: Option<i64>,
}

impl Contents<'_> {
    /// Reads columns of a table, each row with its file. Of files that are not in the tree nobody
    /// asks.
    fn rows<T>(
        &self,
        table: &str,
        columns: &str,
        read: impl Fn(&Row) -> rusqlite::Result<T>,
    ) -> Result<Vec<(NodeId, T)>, StoreError> {
        let entry = |row: &Row| {
            let (folder, name) = (row.get::<_, Number>(0)?, row.get_ref(1)?.as_blob()?);
            let lookup = self.folders.get(&folder).map(|folder| self.tree.lookup(*folder, name));
            Ok::<_, rusqlite::Error>(match lookup {
                Some(Lookup::Found(node)) => Some(node),
                _ => None,
            })
        };
        let sql = format!("SELECT folder, name, {columns} FROM {table}");
        let found = all(self.db, &sql, |row| Ok((entry(row)?, read(row)?)))?;
        Ok(found.into_iter().filter_map(|(node, what)| Some((node?, what))).collect())
    }

    /// All digests, also those that wait to be looked at again because the ctime has moved.
    pub(super) fn all_digests(&self) -> Result<Vec<(NodeId, Digest)>, StoreError> {
        self.rows("content", "blake3, changed, head, ends", |row| {
            Ok(Digest {
                blake3: row.get(2)?,
                changed: row.get(3)?,
                head: row.get(4)?,
                ends: row.get(5)?,
            })
        })
    }

    /// Digests of contents that are still those of their files.
    pub(super) fn digests(&self) -> Result<HashMap<NodeId, [u8; 32]>, StoreError> {
        let rows = self.all_digests()?.into_iter();
        let current = rows.filter(|(node, digest)| digest.changed == self.tree.meta(*node).changed);
        current
            .map(|(node, digest)| Ok((node, digest.blake3.try_into().map_err(|_| damaged())?)))
            .collect()
    }

    pub(super) fn media(&self) -> Result<HashMap<NodeId, Option<Media>>, StoreError> {
        let columns = "millis, width, height, video, audio, tracks, cut";
        Ok(self.rows("media", columns, header)?.into_iter().collect())
    }
}

/// The files of which a table has a row.
pub(super) fn known(
    db: &Connection,
    table: &str,
    tree: &Tree,
    folders: &Folders,
) -> Result<HashSet<NodeId>, StoreError> {
    let contents = Contents { db, tree, folders };
    Ok(contents.rows(table, "NULL", |_| Ok(()))?.into_iter().map(|(node, ())| node).collect())
}

fn header(row: &Row) -> rusqlite::Result<Option<Media>> {
    let number = |column: usize| row.get::<_, Option<i64>>(column);
    let small = |column: usize| {
        Ok::<_, rusqlite::Error>(number(column)?.and_then(|n| u32::try_from(n).ok()))
    };
    let tracks = small(7)?.unwrap_or(0);
    let media = Media {
        millis: number(2)?.and_then(|millis| u64::try_from(millis).ok()),
        width: small(3)?,
        height: small(4)?,
        video: row.get(5)?,
        audio: row.get(6)?,
        tracks,
        cut: row.get::<_, Option<bool>>(8)?.unwrap_or(false),
    };
    Ok((tracks > 0).then_some(media))
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

fn mounts(db: &Connection) -> Result<Option<MountTable>, StoreError> {
    let sql = "SELECT id, parent, major, minor, root, point, options, propagation, filesystem, \
               source, super_options \
               FROM mount ORDER BY rowid";
    let entries = all(db, sql, |row| {
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

/// The tree, and the node of each of its folders' numbers.
fn tree(db: &Connection, file: &Path) -> Result<(Tree, Folders), StoreError> {
    let classes = classes::read(db)?;
    let (mut builder, root) = root(db, classes.clone(), false)?;
    let mut folders = Folders::from([(root, Tree::ROOT)]);
    folders_of(db, file, &classes, &mut |seen| {
        let node = *folders.get(&seen.number).ok_or_else(damaged)?;
        for (number, node) in put(&mut builder, node, &seen.what) {
            if folders.insert(number, node).is_some() {
                return Err(damaged());
            }
        }
        Ok(())
    })?;
    Ok((builder.finish(), folders))
}

/// A tree of the root alone, and the root's number.
pub(super) fn root(
    db: &Connection,
    classes: Classes,
    defers: bool,
) -> Result<(TreeBuilder, Number), StoreError> {
    last_row(db)?;
    let mut above = Earlier::default();
    folder(db, ABOVE, &classes, &mut above)?;
    if above.is_empty() {
        return Err(StoreError::new(
            "it holds nothing: the survey was broken off at its start",
            "survey the host again",
        ));
    }
    let number = above.folder(0).filter(|_| above.len() == 1).ok_or_else(damaged)?;
    Ok((TreeBuilder::of_rows(classes, row(&above, 0), defers), number))
}

/// Puts what was seen in a folder into the tree, and tells the numbers of the folders in it.
pub(super) fn put(
    builder: &mut TreeBuilder,
    node: NodeId,
    seen: &Earlier,
) -> Vec<(Number, NodeId)> {
    let rows = (0..seen.len()).map(|index| row(seen, index));
    let nodes = builder.fill_rows(node, rows, seen.listing);
    if let Some(project) = seen.project {
        builder.project(node, project);
    }
    let folder = |(index, node)| Some((seen.folder(index)?, node));
    nodes.into_iter().enumerate().filter_map(folder).collect()
}

fn row(seen: &Earlier, index: usize) -> core_build::Row<'_> {
    let Before { meta, class, .. } = seen.entry(index);
    core_build::Row {
        name: seen.name(index),
        class: *class,
        size: meta.size,
        allocated: meta.allocated,
        inode: meta.inode,
        links: meta.links,
        modified: meta.modified,
        changed: meta.changed,
        target: match seen.own(index) {
            OwnOf::Target(target) => Some(target),
            OwnOf::Nothing | OwnOf::Folder(_) => None,
        },
    }
}

/// The last row of the folders, if there is one. None stands before the folder above the root.
pub(super) fn last_row(db: &Connection) -> Result<Option<i64>, StoreError> {
    let ends = "SELECT min(id), max(id) FROM folder";
    let (first, last): (Option<i64>, _) =
        db.query_row(ends, [], |row| Ok((row.get(0)?, row.get(1)?)))?;
    if first.is_some_and(|first| first != parts(ABOVE).0) { Err(damaged()) } else { Ok(last) }
}

/// So many bits of a row's number say which part of its folder it is.
pub(super) const PART_BITS: u32 = 16;

/// The numbers of the rows that a folder may have.
pub(super) fn parts(folder: Number) -> (i64, i64) {
    let first = i64::from(folder) << PART_BITS;
    (first, first | ((1 << PART_BITS) - 1))
}

/// Rows from one to another, with the columns that [`Part::of`] takes.
const ROWS: &str = "SELECT id, listing, project, inherits, entries FROM folder WHERE id BETWEEN ?1 \
                    AND ?2 ORDER BY id";

/// A row of a folder: all of it, or a part of a large one.
pub(super) struct Part<'r> {
    id: i64,
    listing: Listing,
    project: Option<Project>,
    /// Entries, not yet taken apart.
    text: Cow<'r, str>,
}

impl<'r> Part<'r> {
    fn of(row: &'r Row) -> Result<Self, StoreError> {
        let listing = match row.get_ref(1)?.as_str_or_null().map_err(|_| damaged())? {
            Some("complete") => Listing::Complete,
            Some("failed") => Listing::Failed,
            Some(_) => return Err(damaged()),
            None => Listing::NotListed,
        };
        let text = row.get_ref(4)?.as_str().map_err(|_| damaged())?;
        let (id, project) = (row.get(0)?, classes::project(row, 2)?);
        Ok(Self { id, listing, project, text: Cow::Borrowed(text) })
    }

    /// Which folder it is of.
    fn number(&self) -> Result<Number, StoreError> {
        Number::try_from(self.id >> PART_BITS).map_err(|_| damaged())
    }

    /// How long its text is, in bytes.
    pub(super) fn len(&self) -> usize {
        self.text.len()
    }

    /// It, when its row is left.
    fn kept(self) -> Part<'static> {
        let Self { id, listing, project, text } = self;
        Part { id, listing, project, text: Cow::Owned(text.into_owned()) }
    }

    /// Takes it apart behind what is there of its folder. `before`: the part before it.
    fn read(
        &self,
        before: &mut i64,
        classes: &Classes,
        into: &mut Earlier,
    ) -> Result<(), StoreError> {
        if self.id <= *before {
            return Err(damaged());
        }
        *before = self.id;
        if into.is_empty() {
            (into.listing, into.project) = (self.listing, self.project);
        }
        entries::read(&self.text, self.number()?, classes, into)
    }
}

/// Reads one folder; whether there is anything of it.
pub(super) fn folder(
    db: &Connection,
    number: Number,
    classes: &Classes,
    into: &mut Earlier,
) -> Result<bool, StoreError> {
    let mut statement = db.prepare_cached(ROWS)?;
    let (first, last) = parts(number);
    let mut rows = statement.query([first, last])?;
    into.clear();
    let mut before = first - 1;
    while let Some(row) = rows.next()? {
        Part::of(row)?.read(&mut before, classes, into)?;
    }
    Ok(before >= first)
}

/// The parts of one folder as they stand in the file.
pub(super) fn rows_of(db: &Connection, number: Number) -> Result<Vec<Part<'static>>, StoreError> {
    let mut statement = db.prepare_cached(ROWS)?;
    let (first, last) = parts(number);
    let mut rows = statement.query([first, last])?;
    let mut all = Vec::new();
    while let Some(row) = rows.next()? {
        all.push(Part::of(row)?.kept());
    }
    Ok(all)
}

/// Takes the parts of one folder apart, and lets go of each.
pub(super) fn take_apart(
    rows: Vec<Part>,
    number: Number,
    classes: &Classes,
    into: &mut Earlier,
) -> Result<(), StoreError> {
    into.clear();
    let mut before = parts(number).0 - 1;
    rows.into_iter().try_for_each(|part| part.read(&mut before, classes, into))
}

/// The folders with numbers up to one, all whose text is short; those of several parts and of long
/// ones are left out.
pub(super) fn short_ones(
    db: &Connection,
    from: Number,
    to: Number,
    mut take: impl FnMut(Number, Part<'static>),
) -> Result<(), StoreError> {
    // What is long is not even read.
    let sql = "SELECT id, listing, project, inherits, CASE WHEN octet_length(entries) <= ?3 THEN \
               entries END \
               FROM folder WHERE id BETWEEN ?1 AND ?2 ORDER BY id DESC";
    let mut statement = db.prepare_cached(sql)?;
    let mut rows = statement.query([parts(from).0, parts(to).1, SHORT as i64])?;
    // Of several parts the last comes first, which is no folder's only one.
    let mut several = None;
    while let Some(row) = rows.next()? {
        let id: i64 = row.get(0)?;
        let number = Number::try_from(id >> PART_BITS).map_err(|_| damaged())?;
        if id != parts(number).0 {
            several = Some(number);
        } else if several != Some(number) && row.get_ref(4)? != ValueRef::Null {
            take(number, Part::of(row)?.kept());
        }
    }
    Ok(())
}

/// So many bytes of text are short.
pub(super) const SHORT: usize = 1024;

/// A folder as it stands in the file.
struct Read {
    number: Number,
    what: Earlier,
}

/// How many rows are read in one go.
const BLOCK: usize = 64;
/// How many entries are handed on in one go, about.
const BATCH: usize = 8192;

/// Reads all folders in the order of their numbers. Taking their text apart costs more than all
/// else, so that every processor gets a connection, if there is much to read.
fn folders_of(
    db: &Connection,
    file: &Path,
    classes: &Classes,
    take: &mut dyn FnMut(Read) -> Result<(), StoreError>,
) -> Result<(), StoreError> {
    let blocks = blocks(db)?;
    let threads = std::thread::available_parallelism().map_or(1, |n| n.get());
    if threads == 1 || blocks.len() < 4 {
        for &(first, last) in &blocks {
            block(db, first, last, classes, &mut |batch| {
                batch.into_iter().try_for_each(&mut *take).map(|()| true)
            })?;
        }
        return Ok(());
    }
    std::thread::scope(|scope| {
        let blocks = &blocks;
        let start = |turn: usize| {
            let (send, receive) = std::sync::mpsc::sync_channel(2);
            scope.spawn(move || {
                let read = || -> Result<(), StoreError> {
                    let db = open(file, false)?;
                    for &(first, last) in blocks.iter().skip(turn).step_by(threads) {
                        // Nobody listens any more after a mistake.
                        let mut heard = true;
                        block(&db, first, last, classes, &mut |batch| {
                            heard = send.send(Ok(Some(batch))).is_ok();
                            Ok(heard)
                        })?;
                        if !heard || send.send(Ok(None)).is_err() {
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
        for turn in 0..blocks.len() {
            let reader = &readers[turn % threads];
            while let Some(batch) = reader.recv().map_err(|_| damaged())?? {
                batch.into_iter().try_for_each(&mut *take)?;
            }
        }
        Ok(())
    })
}

/// The rows of all folders in blocks: from which number to which. No folder is in two of them.
fn blocks(db: &Connection) -> Result<Vec<(i64, i64)>, StoreError> {
    // The folder above the root was read already.
    let mut first = parts(ABOVE).1 + 1;
    let sql = "SELECT id FROM folder WHERE id >= ?1 ORDER BY id LIMIT 1 OFFSET ?2";
    let mut statement = db.prepare(sql)?;
    let mut blocks = Vec::new();
    loop {
        let next: Option<i64> =
            statement.query_row([first, BLOCK as i64], |row| row.get(0)).optional()?;
        let Some(next) = next else {
            blocks.push((first, i64::MAX));
            return Ok(blocks);
        };
        // That one is a part of the first folder of the next block, unless a single folder fills
        // this one.
        let (start, end) = parts(Number::try_from(next >> PART_BITS).map_err(|_| damaged())?);
        let last = if start > first { start - 1 } else { end };
        blocks.push((first, last));
        first = last + 1;
    }
}

/// Reads a block of rows, and hands the folders on; whoever takes them says whether to go on.
fn block(
    db: &Connection,
    first: i64,
    last: i64,
    classes: &Classes,
    take: &mut dyn FnMut(Vec<Read>) -> Result<bool, StoreError>,
) -> Result<(), StoreError> {
    let mut statement = db.prepare_cached(ROWS)?;
    let mut rows = statement.query([first, last])?;
    let (mut batch, mut count, mut before) = (Vec::<Read>::new(), 0, first - 1);
    while let Some(row) = rows.next()? {
        let part = Part::of(row)?;
        let number = part.number()?;
        if batch.last().is_none_or(|last| last.number != number) {
            if count >= BATCH {
                if !take(std::mem::take(&mut batch))? {
                    return Ok(());
                }
                count = 0;
            }
            batch.push(Read { number, what: Earlier::default() });
        }
        let what = &mut batch.last_mut().expect("one was pushed").what;
        count -= what.len();
        part.read(&mut before, classes, what)?;
        count += what.len() + 1;
    }
    take(batch).map(drop)
}
