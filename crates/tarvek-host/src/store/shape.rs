//! A survey's schema is the one that Tarvek writes, to the letter: no view, trigger or index, no
//! other table, no constraint that swallows what is written. It is compared before anything is
//! read.

use rusqlite::Connection;

use super::connection::StoreError;

/// The schema.
pub(super) const SCHEMA: &str = include_str!("schema.sql");

/// Compares what is in the file with what a survey has.
pub(super) fn compare(db: &Connection) -> Result<(), StoreError> {
    let other = || {
        StoreError::new(
            "it holds other things than a survey does",
            "survey the host again, into a new file",
        )
    };
    let mut statement = db.prepare("SELECT type, sql, rootpage FROM sqlite_schema")?;
    let mut rows = statement.query([])?;
    let (mut found, mut pages) = (Vec::new(), Vec::new());
    while let Some(row) = rows.next()? {
        let (kind, sql): (String, Option<String>) = (row.get(0)?, row.get(1)?);
        let page: i64 = row.get(2)?;
        let sql = sql.filter(|_| kind == "table" && !pages.contains(&page)).ok_or_else(other)?;
        pages.push(page);
        found.push(plain(&sql));
    }
    let tables = plain(SCHEMA);
    let tables = tables.split(';').map(str::trim).filter(|sql| sql.starts_with("CREATE TABLE"));
    let mut expected: Vec<String> = tables.map(str::to_owned).collect();
    found.sort();
    expected.sort();
    if found == expected { Ok(()) } else { Err(other()) }
}

/// A statement without comments and without spaces that mean nothing.
fn plain(sql: &str) -> String {
    let code: Vec<&str> = sql.lines().map(|line| line.split("--").next().unwrap_or("")).collect();
    let words: Vec<&str> = code.iter().flat_map(|line| line.split_ascii_whitespace()).collect();
    let mut text = words.join(" ");
    for mark in ["(", ")", ","] {
        text = text.replace(&format!(" {mark}"), mark).replace(&format!("{mark} "), mark);
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    fn judged(change: &str) -> Result<(), StoreError> {
        let db = Connection::open_in_memory().unwrap();
        db.execute_batch(SCHEMA).unwrap();
        db.execute_batch(change).unwrap();
        compare(&db)
    }

    #[test]
    fn nothing_but_a_survey_passes() {
        assert_eq!(judged(""), Ok(()));
        for change in [
            "CREATE VIEW x AS SELECT 1",
            "CREATE TABLE more (x)",
            "CREATE INDEX x ON folder (listing)",
            "CREATE TRIGGER x AFTER DELETE ON gap BEGIN DELETE FROM folder; END",
            "DROP TABLE gap; CREATE VIEW gap AS WITH RECURSIVE c(path, why) AS (SELECT '/', 'x' \
             UNION ALL SELECT path, why FROM c) SELECT * FROM c",
            "DROP TABLE gap; CREATE TABLE gap (path BLOB NOT NULL ON CONFLICT IGNORE, why TEXT NOT \
             NULL)",
            "DROP TABLE gap",
            "ALTER TABLE gap ADD COLUMN more TEXT",
        ] {
            assert!(judged(change).is_err(), "{change}");
        }
        let two = "CREATE TABLE gap (path BLOB NOT NULL, -- the place\n  why TEXT NOT NULL)";
        assert_eq!(judged(&format!("DROP TABLE gap; {two}")), Ok(()));
    }
}
