//! A survey of which only that is read which a question is about.

use std::collections::{BTreeSet, HashMap};
use std::path::Path;

use rusqlite::{Connection, OptionalExtension};
use tarvek_core::facts::build::TreeBuilder;
use tarvek_core::facts::classes::Classes;
use tarvek_core::facts::host::HostFacts;
use tarvek_core::facts::tree::{NodeId, Tree};

use super::companions::Readable;
use super::load::{folder, put, root, small};
use super::{StoreError, VERSION, classes, open, version};
use crate::sink::{Earlier, Number};

/// So many folders are wanted at once only by somebody who wants all.
const MANY: usize = 256;

/// An open survey whose folders are read when they are asked for.
pub struct InPart {
    /// It stays in one transaction, so that all that is read belongs together.
    db: Connection,
    _readable: Readable,
    classes: Classes,
    numbers: HashMap<NodeId, Number>,
}

impl InPart {
    /// Opens a survey: facts with a tree whose folders are deferred, and the way to the rest. `None` if its version can only be read as a whole.
    ///
    /// # Errors
    /// If the file is none, is damaged, or was written by a newer version.
    pub fn open(file: &Path) -> Result<Option<(HostFacts, Self)>, StoreError> {
        let readable = Readable::of(file)?;
        let db = open(&readable.file, false)?;
        db.execute_batch("BEGIN")?;
        db.query_row("SELECT 1 FROM survey", [], |_| Ok(())).optional()?;
        if version(&db)? != VERSION {
            return Ok(None);
        }
        let classes = classes::read(&db)?;
        let (builder, number) = root(&db, classes.clone(), true)?;
        let facts = small(&db, file, builder.finish())?;
        let numbers = HashMap::from([(Tree::ROOT, number)]);
        Ok(Some((facts, Self { db, _readable: readable, classes, numbers })))
    }

    /// Reads what is in some deferred folders of the tree. Where they are many, all below them is read as well: somebody goes through them.
    ///
    /// # Errors
    /// If the file is damaged.
    pub fn fill(&mut self, tree: &mut Tree, wanted: BTreeSet<NodeId>) -> Result<(), StoreError> {
        let all = wanted.len() > MANY;
        let mut builder = TreeBuilder::more(std::mem::take(tree));
        let mut seen = Earlier::default();
        let mut todo: Vec<NodeId> = wanted.into_iter().collect();
        while let Some(node) = todo.pop() {
            let number = self.numbers.remove(&node).expect("every deferred folder has a number");
            folder(&self.db, number, &self.classes, &mut seen)?;
            for (number, node) in put(&mut builder, node, &seen) {
                self.numbers.insert(node, number);
                todo.extend(all.then_some(node));
            }
        }
        *tree = builder.finish();
        Ok(())
    }
}
