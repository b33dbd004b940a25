//! From facts to a survey file, new or again.

use std::collections::HashMap;
use std::path::Path;

use rusqlite::{
    CachedStatement, Connection, OpenFlags, OptionalExtension, Transaction, TransactionBehavior,
    params,
};
use tarvek_core::facts::build::{Renewal, TreeBuilder};
use tarvek_core::facts::host::HostFacts;
use tarvek_core::facts::tree::{Extras, Listing, NodeId, Tree};
use tarvek_core::kernel::entry::{EntryKind, Flags};
use tarvek_core::kernel::nfs4::Nfs4Acl;
use tarvek_core::words::name::Name;

use super::{Rows, StoreError, VERSION, companions, flags, load, open, plain};

/// What was written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub struct Saved {
    /// Entries that were not there before.
    pub added: u64,
    /// Entries that differ from before.
    pub changed: u64,
    /// Entries that are gone.
    pub removed: u64,
}

/// Writes facts into a survey file. One that is there already is brought up to date: only rows that differ are written. It
/// is one transaction; whatever happens on the way, the file then is what it was, or partial and empty if it was not there.
///
/// # Errors
/// If the file is no survey, is of another host, is in use or can't be written, or if the disk is full.
pub fn save(facts: &HostFacts, file: &Path) -> Result<Saved, StoreError> {
    let fresh = match std::fs::symlink_metadata(file) {
        Ok(meta) if meta.len() == 0 && meta.is_file() => true,
        Ok(_) => false,
        Err(_) => true,
    };
    let mut db = if fresh { create(facts, file)? } else { open(file, true)? };
    let transaction = begin(&mut db, facts)?;
    let unwritten: bool = transaction.query_row(
        "SELECT NOT EXISTS (SELECT 1 FROM survey WHERE key = 'dense')",
        [],
        |row| row.get(0),
    )?;
    let saved = if unwritten {
        all(&transaction, facts)?
    } else {
        let (old, rows) = load::facts(&transaction, None)?;
        let mut builder = TreeBuilder::renew(old.tree);
        builder.take_over(&facts.tree);
        let (tree, renewal) = builder.finish_renewed();
        differences(&transaction, &tree, &renewal, rows)?
    };
    finish(transaction, facts)?;
    db.close().map_err(|(_, error)| StoreError::from(error))?;
    Ok(saved)
}

/// Writes a renewed look into the survey that it started from.
///
/// # Errors
/// As [`save`], and if another program has written the file meanwhile.
pub fn renew(
    facts: &HostFacts,
    renewal: &Renewal,
    rows: Rows,
    file: &Path,
) -> Result<Saved, StoreError> {
    let mut db = open(file, true)?;
    let transaction = begin(&mut db, facts)?;
    if edition(&transaction)? != rows.edition {
        return Err(StoreError::new("another program has written it meanwhile", "run it again"));
    }
    let saved = differences(&transaction, &facts.tree, renewal, rows)?;
    finish(transaction, facts)?;
    db.close().map_err(|(_, error)| StoreError::from(error))?;
    Ok(saved)
}

fn begin<'a>(db: &'a mut Connection, facts: &HostFacts) -> Result<Transaction<'a>, StoreError> {
    // A killed process leaves the journal, and with it the way back; what a power cut needs is one sync at the end. Rows are
    // written in the order of the file, so that a small cache does.
    db.execute_batch(
        "PRAGMA cache_size = -4000; PRAGMA synchronous = NORMAL; PRAGMA temp_store = MEMORY;",
    )?;
    let transaction = db.transaction_with_behavior(TransactionBehavior::Immediate)?;
    let known: Option<String> =
        transaction
            .query_row("SELECT max(value) FROM survey WHERE key = 'host'", [], |row| row.get(0))?;
    match known.map(Name::from).filter(|known| *known != facts.name) {
        Some(known) => Err(StoreError::new(
            format!("it is a survey of {known}, not of {}", facts.name),
            "name another file",
        )),
        None => Ok(transaction),
    }
}

fn finish(transaction: Transaction, facts: &HostFacts) -> Result<(), StoreError> {
    small_tables(&transaction, facts)?;
    let next = (edition(&transaction)? + 1).to_string();
    transaction.execute("INSERT OR REPLACE INTO survey VALUES ('edition', ?1)", [next])?;
    Ok(transaction.commit()?)
}

fn edition(db: &Connection) -> Result<i64, StoreError> {
    let edition: Option<String> =
        db.query_row("SELECT max(value) FROM survey WHERE key = 'edition'", [], |row| row.get(0))?;
    Ok(edition.and_then(|edition| edition.parse().ok()).unwrap_or(0))
}

/// Whoever opens the file before the survey is written sees one of nothing that says that it is partial.
fn create(facts: &HostFacts, file: &Path) -> Result<Connection, StoreError> {
    // Who was killed at the very start left an empty file, and the journal of it.
    if std::fs::symlink_metadata(file).is_ok() {
        companions::look(file)?;
    } else {
        companions::none(file)?;
    }
    let create = flags(true) | OpenFlags::SQLITE_OPEN_CREATE;
    let mut db = Connection::open_with_flags(plain(file), create)?;
    let transaction = db.transaction()?;
    let schema = include_str!("schema.sql");
    transaction.execute_batch(&format!("{schema} PRAGMA user_version = {VERSION};"))?;
    for (key, value) in
        [("host", facts.name.raw()), ("state", "partial"), ("taken", &facts.taken.to_string())]
    {
        transaction.execute("INSERT INTO survey VALUES (?1, ?2)", [key, value])?;
    }
    Writer::new(&transaction)?.insert(0, 0, &facts.tree, Tree::ROOT)?;
    transaction.execute("UPDATE entry SET listing = NULL", [])?;
    transaction.commit()?;
    Ok(db)
}

fn all(db: &Transaction, facts: &HostFacts) -> Result<Saved, StoreError> {
    db.execute_batch("DELETE FROM entry; DELETE FROM extras;")?;
    let mut writer = Writer::new(db)?;
    let count = facts.tree.len();
    for number in 0..count {
        let node = NodeId(u32::try_from(number).expect("a tree has less than 2^32 entries"));
        let parent = i64::from(facts.tree.parent(node).0);
        writer.insert(i64::from(node.0), parent, &facts.tree, node)?;
    }
    drop(writer);
    // Up to here rows stand in the order of the tree; what is added later is not.
    db.execute("INSERT OR REPLACE INTO survey VALUES ('dense', ?1)", [(count - 1).to_string()])?;
    Ok(Saved { added: count as u64, ..Saved::default() })
}

/// Brings the rows of an earlier survey up to date.
fn differences(
    db: &Transaction,
    tree: &Tree,
    renewal: &Renewal,
    rows: Rows,
) -> Result<Saved, StoreError> {
    let Rows { mut ids, .. } = rows;
    let mut saved = Saved::default();
    let mut writer = Writer::new(db)?;
    let mut gone: Vec<NodeId> = renewal.removed().to_vec();
    while let Some(node) = gone.pop() {
        writer.delete(ids[node.0 as usize])?;
        saved.removed += 1;
        gone.extend(tree.children(node));
    }
    // The number of a row of the first survey is never given again, also where the last of them is gone: up to there rows are
    // read as standing folder by folder.
    let last = "SELECT max((SELECT max(id) FROM entry), (SELECT ifnull(max(CAST(value AS INTEGER)), 0) FROM survey WHERE key = 'dense'))";
    let mut next: i64 = 1 + db.query_row(last, [], |row| row.get::<_, i64>(0))?;
    for (node, origin) in renewal.numbered() {
        match origin {
            Some(old) => ids.push(ids[old.0 as usize]),
            None => {
                let parent = ids[tree.parent(node).0 as usize];
                writer.insert(next, parent, tree, node)?;
                saved.added += 1;
                ids.push(next);
                next += 1;
            }
        }
    }
    for &node in renewal.changed() {
        let (id, parent) = (ids[node.0 as usize], ids[tree.parent(node).0 as usize]);
        writer.replace(id, tree, node)?;
        writer.insert(id, parent, tree, node)?;
        saved.changed += 1;
    }
    writer.keep()?;
    Ok(saved)
}

/// Writes rows of `entry` and `extras`.
struct Writer<'a> {
    db: &'a Connection,
    insert: CachedStatement<'a>,
    delete: CachedStatement<'a>,
    extras: HashMap<Extras, i64>,
    /// Digests that stay although their rows are written anew.
    kept: Vec<Kept>,
}

/// A row of `content`.
struct Kept {
    entry: i64,
    blake3: Vec<u8>,
    changed: Option<i64>,
    head: Option<i64>,
    ends: Option<i64>,
}

impl<'a> Writer<'a> {
    fn new(db: &'a Connection) -> Result<Self, StoreError> {
        let insert = "INSERT INTO entry VALUES (?1,?2,?3,?4,?5,?6,?7,?8,?9,?10,?11,?12,?13,?14,?15,?16,?17,?18)";
        Ok(Self {
            db,
            insert: db.prepare_cached(insert)?,
            delete: db.prepare_cached("DELETE FROM entry WHERE id = ?1")?,
            extras: load::extras(db)?.into_iter().map(|(id, extras)| (extras, id)).collect(),
            kept: Vec::new(),
        })
    }

    fn delete(&mut self, id: i64) -> Result<(), StoreError> {
        self.delete.execute([id])?;
        Ok(())
    }

    /// Makes room for a row that differs. A digest stays where only the inode has changed, and in a way that shows; it counts again once a
    /// sample says that the contents have not (`digests.rs`).
    fn replace(&mut self, id: i64, tree: &Tree, node: NodeId) -> Result<(), StoreError> {
        let meta = tree.meta(node);
        let touched = "SELECT 1 FROM entry WHERE id = ?1 AND type = 'f' AND ?2 AND size = ?3 AND mtime = ?4 AND inode IS ?5 AND device IS ?6 \
                       AND (mode, uid, gid, links) <> (?7, ?8, ?9, ?10)";
        let signed = u64::cast_signed;
        let touched = self.db.prepare_cached(touched)?.exists(params![
            id,
            meta.kind == EntryKind::File,
            signed(meta.size),
            meta.modified,
            meta.inode.map(signed),
            meta.device.map(signed),
            meta.mode,
            meta.uid,
            meta.gid,
            meta.links,
        ])?;
        let kept = match touched {
            true => self
                .db
                .prepare_cached(
                    "SELECT entry, blake3, changed, head, ends FROM content WHERE entry = ?1",
                )?
                .query_row([id], |row| {
                    Ok(Kept {
                        entry: row.get(0)?,
                        blake3: row.get(1)?,
                        changed: row.get(2)?,
                        head: row.get(3)?,
                        ends: row.get(4)?,
                    })
                })
                .optional()?,
            false => None,
        };
        self.delete(id)?;
        self.kept.extend(kept);
        Ok(())
    }

    /// Writes the digests that stay, once their rows are there again.
    fn keep(&mut self) -> Result<(), StoreError> {
        for Kept { entry, blake3, changed, head, ends } in self.kept.drain(..) {
            let row = "INSERT INTO content VALUES (?1, ?2, ?3, ?4, ?5)";
            self.db.prepare_cached(row)?.execute(params![entry, blake3, changed, head, ends])?;
        }
        Ok(())
    }

    fn insert(
        &mut self,
        id: i64,
        parent: i64,
        tree: &Tree,
        node: NodeId,
    ) -> Result<(), StoreError> {
        let meta = tree.meta(node);
        let kind = match meta.kind {
            EntryKind::Folder => "d",
            EntryKind::File => "f",
            EntryKind::Symlink => "l",
            EntryKind::Fifo => "p",
            EntryKind::Socket => "s",
            EntryKind::BlockDevice => "b",
            EntryKind::CharDevice => "c",
        };
        let flags = meta.flags.map(|Flags { immutable, append }| match (immutable, append) {
            (false, false) => "",
            (true, false) => "i",
            (false, true) => "a",
            (true, true) => "ia",
        });
        let listing = match tree.listing(node) {
            Listing::Complete => Some("complete"),
            Listing::Failed => Some("failed"),
            Listing::NotListed => None,
        };
        let extras = tree.extras(node).map(|extras| self.extras(extras)).transpose()?;
        let signed = u64::cast_signed;
        self.insert.execute(params![
            id,
            parent,
            tree.name(node),
            kind,
            meta.mode,
            meta.uid,
            meta.gid,
            signed(meta.size),
            meta.allocated.map(signed),
            meta.inode.map(signed),
            meta.device.map(signed),
            meta.links,
            meta.modified,
            meta.changed,
            flags,
            listing,
            tree.target(node),
            extras,
        ])?;
        Ok(())
    }

    fn extras(&mut self, extras: &Extras) -> Result<i64, StoreError> {
        if let Some(id) = self.extras.get(extras) {
            return Ok(*id);
        }
        self.db.execute(
            "INSERT INTO extras (acl, default_acl, nfs4_acl, label, project, inherits) VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
            params![
                extras.acl.as_ref().map(ToString::to_string),
                extras.default_acl.as_ref().map(ToString::to_string),
                extras.nfs4_acl.as_ref().map(Nfs4Acl::bytes),
                extras.label,
                extras.project.map(|project| project.id),
                extras.project.map(|project| project.inherits)
            ],
        )?;
        let id = self.db.last_insert_rowid();
        self.extras.insert(extras.clone(), id);
        Ok(id)
    }
}

/// What is small is written anew each time.
fn small_tables(db: &Transaction, facts: &HostFacts) -> Result<(), StoreError> {
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
