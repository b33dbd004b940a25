//! Rows of an answer, and columns that hold what they should not.

use rusqlite::{Connection, Row};

/// All rows of an answer.
pub(super) fn all<T>(
    db: &Connection,
    sql: &str,
    read: impl FnMut(&Row) -> rusqlite::Result<T>,
) -> rusqlite::Result<Vec<T>> {
    db.prepare(sql)?.query_map([], read)?.collect()
}

pub(super) fn bad(column: usize, what: &'static str) -> rusqlite::Error {
    rusqlite::Error::FromSqlConversionFailure(column, rusqlite::types::Type::Blob, what.into())
}
