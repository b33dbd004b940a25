//! What stood in a survey before a look, for those who look again: from several threads, in the
//! order in which they come to it.

use std::collections::{HashMap, HashSet};

use rusqlite::Connection;

use super::connection::{StoreError, damaged};
use super::load::{Part, SHORT, rows_of, short_ones};
use crate::sink::{ABOVE, Number};

/// So many folders with neighbouring numbers are read together: whoever comes to one mostly comes
/// to the others, and asking costs more than reading.
const TOGETHER: Number = 64;

/// So many may wait to be asked for, before they are let go of.
const MOST_WAITING: usize = 16_384;

/// A survey's connection, and what was read of it.
pub(super) struct Stored {
    pub(super) db: Connection,
    /// Short folders that were read together with another one.
    waiting: HashMap<Number, Part<'static>>,
    /// Folders that somebody came to again.
    met: HashSet<Number>,
}

impl Stored {
    pub(super) fn new(db: Connection) -> Self {
        Self { db, waiting: HashMap::new(), met: HashSet::new() }
    }

    /// What stands there of a folder. `end`: no folder of before has this number, or a higher one.
    ///
    /// # Errors
    /// If the file is damaged, or can't be read.
    pub(super) fn of(
        &mut self,
        number: Number,
        end: Number,
    ) -> Result<Vec<Part<'static>>, StoreError> {
        let rows = match self.waiting.remove(&number) {
            Some(part) => vec![part],
            None => self.read(number, end)?,
        };
        // No folder lies in two.
        if number != ABOVE && !rows.is_empty() && !self.met.insert(number) {
            return Err(damaged());
        }
        Ok(rows)
    }

    fn read(&mut self, number: Number, end: Number) -> Result<Vec<Part<'static>>, StoreError> {
        let rows = rows_of(&self.db, number)?;
        if number == ABOVE || rows.is_empty() || rows.iter().map(Part::len).sum::<usize>() > SHORT {
            return Ok(rows);
        }
        if self.waiting.len() > MOST_WAITING {
            self.waiting.clear();
        }
        let first = (number / TOGETHER * TOGETHER).max(ABOVE + 1);
        let last = number.saturating_add(TOGETHER - number % TOGETHER).min(end) - 1;
        let Self { db, waiting, met } = self;
        short_ones(db, first, last, |other, part| {
            if other != number && !met.contains(&other) {
                waiting.insert(other, part);
            }
        })?;
        Ok(rows)
    }

    /// Lets go of a folder that is no longer there.
    pub(super) fn forget(&mut self, number: Number) {
        self.waiting.remove(&number);
    }

    /// Whether somebody came to a folder of before.
    pub(super) fn has_met(&self, number: Number) -> bool {
        self.met.contains(&number)
    }
}
