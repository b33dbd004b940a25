//! The entries of a survey file as its own tables tell them, read without Tarvek.
#![allow(dead_code, unreachable_pub)] // each test binary uses a part of this

use std::collections::BTreeMap;
use std::path::Path;

use rusqlite::types::Value;
use rusqlite::{Connection, OpenFlags};

/// Column by column what stands in `entry` and `extras`, without the numbers that are only the file's own.
pub type Row = BTreeMap<String, Value>;

/// Every entry, by its path.
pub fn of(file: &Path) -> BTreeMap<Vec<u8>, Row> {
    let db = Connection::open_with_flags(file, OpenFlags::SQLITE_OPEN_READ_ONLY).unwrap();
    let sql = "SELECT entry.id, entry.parent, entry.name, entry.*, extras.* FROM entry \
               LEFT JOIN extras ON entry.extras = extras.id";
    let mut statement = db.prepare(sql).unwrap();
    let columns: Vec<String> = statement.column_names().map(str::to_owned).collect();
    let mut entries: BTreeMap<i64, (i64, Vec<u8>, Row)> = BTreeMap::new();
    let mut rows = statement.query([]).unwrap();
    while let Some(row) = rows.next().unwrap() {
        let mut values = Row::new();
        for (n, column) in columns.iter().enumerate().skip(3) {
            if !["id", "parent", "name", "extras"].contains(&column.as_str()) {
                values.insert(column.clone(), row.get(n).unwrap());
            }
        }
        entries.insert(row.get(0).unwrap(), (row.get(1).unwrap(), row.get(2).unwrap(), values));
    }
    let path = |id: &i64| {
        let (mut parts, mut here) = (Vec::new(), *id);
        while here != 0 {
            let (parent, name, _) = &entries[&here];
            parts.push(name.clone());
            here = *parent;
        }
        parts.reverse();
        parts.iter().fold(Vec::new(), |path, part| [&path[..], b"/", part].concat())
    };
    let all: BTreeMap<Vec<u8>, Row> =
        entries.iter().map(|(id, (_, _, row))| (path(id), row.clone())).collect();
    assert_eq!(all.len(), entries.len(), "{} has two rows for one path", file.display());
    all
}

/// Only what lies in a folder, the folder included.
pub fn below(file: &Path, top: &Path) -> BTreeMap<Vec<u8>, Row> {
    use std::os::unix::ffi::OsStrExt;
    let top = top.as_os_str().as_bytes();
    let inside = |path: &[u8]| path.strip_prefix(top).is_some_and(|r| matches!(r, [] | [b'/', ..]));
    of(file).into_iter().filter(|(path, _)| inside(path)).collect()
}

/// A number of a row.
pub fn number(row: &Row, column: &str) -> Option<i64> {
    match &row[column] {
        Value::Integer(number) => Some(*number),
        Value::Null => None,
        other => panic!("{column}: {other:?}"),
    }
}

/// A text or bytes of a row.
pub fn bytes(row: &Row, column: &str) -> Option<Vec<u8>> {
    match &row[column] {
        Value::Text(text) => Some(text.clone().into_bytes()),
        Value::Blob(bytes) => Some(bytes.clone()),
        Value::Null => None,
        other => panic!("{column}: {other:?}"),
    }
}
