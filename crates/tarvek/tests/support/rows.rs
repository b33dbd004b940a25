//! The entries of a survey file as its own tables tell them, read without Tarvek.
#![allow(dead_code, unreachable_pub)] // each test binary uses a part of this

use std::collections::BTreeMap;
use std::path::Path;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use rusqlite::types::Value;
use rusqlite::{Connection, OpenFlags};

/// Column by column what stands in `folder`, `class` and `extras`, without the numbers that are
/// only the file's own.
pub type Row = BTreeMap<String, Value>;

/// Every entry with its folder's number and its own, by SQL alone. What is no UTF-8 stands in
/// base64.
pub const ENTRIES: &str = "SELECT f.id >> 16 AS folder, CASE class.type WHEN 'd' THEN j.value ->> \
                           8 END AS own, \
    j.value ->> 0 AS name, class.type AS type, class.mode AS mode, class.uid AS uid, class.gid AS \
    gid, j.value ->> 2 AS size, \
    j.value ->> 3 AS allocated, j.value ->> 4 AS inode, class.device AS device, j.value ->> 5 AS \
    links, j.value ->> 6 AS mtime, \
    (j.value ->> 6) + (j.value ->> 7) AS ctime, class.flags AS flags, below.listing AS listing, \
    CASE class.type WHEN 'l' THEN j.value ->> 8 END AS target, \
    extras.acl AS acl, extras.default_acl AS default_acl, extras.nfs4_acl AS nfs4_acl, \
    extras.label AS label, \
    ifnull(below.project, extras.project) AS project, ifnull(below.inherits, extras.inherits) AS \
    inherits \
    FROM folder f, json_each(f.entries) j JOIN class ON class.id = j.value ->> 1 LEFT JOIN extras \
    ON extras.id = class.extras \
    LEFT JOIN folder below ON class.type = 'd' AND below.id = (j.value ->> 8) << 16";

/// Every entry, by its path.
pub fn of(file: &Path) -> BTreeMap<Vec<u8>, Row> {
    let db = Connection::open_with_flags(file, OpenFlags::SQLITE_OPEN_READ_ONLY).unwrap();
    let mut statement = db.prepare(ENTRIES).unwrap();
    let columns: Vec<String> = statement.column_names().map(str::to_owned).collect();
    // The folder that each folder lies in, and what it is called there.
    let mut folders: BTreeMap<i64, (i64, Vec<u8>)> = BTreeMap::new();
    let mut entries: Vec<(i64, Vec<u8>, Row)> = Vec::new();
    let mut rows = statement.query([]).unwrap();
    while let Some(row) = rows.next().unwrap() {
        let mut values = Row::new();
        for (n, column) in columns.iter().enumerate().skip(3) {
            let mut value: Value = row.get(n).unwrap();
            if let ("target", Value::Text(text)) = (column.as_str(), &value) {
                value = Value::Blob(exact(text));
            }
            values.insert(column.clone(), value);
        }
        let (folder, own): (i64, Option<i64>) = (row.get(0).unwrap(), row.get(1).unwrap());
        let name = exact(&row.get::<_, String>(2).unwrap());
        if let Some(own) = own {
            let twice = folders.insert(own, (folder, name.clone()));
            assert_eq!(twice, None, "{} has a folder twice", file.display());
        }
        entries.push((folder, name, values));
    }
    let path = |folder: i64, name: &[u8]| {
        let (mut parts, mut here) = (vec![name.to_vec()], folder);
        while here != 0 {
            let (above, name) = &folders[&here];
            parts.push(name.clone());
            here = *above;
        }
        parts.pop();
        parts.iter().rev().fold(Vec::new(), |path, part| [&path[..], b"/", part].concat())
    };
    let count = entries.len();
    let all: BTreeMap<Vec<u8>, Row> =
        entries.into_iter().map(|(folder, name, row)| (path(folder, &name), row)).collect();
    assert_eq!(all.len(), count, "{} has two entries for one path", file.display());
    all
}

/// The bytes of a name or target: text, or `{"bytes":"…"}`.
fn exact(text: &str) -> Vec<u8> {
    let packed = text.strip_prefix(r#"{"bytes":""#).and_then(|rest| rest.strip_suffix(r#""}"#));
    match packed {
        Some(packed) => STANDARD.decode(packed).unwrap(),
        None => text.as_bytes().to_vec(),
    }
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
