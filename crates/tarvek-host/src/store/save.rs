//! Into a survey file, new or again: folder by folder, while they are looked at.

use std::collections::HashSet;
use std::fs::OpenOptions;
use std::io;
use std::path::Path;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use rusqlite::{Connection, OpenFlags, params};
use tarvek_core::facts::build::NewEntry;
use tarvek_core::facts::classes::{Class, Classes, Extras, Known, NONE};
use tarvek_core::facts::host::HostFacts;
use tarvek_core::facts::tree::{Listing, NodeId, Tree};
use tarvek_core::kernel::entry::{EntryKind, Project};
use tarvek_core::words::name::Name;

use super::connection::{StoreError, VERSION, flags, plain};
use super::file::open;
use super::load::{PART_BITS, folder, last_row, parts, small, take_apart};
use super::shape::SCHEMA;
use super::stored::Stored;
use super::{classes, companions, entries};
use crate::sink::{ABOVE, Contents, Earlier, Found, Number, OwnOf, Sink};

/// What was written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub struct Saved {
    /// Entries that there are now.
    pub entries: u64,
    /// Entries that were not there before.
    pub added: u64,
    /// Entries that differ from before.
    pub changed: u64,
    /// Entries that are gone.
    pub removed: u64,
}

/// Why a survey was not taken: the look failed, or the file.
#[derive(Debug)]
pub enum Unsaved {
    Look(io::Error),
    Store(StoreError),
}

impl From<StoreError> for Unsaved {
    fn from(error: StoreError) -> Self {
        Self::Store(error)
    }
}

impl From<rusqlite::Error> for Unsaved {
    fn from(error: rusqlite::Error) -> Self {
        Self::Store(error.into())
    }
}

/// Writes facts with their tree into a survey file, as [`survey`] does.
///
/// # Errors
/// If the file is no survey, is of another host, is in use or can't be written, or if the disk is
/// full.
pub fn save(mut facts: HostFacts, file: &Path) -> Result<(HostFacts, Saved), StoreError> {
    let (tree, host) = (std::mem::take(&mut facts.tree), facts.name.clone());
    let saved = survey(file, &host, entry(&tree, Tree::ROOT), |sink, _| {
        put_tree(sink, &tree)?;
        Ok(facts)
    });
    match saved {
        Ok(saved) => Ok(saved),
        Err(Unsaved::Store(error)) => Err(error),
        Err(Unsaved::Look(error)) => unreachable!("only the file can fail: {error}"),
    }
}

/// Has a look put into a survey file. One that is there already is brought up to date: only rows
/// that differ are written, and the look is told when it was taken (seconds since 1970 UTC), if it
/// is whole. It is one transaction; whatever happens on the way, the file then is what it was, or
/// partial and empty if it was not there. `root`: the root folder of what will be seen. The facts
/// need no tree.
///
/// # Errors
/// What the look could not do; else if the file is no survey, is of another host, is in use or
/// can't be written, or if the disk is full.
pub fn survey(
    file: &Path,
    host: &Name,
    root: NewEntry,
    look: impl FnOnce(&Writer, Option<i64>) -> io::Result<HostFacts>,
) -> Result<(HostFacts, Saved), Unsaved> {
    let there = std::fs::symlink_metadata(file);
    let fresh = there.as_ref().map_or(true, |meta| meta.len() == 0 && meta.is_file());
    let mut db = if fresh { create(host, root, file)? } else { open(file, true)? };
    // What a look writes is not bounded by what stood there before.
    db.progress_handler(0, None::<fn() -> bool>)?;
    let outcome = into_open(db, host, look);
    if fresh && matches!(&outcome, Err(Unsaved::Look(_))) {
        // Nothing was seen: it is as if nobody had looked.
        let _ = match there {
            Ok(_) => OpenOptions::new().write(true).open(file).and_then(|file| file.set_len(0)),
            Err(_) => std::fs::remove_file(file),
        };
    }
    outcome
}

fn into_open(
    db: Connection,
    host: &Name,
    look: impl FnOnce(&Writer, Option<i64>) -> io::Result<HostFacts>,
) -> Result<(HostFacts, Saved), Unsaved> {
    // A killed process leaves the journal, and with it the way back; what a power cut needs is one
    // sync at the end.
    db.execute_batch("PRAGMA synchronous = NORMAL; PRAGMA temp_store = MEMORY; BEGIN IMMEDIATE;")?;
    let key = |key: &str| -> rusqlite::Result<Option<String>> {
        db.query_row("SELECT max(value) FROM survey WHERE key = ?1", [key], |row| row.get(0))
    };
    if let Some(known) = key("host")?.map(Name::from).filter(|known| known != host) {
        let message = format!("it is a survey of {known}, not of {host}");
        return Err(StoreError::new(message, "name another file").into());
    }
    if key("edition")?.is_none() {
        // Whoever began it did not come to an end.
        db.execute_batch("DELETE FROM folder; DELETE FROM class; DELETE FROM extras;")?;
    }
    let whole = key("state")?.is_some_and(|state| state == "complete");
    let taken = key("taken")?.and_then(|taken| taken.parse().ok()).filter(|_| whole);
    // What is written anew is read all the same: a file that is none of a survey is left as it is.
    small(&db, Path::new(""), Tree::default())?;
    let edition = key("edition")?.and_then(|edition| edition.parse::<i64>().ok()).unwrap_or(0);
    // Others read what was there before for as long as what differs has room here.
    db.execute_batch(if edition > 0 {
        "PRAGMA cache_size = -24000;"
    } else {
        "PRAGMA cache_size = -8000;"
    })?;
    let writer = Writer::new(db)?;
    if writer.empty && edition > 0 {
        return Err(super::connection::damaged().into());
    }
    let looked = look(&writer, taken);
    let done = writer.done()?;
    let mut facts = looked.map_err(Unsaved::Look)?;
    facts.name = host.clone();
    small_tables(&done.stored.db, &facts)?;
    done.finish(edition.saturating_add(1))?;
    let db = done.stored.db;
    db.execute_batch("COMMIT")?;
    db.close().map_err(|(_, error)| StoreError::from(error))?;
    Ok((facts, done.saved))
}

/// Whoever opens the file before the survey is written sees one of nothing that says that it is
/// partial.
fn create(host: &Name, root: NewEntry, file: &Path) -> Result<Connection, StoreError> {
    // Who was killed at the very start left an empty file, and the journal of it.
    if std::fs::symlink_metadata(file).is_ok() {
        companions::look(file)?;
    } else {
        companions::none(file)?;
    }
    let create = flags(true) | OpenFlags::SQLITE_OPEN_CREATE;
    let db = Connection::open_with_flags(plain(file), create)?;
    db.execute_batch(&format!("BEGIN; {SCHEMA} PRAGMA user_version = {VERSION};"))?;
    for (key, value) in [("host", host.raw()), ("state", "partial"), ("taken", "0")] {
        db.execute("INSERT INTO survey VALUES (?1, ?2)", [key, value])?;
    }
    let writer = Writer::new(db)?;
    let nothing = Earlier::default();
    let above = Contents::of([root], &nothing, Listing::Complete, None);
    let put = writer.fill(ABOVE, &above, &nothing);
    let db = writer.done()?.stored.db;
    put.expect("an error was kept");
    db.execute_batch("COMMIT")?;
    Ok(db)
}

fn entry(tree: &Tree, node: NodeId) -> NewEntry {
    NewEntry {
        name: tree.name(node).to_vec(),
        meta: tree.meta(node),
        target: tree.target(node).map(<[u8]>::to_vec),
        extras: tree.extras(node).cloned().unwrap_or_default(),
    }
}

/// Puts a tree into a survey.
///
/// # Errors
/// What the survey can't take.
fn put_tree(sink: &Writer, tree: &Tree) -> io::Result<()> {
    let mut earlier = Earlier::default();
    sink.earlier(ABOVE, &mut earlier)?;
    let above = Contents::of([entry(tree, Tree::ROOT)], &earlier, Listing::Complete, None);
    let root = sink.fill(ABOVE, &above, &earlier)?[0];
    let mut todo = vec![(Tree::ROOT, root)];
    while let Some((node, number)) = todo.pop() {
        sink.earlier(number, &mut earlier)?;
        let entries = tree.children(node).map(|child| entry(tree, child));
        let (listing, project) = (tree.listing(node), tree.project(node));
        let contents = Contents::of(entries, &earlier, listing, project);
        let numbers = sink.fill(number, &contents, &earlier)?;
        let folders = tree.children(node).zip(numbers);
        todo.extend(folders.filter(|(child, _)| tree.kind(*child) == EntryKind::Folder));
    }
    Ok(())
}

/// The most entries in one row: what is read and written in one piece.
const MOST_IN_PART: usize = 16_384;

/// Writes folders into a survey as they come. After an error of the file everything fails.
///
/// Threads that look share it: what they found is numbered under one lock, and read and written
/// under another, so that nobody waits for the file who has only to count. Whoever needs both takes
/// the first one first.
pub struct Writer {
    state: Mutex<State>,
    stored: Mutex<Stored>,
    /// The classes of what stood there before.
    before: Classes,
    /// The first number that no folder of before has.
    first: Number,
    /// Whether nothing stood there before.
    empty: bool,
    /// Whether there are digests or headers, which go with their files.
    holds: bool,
    /// Entries that are as they were, with their folders.
    same: AtomicU64,
}

struct State {
    known: Known,
    /// The number of the next folder.
    next: Number,
    saved: Saved,
    /// Folders that count as changed already.
    changed: HashSet<Number>,
    waiting: Vec<Waiting>,
    waiting_bytes: usize,
    /// What was asked for last, and its number.
    last: Option<(Arc<Extras>, u32)>,
    failed: Option<StoreError>,
}

/// An entry that is to be written.
struct Line {
    class: u32,
    own: Option<Number>,
}

/// All that was put into a survey.
pub(super) struct Done {
    stored: Stored,
    first: Number,
    /// The highest number that a folder has had.
    last: Number,
    saved: Saved,
}

impl Sink for Writer {
    fn earlier(&self, number: Number, into: &mut Earlier) -> io::Result<()> {
        into.clear();
        if self.empty || number >= self.first {
            return Ok(());
        }
        let rows = self.stored().of(number, self.first);
        let taken = rows.and_then(|rows| take_apart(rows, number, &self.before, into));
        self.keep_error(taken)
    }

    fn fill(&self, number: Number, seen: &Contents, before: &Earlier) -> io::Result<Vec<Number>> {
        let met = self.meet(&mut self.state(), number, seen, before);
        let (lines, differs) = self.keep_error(met)?;
        if differs {
            let parts = parts_of(seen, before, &lines);
            let full = self.state().keep(number, seen, parts);
            self.keep_error(self.write(full))?;
        }
        Ok(lines.into_iter().map(|line| line.own.unwrap_or(ABOVE)).collect())
    }

    fn unread(&self, number: Number) -> io::Result<()> {
        if self.empty || number >= self.first {
            return Ok(());
        }
        let mut state = self.state();
        let emptied = self.empty(&mut state, number);
        if matches!(emptied, Ok(true)) && state.changed.insert(number) {
            state.saved.changed += 1;
        }
        drop(state);
        self.keep_error(emptied.map(drop))
    }

    fn same(&self, _: Number, before: &Earlier) {
        self.same.fetch_add(before.len() as u64, Ordering::Relaxed);
    }
}

impl Writer {
    pub(super) fn new(db: Connection) -> Result<Self, StoreError> {
        let before = classes::read(&db)?;
        let last = last_row(&db)?;
        let sql = "SELECT EXISTS (SELECT 1 FROM content) OR EXISTS (SELECT 1 FROM media)";
        let holds = db.query_row(sql, [], |row| row.get(0))?;
        let first = Self::next(&db, last)?;
        let state = State {
            known: Known::from(before.clone()),
            next: first,
            saved: Saved::default(),
            changed: HashSet::new(),
            waiting: Vec::new(),
            waiting_bytes: 0,
            last: None,
            failed: None,
        };
        Ok(Self {
            state: Mutex::new(state),
            stored: Mutex::new(Stored::new(db)),
            before,
            first,
            empty: last.is_none(),
            holds,
            same: AtomicU64::new(0),
        })
    }

    /// The number that no folder has had.
    fn next(db: &Connection, last: Option<i64>) -> Result<Number, StoreError> {
        let noted: Option<String> =
            db.query_row("SELECT max(value) FROM survey WHERE key = 'folders'", [], |row| {
                row.get(0)
            })?;
        let noted = noted.and_then(|noted| noted.parse().ok()).unwrap_or(ABOVE);
        let last = last.map_or(0, |last| last >> PART_BITS);
        let last = Number::try_from(last).map_err(|_| super::connection::damaged())?;
        noted.max(last).checked_add(1).ok_or_else(super::connection::damaged)
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn stored(&self) -> MutexGuard<'_, Stored> {
        self.stored.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Keeps an error for whoever began, and ends the look with another one.
    fn keep_error<T>(&self, outcome: Result<T, StoreError>) -> io::Result<T> {
        outcome.map_err(|error| {
            let told = io::Error::other(error.to_string());
            self.state().failed.get_or_insert(error);
            told
        })
    }

    /// Ends it.
    ///
    /// # Errors
    /// The first error of the file.
    pub(super) fn done(self) -> Result<Done, StoreError> {
        let Self { state, stored, before, first, same, .. } = self;
        let State { known, next, mut saved, waiting, failed, .. } =
            state.into_inner().unwrap_or_else(PoisonError::into_inner);
        if let Some(error) = failed {
            return Err(error);
        }
        let stored = stored.into_inner().unwrap_or_else(PoisonError::into_inner);
        put(&stored.db, first, waiting)?;
        classes::write(&stored.db, &before, &known.all)?;
        saved.entries += same.into_inner();
        Ok(Done { stored, first, last: next - 1, saved })
    }

    /// Numbers what was seen, notes what differs from before, and lets go of what is gone. Whether
    /// the folder has to be written.
    fn meet(
        &self,
        state: &mut State,
        number: Number,
        seen: &Contents,
        before: &Earlier,
    ) -> Result<(Vec<Line>, bool), StoreError> {
        let mut lines = Vec::with_capacity(seen.entries.len());
        let mut differs = (seen.listing, seen.project) != (before.listing, before.project);
        if differs && (ABOVE + 1..self.first).contains(&number) {
            state.saved.changed += u64::from(state.changed.insert(number));
        }
        state.saved.entries += seen.entries.len() as u64;
        let mut stays = vec![false; before.len()];
        for found in &seen.entries {
            let then = found.before.map(|index| (index, before.entry(index)));
            let meta = &found.meta;
            let extras = match then {
                Some((_, then)) if found.kept => state.known.all.class(then.class).extras,
                _ => found.extras.as_ref().map_or(NONE, |extras| state.extras(extras)),
            };
            let class = state.known.class(Class::of(meta, extras));
            let mut own = None;
            match then {
                None => {
                    state.saved.added += 1;
                    differs = true;
                }
                Some((index, then)) => {
                    stays[index] = true;
                    own = before.folder(index).filter(|_| meta.is_folder());
                    let target = seen.target_of(found).map_or(OwnOf::Nothing, OwnOf::Target);
                    let leads = found.kept || own.is_some() || before.own(index) == target;
                    if then.class != class || then.meta != *meta || !leads {
                        differs = true;
                        let once = own.is_none_or(|own| state.changed.insert(own));
                        state.saved.changed += u64::from(once);
                        self.replaced(state, number, before, index, found)?;
                    }
                }
            }
            if meta.is_folder() && own.is_none() {
                own = Some(state.next);
                state.next = state.next.checked_add(1).ok_or_else(super::connection::damaged)?;
            }
            lines.push(Line { class, own });
        }
        for (index, _) in stays.iter().enumerate().filter(|(_, stays)| !**stays) {
            differs = true;
            state.saved.removed += 1;
            self.forget(number, before.name(index), true)?;
            if let Some(below) = before.folder(index) {
                self.empty(state, below)?;
            }
        }
        Ok((lines, differs))
    }

    /// Lets go of what belonged to an entry that is not what it was. A digest stays where only the
    /// inode has changed, and in a way that shows; it counts again once a sample says that the
    /// contents have not (`digests.rs`).
    fn replaced(
        &self,
        state: &mut State,
        number: Number,
        before: &Earlier,
        index: usize,
        found: &Found,
    ) -> Result<(), StoreError> {
        let (then, now) = (&before.entry(index).meta, &found.meta);
        if let Some(below) = before.folder(index).filter(|_| !now.is_folder()) {
            self.empty(state, below)?;
        }
        let same = then.kind == EntryKind::File
            && (then.kind, then.size, then.modified, then.inode, then.device)
                == (now.kind, now.size, now.modified, now.inode, now.device);
        let shows =
            (then.mode, then.uid, then.gid, then.links) != (now.mode, now.uid, now.gid, now.links);
        self.forget(number, before.name(index), !(same && shows))
    }

    /// Forgets what a file holds.
    fn forget(&self, folder: Number, name: &[u8], digest: bool) -> Result<(), StoreError> {
        if !self.holds {
            return Ok(());
        }
        let stored = self.stored();
        let header = "DELETE FROM media WHERE folder = ?1 AND name = ?2";
        stored.db.prepare_cached(header)?.execute(params![folder, name])?;
        if digest {
            let digest = "DELETE FROM content WHERE folder = ?1 AND name = ?2";
            stored.db.prepare_cached(digest)?.execute(params![folder, name])?;
        }
        Ok(())
    }

    /// Takes away all that stood below a folder, whether there was anything or not.
    fn empty(&self, state: &mut State, number: Number) -> Result<bool, StoreError> {
        let mut stored = self.stored();
        let mut there = false;
        let mut todo = vec![number];
        let mut seen = Earlier::default();
        while let Some(number) = todo.pop() {
            stored.forget(number);
            if !folder(&stored.db, number, &self.before, &mut seen)? {
                continue;
            }
            there = true;
            state.saved.removed += seen.len() as u64;
            todo.extend((0..seen.len()).filter_map(|index| seen.folder(index)));
            let (first, last) = parts(number);
            stored.db.prepare_cached(DELETE)?.execute([first, last])?;
            if self.holds {
                for table in ["content", "media"] {
                    let sql = format!("DELETE FROM {table} WHERE folder = ?1");
                    stored.db.prepare_cached(&sql)?.execute([number])?;
                }
            }
        }
        Ok(there)
    }

    /// Writes folders that have waited.
    fn write(&self, waiting: Vec<Waiting>) -> Result<(), StoreError> {
        if waiting.is_empty() {
            return Ok(());
        }
        put(&self.stored().db, self.first, waiting)
    }
}

impl State {
    /// The number of what an entry has besides. Neighbours mostly share it.
    fn extras(&mut self, extras: &Arc<Extras>) -> u32 {
        match &self.last {
            Some((last, number)) if Arc::ptr_eq(last, extras) => *number,
            _ => {
                let number = self.known.extras(extras);
                self.last = Some((Arc::clone(extras), number));
                number
            }
        }
    }

    /// Has a folder wait to be written in place of what stood there, and gives out all that wait
    /// once they are many.
    fn keep(&mut self, number: Number, seen: &Contents, parts: Vec<Vec<u8>>) -> Vec<Waiting> {
        let listing = match seen.listing {
            Listing::Complete => Some("complete"),
            Listing::Failed => Some("failed"),
            Listing::NotListed => None,
        };
        let Project { id, inherits } = seen.project.unwrap_or(Project { id: 0, inherits: false });
        let (project, inherits) = (seen.project.map(|_| id), seen.project.map(|_| inherits));
        self.waiting_bytes += parts.iter().map(Vec::len).sum::<usize>();
        self.waiting.push(Waiting { number, listing, project, inherits, parts });
        if self.waiting.len() < MOST_WAITING && self.waiting_bytes <= MOST_WAITING_BYTES {
            return Vec::new();
        }
        self.waiting_bytes = 0;
        std::mem::replace(&mut self.waiting, Vec::with_capacity(MOST_WAITING))
    }
}

impl Done {
    /// Notes the last number that a folder has had: one that nobody looked into has no row.
    fn note_last(&self) -> Result<(), StoreError> {
        let last = self.last.to_string();
        self.stored.db.execute("INSERT OR REPLACE INTO survey VALUES ('folders', ?1)", [last])?;
        Ok(())
    }

    /// Writes what ends a survey.
    fn finish(&self, edition: i64) -> Result<(), StoreError> {
        // What nobody came to belongs to nobody.
        let sql = "SELECT DISTINCT id >> ?1 FROM folder WHERE id > ?2 AND id < ?3";
        let mut statement = self.stored.db.prepare(sql)?;
        let numbers = statement
            .query_map([i64::from(PART_BITS), parts(ABOVE).1, parts(self.first).0], |row| {
                row.get(0)
            })?;
        for number in numbers {
            if !self.stored.has_met(number?) {
                return Err(super::connection::damaged());
            }
        }
        self.note_last()?;
        let edition = edition.to_string();
        self.stored
            .db
            .execute("INSERT OR REPLACE INTO survey VALUES ('edition', ?1)", [edition])?;
        Ok(())
    }
}

/// Writes folders, each in place of what stood there of it. `first`: no folder of before has this
/// number, or a higher one.
fn put(db: &Connection, first: Number, waiting: Vec<Waiting>) -> Result<(), StoreError> {
    let mut delete = db.prepare_cached(DELETE)?;
    let mut insert = db.prepare_cached("INSERT INTO folder VALUES (?1, ?2, ?3, ?4, ?5)")?;
    for Waiting { number, listing, project, inherits, parts: texts } in waiting {
        let (from, to) = parts(number);
        if number < first {
            delete.execute([from, to])?;
        }
        for (row, text) in (from..=to).zip(&texts) {
            let text = std::str::from_utf8(text).expect("JSON is UTF-8");
            insert.execute(params![row, listing, project, inherits, text])?;
        }
    }
    Ok(())
}

/// A folder that is yet to be written. Writing several at a time costs less, and none of them is
/// read before.
struct Waiting {
    number: Number,
    listing: Option<&'static str>,
    project: Option<u32>,
    inherits: Option<bool>,
    parts: Vec<Vec<u8>>,
}

const MOST_WAITING: usize = 64;
const MOST_WAITING_BYTES: usize = 1 << 20;

const DELETE: &str = "DELETE FROM folder WHERE id BETWEEN ?1 AND ?2";

/// The entries of a folder as they are written, in parts.
fn parts_of(seen: &Contents, before: &Earlier, lines: &[Line]) -> Vec<Vec<u8>> {
    let mut parts = Vec::new();
    let mut pairs = seen.entries.iter().zip(lines).peekable();
    loop {
        let mut part = Vec::with_capacity(pairs.len().min(MOST_IN_PART) * 96);
        for (found, line) in pairs.by_ref().take(MOST_IN_PART) {
            let own = match (line.own, found.before) {
                (Some(number), _) => OwnOf::Folder(number),
                (None, Some(index)) if found.kept => before.own(index),
                (None, _) => seen.target_of(found).map_or(OwnOf::Nothing, OwnOf::Target),
            };
            entries::write(&mut part, seen.name_of(found), &found.meta, line.class, own);
        }
        entries::end(&mut part);
        parts.push(part);
        if pairs.peek().is_none() {
            return parts;
        }
    }
}

/// What is small is written anew each time.
fn small_tables(db: &Connection, facts: &HostFacts) -> Result<(), StoreError> {
    for table in ["root", "gap", "mount", "fstab", "account", "grp", "document"] {
        db.execute(&format!("DELETE FROM {table}"), [])?;
    }
    for root in &facts.roots {
        db.execute("INSERT INTO root VALUES (?1, ?2)", params![root.path.as_bytes(), root.deep])?;
    }
    for gap in &facts.gaps {
        db.execute("INSERT INTO gap VALUES (?1, ?2)", params![gap.path.as_bytes(), gap.why.raw()])?;
    }
    for m in facts.mounts.iter().flat_map(|table| table.entries()) {
        db.execute(
            "INSERT INTO mount VALUES (?1,?2,?3,?4,?5,?6,?7,?8,?9,?10,?11)",
            params![
                m.id.cast_signed(),
                m.parent.cast_signed(),
                m.device.0,
                m.device.1,
                m.root,
                m.point.as_bytes(),
                m.options.to_string(),
                m.propagation.join(","),
                m.filesystem.raw(),
                m.source,
                m.super_options.to_string()
            ],
        )?;
    }
    for line in &facts.fstab {
        let options = line.options.to_string();
        db.execute(
            "INSERT INTO fstab VALUES (?1,?2,?3,?4)",
            params![line.source.raw(), line.point.as_bytes(), line.filesystem.raw(), options],
        )?;
    }
    for a in &facts.accounts {
        let groups: Vec<&str> = a.groups.iter().map(Name::raw).collect();
        db.execute(
            "INSERT INTO account VALUES (?1,?2,?3,?4)",
            params![a.name.raw(), a.uid, a.gid, groups.join(",")],
        )?;
    }
    for group in &facts.groups {
        db.execute("INSERT INTO grp VALUES (?1, ?2)", params![group.name.raw(), group.gid])?;
    }
    for document in &facts.documents {
        db.execute(
            "INSERT OR REPLACE INTO document VALUES (?1, ?2)",
            params![document.name.raw(), document.text],
        )?;
    }
    let state = if facts.complete { "complete" } else { "partial" };
    let set = |key: &str, value: Option<String>| match value {
        Some(value) => {
            db.execute("INSERT OR REPLACE INTO survey VALUES (?1, ?2)", params![key, value])
        }
        None => db.execute("DELETE FROM survey WHERE key = ?1", [key]),
    };
    set("host", Some(facts.name.raw().to_owned()))?;
    set("taken", Some(facts.taken.to_string()))?;
    set("uid", facts.taken_by.map(|uid| uid.to_string()))?;
    set("kernel", facts.kernel.as_ref().map(|kernel| kernel.raw().to_owned()))?;
    set("made_by", Some(format!("tarvek {}", env!("CARGO_PKG_VERSION"))))?;
    set("state", Some(state.to_owned()))?;
    Ok(())
}
