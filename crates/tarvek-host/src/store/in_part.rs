//! A survey of which only that is read which a question is about.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::path::Path;

use rayon::prelude::*;
use rusqlite::{Connection, OptionalExtension};
use tarvek_core::facts::build::TreeBuilder;
use tarvek_core::facts::classes::Classes;
use tarvek_core::facts::host::HostFacts;
use tarvek_core::facts::tree::{NodeId, Tree};

use super::classes;
use super::companions::Readable;
use super::connection::{StoreError, damaged, guarded};
use super::file::open;
use super::load::{Contents, Folders, Part, put, root, rows_of, small, take_apart};
use crate::sink::{Earlier, Number};

/// An open survey whose folders are read when they are asked for.
pub struct LazySurvey {
    /// It stays in one transaction, so that all that is read belongs together.
    db: Connection,
    _readable: Readable,
    classes: Classes,
    /// The numbers of folders that were not read yet.
    numbers: HashMap<NodeId, Number>,
    /// The folders that were.
    folders: Folders,
    /// The numbers of both.
    known: HashSet<Number>,
}

/// A folder, and what is in it, on its way into the tree.
type KnownEntry = (NodeId, Earlier);

/// The same as it stands in the file.
type Rows = (Number, NodeId, Vec<Part<'static>>);

/// Reads the first of some folders, as many as are taken apart at once.
fn rows(db: &mut Connection, todo: &mut BTreeMap<Number, NodeId>) -> Result<Vec<Rows>, StoreError> {
    let (mut some, mut size) = (Vec::new(), 0);
    while size < AT_ONCE
        && let Some((number, node)) = todo.pop_first()
    {
        let rows = rows_of(db, number)?;
        size += rows.iter().map(Part::len).sum::<usize>();
        some.push((number, node, rows));
    }
    Ok(some)
}

fn apart(
    (number, node, rows): Rows,
    classes: &Classes,
) -> Result<(Number, KnownEntry), StoreError> {
    let mut seen = Earlier::default();
    take_apart(rows, number, classes, &mut seen)?;
    Ok((number, (node, seen)))
}

/// How much text of folders is read before it is taken apart, in bytes: enough for every processor.
const AT_ONCE: usize = 256 << 10;

impl LazySurvey {
    /// Opens a survey: facts with a tree whose folders are deferred, and the way to the rest.
    ///
    /// # Errors
    /// If the file is none, is damaged, or is of another version.
    pub fn open(file: &Path) -> Result<(HostFacts, Self), StoreError> {
        guarded(|| Self::open_unguarded(file))
    }

    fn open_unguarded(file: &Path) -> Result<(HostFacts, Self), StoreError> {
        let readable = Readable::of(file)?;
        let db = open(&readable.file, false)?;
        db.execute_batch("BEGIN")?;
        db.query_row("SELECT 1 FROM survey", [], |_| Ok(())).optional()?;
        let classes = classes::read(&db)?;
        let (builder, number) = root(&db, classes.clone(), true)?;
        let facts = small(&db, file, builder.finish())?;
        let numbers = HashMap::from([(Tree::ROOT, number)]);
        let (folders, known) = (Folders::new(), HashSet::from([number]));
        let part = Self { db, _readable: readable, classes, numbers, folders, known };
        Ok((facts, part))
    }

    /// Reads what is in some deferred folders of the tree, and if it is wanted all that is below
    /// them.
    ///
    /// # Errors
    /// If the file is damaged.
    pub fn fill(
        &mut self,
        tree: &mut Tree,
        wanted: impl IntoIterator<Item = NodeId>,
        below: bool,
    ) -> Result<(), StoreError> {
        guarded(|| self.fill_unguarded(tree, wanted, below))
    }

    fn fill_unguarded(
        &mut self,
        tree: &mut Tree,
        wanted: impl IntoIterator<Item = NodeId>,
        below: bool,
    ) -> Result<(), StoreError> {
        let Self { db, classes, numbers, folders, known, .. } = self;
        let mut builder = TreeBuilder::more(std::mem::take(tree));
        let mut number = |node| numbers.remove(&node).expect("every deferred folder has a number");
        let mut todo: BTreeMap<Number, NodeId> =
            wanted.into_iter().map(|node| (number(node), node)).collect();
        let mut rows = rows(db, &mut todo)?;
        let mut read: BTreeMap<Number, KnownEntry> = BTreeMap::new();
        while !rows.is_empty() || !read.is_empty() {
            let waiting = rows.first().map(|(number, ..)| *number);
            // Some are taken apart while those before them are put into the tree, and the next are
            // read.
            let apart = || rows.into_par_iter().map(|row| apart(row, classes)).collect();
            let put_and_read = || {
                // They come into the tree in the order of their numbers, as if all of it were read.
                while let Some(entry) = read.first_entry() {
                    let before = todo.keys().next().copied().into_iter().chain(waiting).min();
                    if before.is_some_and(|before| before < *entry.key()) {
                        break;
                    }
                    let (number, (node, seen)) = entry.remove_entry();
                    folders.insert(number, node);
                    for (number, node) in put(&mut builder, node, &seen) {
                        // No folder lies in two.
                        if !known.insert(number) {
                            return Err(damaged());
                        }
                        match below {
                            true => _ = todo.insert(number, node),
                            false => _ = numbers.insert(node, number),
                        }
                    }
                }
                self::rows(db, &mut todo)
            };
            let (more, next): (Result<Vec<(Number, KnownEntry)>, StoreError>, _) =
                rayon::join(apart, put_and_read);
            read.extend(more?);
            rows = next?;
        }
        *tree = builder.finish();
        Ok(())
    }

    /// Whether at least half of the folders were read.
    ///
    /// # Errors
    /// If the file is damaged.
    pub fn is_half_read(&self) -> Result<bool, StoreError> {
        let sql = "SELECT count(*) FROM folder";
        let all = self.db.query_row(sql, [], |row| row.get::<_, i64>(0))?;
        Ok(self.folders.len() as i64 >= all / 2)
    }

    /// The deferred folders that are left.
    pub fn left(&self) -> Vec<NodeId> {
        self.numbers.keys().copied().collect()
    }

    /// Reads what the files hold that were read.
    ///
    /// # Errors
    /// If the file is damaged.
    pub fn contents(&self, facts: &mut HostFacts) -> Result<(), StoreError> {
        let contents = Contents { db: &self.db, tree: &facts.tree, folders: &self.folders };
        let (digests, media) = (contents.digests()?, contents.media()?);
        (facts.digests, facts.media) = (digests, media);
        Ok(())
    }
}
