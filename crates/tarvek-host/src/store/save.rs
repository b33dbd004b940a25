//! Into a survey file, new or again: folder by folder, while they are looked at.

use std::collections::{HashMap, HashSet};
use std::fs::OpenOptions;
use std::io;
use std::path::Path;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use rusqlite::{Connection, OpenFlags, params};
use tarvek_core::facts::build::NewEntry;
use tarvek_core::facts::classes::{Class, Extras, Known, NONE};
use tarvek_core::facts::host::HostFacts;
use tarvek_core::facts::tree::{Listing, NodeId, Tree};
use tarvek_core::kernel::entry::{EntryKind, Project};
use tarvek_core::words::name::Name;

use super::classes::Written;
use super::load::{PART_BITS, folder, last_row, parts, small};
use super::shape::SCHEMA;
use super::{StoreError, VERSION, classes, companions, entries, flags, open, plain};
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
/// If the file is no survey, is of another host, is in use or can't be written, or if the disk is full.
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

/// Has a look put into a survey file. One that is there already is brought up to date: only rows that differ are written, and the look is told
/// when it was taken (seconds since 1970 UTC), if it is whole. It is one transaction; whatever happens on the way, the file then is what it was, or
/// partial and empty if it was not there. `root`: the root folder of what will be seen. The facts need no tree.
///
/// # Errors
/// What the look could not do; else if the file is no survey, is of another host, is in use or can't be written, or if the disk is full.
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
    // A killed process leaves the journal, and with it the way back; what a power cut needs is one sync at the end.
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
        "PRAGMA cache_size = -32000;"
    } else {
        "PRAGMA cache_size = -8000;"
    })?;
    let writer = Writer::new(db)?;
    if writer.empty && edition > 0 {
        return Err(super::damaged().into());
    }
    let looked = look(&writer, taken);
    let state = writer.into_state()?;
    let mut facts = looked.map_err(Unsaved::Look)?;
    facts.name = host.clone();
    small_tables(&state.db, &facts)?;
    state.finish(edition.saturating_add(1))?;
    state.db.execute_batch("COMMIT")?;
    state.db.close().map_err(|(_, error)| StoreError::from(error))?;
    Ok((facts, state.saved))
}

/// Whoever opens the file before the survey is written sees one of nothing that says that it is partial.
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
    let State { db, .. } = writer.into_state()?;
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

/// Puts a tree into a survey, and tells the number of each folder.
///
/// # Errors
/// What the survey can't take.
pub(super) fn put_tree(sink: &Writer, tree: &Tree) -> io::Result<HashMap<NodeId, Number>> {
    let mut all = HashMap::new();
    let mut earlier = Earlier::default();
    sink.earlier(ABOVE, &mut earlier)?;
    let above = Contents::of([entry(tree, Tree::ROOT)], &earlier, Listing::Complete, None);
    let root = sink.fill(ABOVE, &above, &earlier)?[0];
    let mut todo = vec![(Tree::ROOT, root)];
    while let Some((node, number)) = todo.pop() {
        all.insert(node, number);
        sink.earlier(number, &mut earlier)?;
        let entries = tree.children(node).map(|child| entry(tree, child));
        let (listing, project) = (tree.listing(node), tree.project(node));
        let contents = Contents::of(entries, &earlier, listing, project);
        let numbers = sink.fill(number, &contents, &earlier)?;
        let folders = tree.children(node).zip(numbers);
        todo.extend(folders.filter(|(child, _)| tree.kind(*child) == EntryKind::Folder));
    }
    Ok(all)
}

/// The most entries in one row: what is read and written in one piece.
const MOST_IN_PART: usize = 16_384;

/// Writes folders into a survey as they come. After an error of the file everything fails.
pub struct Writer {
    state: Mutex<State>,
    /// Whether nothing stood there before.
    empty: bool,
}

struct State {
    db: Connection,
    known: Known,
    written: Written,
    /// The number of the next folder, and what that was in the beginning.
    next: Number,
    first: Number,
    /// Whether there are digests or headers, which go with their files.
    holds: bool,
    saved: Saved,
    /// Folders that count as changed already.
    changed: HashSet<Number>,
    /// Folders of before that were met again.
    met: HashSet<Number>,
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

impl Sink for Writer {
    fn earlier(&self, number: Number, into: &mut Earlier) -> io::Result<()> {
        into.clear();
        if self.empty {
            return Ok(());
        }
        let mut state = self.state();
        if number >= state.first {
            return Ok(());
        }
        let State { db, known, met, .. } = &mut *state;
        let read = folder(db, number, &known.all, into);
        met.extend((number != ABOVE && matches!(read, Ok(true))).then_some(number));
        state.told(read.map(drop))
    }

    fn fill(&self, number: Number, seen: &Contents, before: &Earlier) -> io::Result<Vec<Number>> {
        let mut state = self.state();
        let met = state.meet(number, seen, before);
        let (lines, differs) = state.told(met)?;
        if differs {
            // Only of folders that hold much it pays to let others in meanwhile.
            let parts = if lines.len() > 16 {
                drop(state);
                let parts = parts_of(seen, before, &lines);
                state = self.state();
                parts
            } else {
                parts_of(seen, before, &lines)
            };
            let kept = state.keep(number, seen, parts);
            state.told(kept)?;
        }
        Ok(lines.into_iter().map(|line| line.own.unwrap_or(ABOVE)).collect())
    }

    fn unread(&self, number: Number) -> io::Result<()> {
        if self.empty {
            return Ok(());
        }
        let mut state = self.state();
        let emptied = state.unread(number);
        state.told(emptied)
    }

    fn same(&self, _: Number, before: &Earlier) {
        self.state().saved.entries += before.len() as u64;
    }
}

impl Writer {
    pub(super) fn new(db: Connection) -> Result<Self, StoreError> {
        let known = Known::from(classes::read(&db)?);
        let (classes, extras) = (known.all.classes().len(), known.all.extras().len());
        let last = last_row(&db)?;
        let sql = "SELECT EXISTS (SELECT 1 FROM content) OR EXISTS (SELECT 1 FROM media)";
        let holds = db.query_row(sql, [], |row| row.get(0))?;
        let next = Self::next(&db, last)?;
        let state = State {
            db,
            known,
            written: Written { classes, extras },
            next,
            first: next,
            holds,
            saved: Saved::default(),
            changed: HashSet::new(),
            met: HashSet::new(),
            waiting: Vec::new(),
            waiting_bytes: 0,
            last: None,
            failed: None,
        };
        Ok(Self { state: Mutex::new(state), empty: last.is_none() })
    }

    /// The number that no folder has had.
    fn next(db: &Connection, last: Option<i64>) -> Result<Number, StoreError> {
        let noted: Option<String> =
            db.query_row("SELECT max(value) FROM survey WHERE key = 'folders'", [], |row| {
                row.get(0)
            })?;
        let noted = noted.and_then(|noted| noted.parse().ok()).unwrap_or(ABOVE);
        let last = last.map_or(0, |last| last >> PART_BITS);
        let last = Number::try_from(last).map_err(|_| super::damaged())?;
        noted.max(last).checked_add(1).ok_or_else(super::damaged)
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What was put into it.
    ///
    /// # Errors
    /// The first error of the file.
    fn into_state(self) -> Result<State, StoreError> {
        let mut state = self.state.into_inner().unwrap_or_else(PoisonError::into_inner);
        if let Some(error) = state.failed.take() {
            return Err(error);
        }
        state.flush()?;
        Ok(state)
    }

    /// The connection, for whoever goes on with it.
    ///
    /// # Errors
    /// The first error of the file.
    pub(super) fn into_db(self) -> Result<Connection, StoreError> {
        let state = self.into_state()?;
        state.note_last()?;
        Ok(state.db)
    }
}

impl State {
    /// Keeps an error for whoever began, and ends the look with another one.
    fn told<T>(&mut self, outcome: Result<T, StoreError>) -> io::Result<T> {
        outcome.map_err(|error| {
            let told = io::Error::other(error.to_string());
            self.failed.get_or_insert(error);
            told
        })
    }

    /// Numbers what was seen, notes what differs from before, and lets go of what is gone. Whether the folder has to be written.
    fn meet(
        &mut self,
        number: Number,
        seen: &Contents,
        before: &Earlier,
    ) -> Result<(Vec<Line>, bool), StoreError> {
        let mut lines = Vec::with_capacity(seen.entries.len());
        let mut differs = (seen.listing, seen.project) != (before.listing, before.project);
        if differs && (ABOVE + 1..self.first).contains(&number) {
            self.saved.changed += u64::from(self.changed.insert(number));
        }
        self.saved.entries += seen.entries.len() as u64;
        let mut stays = vec![false; before.len()];
        for found in &seen.entries {
            let then = found.before.map(|index| (index, before.entry(index)));
            let meta = &found.meta;
            let extras = match then {
                Some((_, then)) if found.kept => self.known.all.class(then.class).extras,
                _ => found.extras.as_ref().map_or(NONE, |extras| self.extras(extras)),
            };
            let class = self.known.class(Class::of(meta, extras));
            let mut own = None;
            match then {
                None => {
                    self.saved.added += 1;
                    differs = true;
                }
                Some((index, then)) => {
                    stays[index] = true;
                    own = before.folder(index).filter(|_| meta.is_folder());
                    let target = seen.target_of(found).map_or(OwnOf::Nothing, OwnOf::Target);
                    let leads = found.kept || own.is_some() || before.own(index) == target;
                    if then.class != class || then.meta != *meta || !leads {
                        differs = true;
                        let once = own.is_none_or(|own| self.changed.insert(own));
                        self.saved.changed += u64::from(once);
                        self.replaced(number, before, index, found)?;
                    }
                }
            }
            if meta.is_folder() && own.is_none() {
                own = Some(self.next);
                self.next = self.next.checked_add(1).ok_or_else(super::damaged)?;
            }
            lines.push(Line { class, own });
        }
        for (index, _) in stays.iter().enumerate().filter(|(_, stays)| !**stays) {
            differs = true;
            self.saved.removed += 1;
            self.forget(number, before.name(index), true)?;
            if let Some(below) = before.folder(index) {
                self.empty(below)?;
            }
        }
        Ok((lines, differs))
    }

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

    /// Lets go of what belonged to an entry that is not what it was. A digest stays where only the inode has changed, and in a way that shows; it counts
    /// again once a sample says that the contents have not (`digests.rs`).
    fn replaced(
        &mut self,
        number: Number,
        before: &Earlier,
        index: usize,
        found: &Found,
    ) -> Result<(), StoreError> {
        let (then, now) = (&before.entry(index).meta, &found.meta);
        if let Some(below) = before.folder(index).filter(|_| !now.is_folder()) {
            self.empty(below)?;
        }
        let same = then.kind == EntryKind::File
            && (then.kind, then.size, then.modified, then.inode, then.device)
                == (now.kind, now.size, now.modified, now.inode, now.device);
        let shows =
            (then.mode, then.uid, then.gid, then.links) != (now.mode, now.uid, now.gid, now.links);
        self.forget(number, before.name(index), !(same && shows))
    }

    /// Forgets what a file holds.
    fn forget(&mut self, folder: Number, name: &[u8], digest: bool) -> Result<(), StoreError> {
        if !self.holds {
            return Ok(());
        }
        let header = "DELETE FROM media WHERE folder = ?1 AND name = ?2";
        self.db.prepare_cached(header)?.execute(params![folder, name])?;
        if digest {
            let digest = "DELETE FROM content WHERE folder = ?1 AND name = ?2";
            self.db.prepare_cached(digest)?.execute(params![folder, name])?;
        }
        Ok(())
    }

    /// Notes that nobody looked into a folder.
    fn unread(&mut self, number: Number) -> Result<(), StoreError> {
        if number >= self.first {
            return Ok(());
        }
        if self.empty(number)? && self.changed.insert(number) {
            self.saved.changed += 1;
        }
        Ok(())
    }

    /// Takes away all that stood below a folder, whether there was anything or not.
    fn empty(&mut self, number: Number) -> Result<bool, StoreError> {
        let mut there = false;
        let mut todo = vec![number];
        let mut seen = Earlier::default();
        while let Some(number) = todo.pop() {
            if !folder(&self.db, number, &self.known.all, &mut seen)? {
                continue;
            }
            there = true;
            self.saved.removed += seen.len() as u64;
            todo.extend((0..seen.len()).filter_map(|index| seen.folder(index)));
            let (first, last) = parts(number);
            self.db.prepare_cached(DELETE)?.execute([first, last])?;
            if self.holds {
                for table in ["content", "media"] {
                    let sql = format!("DELETE FROM {table} WHERE folder = ?1");
                    self.db.prepare_cached(&sql)?.execute([number])?;
                }
            }
        }
        Ok(there)
    }

    /// Notes the last number that a folder has had: one that nobody looked into has no row.
    fn note_last(&self) -> Result<(), StoreError> {
        let last = (self.next - 1).to_string();
        self.db.execute("INSERT OR REPLACE INTO survey VALUES ('folders', ?1)", [last])?;
        Ok(())
    }

    /// Writes what ends a survey.
    fn finish(&self, edition: i64) -> Result<(), StoreError> {
        // What nobody came to belongs to nobody.
        let sql = "SELECT DISTINCT id >> ?1 FROM folder WHERE id > ?2 AND id < ?3";
        let mut statement = self.db.prepare(sql)?;
        let mut rows =
            statement.query([i64::from(PART_BITS), parts(ABOVE).1, parts(self.first).0])?;
        while let Some(row) = rows.next()? {
            if !self.met.contains(&row.get(0)?) {
                return Err(super::damaged());
            }
        }
        self.note_last()?;
        let edition = edition.to_string();
        self.db.execute("INSERT OR REPLACE INTO survey VALUES ('edition', ?1)", [edition])?;
        Ok(())
    }

    /// Writes a folder in place of what stood there.
    fn keep(
        &mut self,
        number: Number,
        seen: &Contents,
        parts_of: Vec<Vec<u8>>,
    ) -> Result<(), StoreError> {
        let listing = match seen.listing {
            Listing::Complete => Some("complete"),
            Listing::Failed => Some("failed"),
            Listing::NotListed => None,
        };
        let Project { id, inherits } = seen.project.unwrap_or(Project { id: 0, inherits: false });
        let (project, inherits) = (seen.project.map(|_| id), seen.project.map(|_| inherits));
        self.waiting_bytes += parts_of.iter().map(Vec::len).sum::<usize>();
        self.waiting.push(Waiting { number, listing, project, inherits, parts: parts_of });
        if self.waiting.len() >= MOST_WAITING || self.waiting_bytes > MOST_WAITING_BYTES {
            self.flush()?;
        }
        Ok(())
    }

    /// Writes what waits.
    fn flush(&mut self) -> Result<(), StoreError> {
        classes::write(&self.db, &self.known.all, &mut self.written)?;
        let mut delete = self.db.prepare_cached(DELETE)?;
        let mut insert =
            self.db.prepare_cached("INSERT INTO folder VALUES (?1, ?2, ?3, ?4, ?5)")?;
        for Waiting { number, listing, project, inherits, parts: texts } in self.waiting.drain(..) {
            let (first, last) = parts(number);
            if number < self.first {
                delete.execute([first, last])?;
            }
            for (row, text) in (first..=last).zip(&texts) {
                let text = std::str::from_utf8(text).expect("JSON is UTF-8");
                insert.execute(params![row, listing, project, inherits, text])?;
            }
        }
        self.waiting_bytes = 0;
        Ok(())
    }
}

/// A folder that is yet to be written. Writing several at a time costs less, and none of them is read before.
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
