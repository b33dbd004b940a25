//! Surveys that somebody made to do harm: each is refused, in time, and changes nothing.

mod support;

use std::os::unix::fs::symlink;
use std::time::{Duration, Instant};

use support::{Answer, Folder};

/// A small tree, its survey, and something outside that nobody may touch.
fn surveyed() -> Folder {
    let folder = Folder::new();
    folder
        .write("top/a/b", "1")
        .write("top/c", "2")
        .write("outside/secret", "3")
        .write("notes", "4");
    let answer = folder.run("survey top -o box.survey --host box");
    assert_eq!(answer.code, 0, "{}", answer.stderr);
    folder
}

fn sql(folder: &Folder, statements: &str) {
    let db = rusqlite::Connection::open(folder.path("box.survey")).unwrap();
    // A function that does nothing, so that a trigger can be made of it.
    db.execute_batch(statements).unwrap_or_else(|error| panic!("{statements}: {error}"));
    db.close().unwrap();
}

/// Runs it, and makes sure that it comes to an end.
fn within(folder: &Folder, seconds: u64, arguments: &str) -> Answer {
    let start = Instant::now();
    let mut command = folder.command(arguments.split_whitespace());
    let output = command.timeout(Duration::from_secs(seconds)).output().unwrap();
    let code =
        output.status.code().unwrap_or_else(|| panic!("{arguments} took {:?}", start.elapsed()));
    let text = |bytes| String::from_utf8(bytes).unwrap();
    Answer { code, stdout: text(output.stdout), stderr: text(output.stderr) }
}

/// Reading and renewing refuse the file, in words of ours, and leave it and everything beside it as
/// it was.
fn refused(folder: &Folder, about: &str) -> String {
    let before = std::fs::read(folder.path("box.survey")).unwrap();
    let mut said = String::new();
    for arguments in ["compare box.survey box.survey", "survey top -o box.survey --host box"] {
        let answer = within(folder, 20, arguments);
        assert_eq!(answer.code, 2, "{about}: {arguments}: {}{}", answer.stdout, answer.stderr);
        assert!(
            answer.stdout.is_empty() && answer.stderr.starts_with("tarvek: can't use box.survey: "),
            "{about}: {}",
            answer.stderr
        );
        for raw in ["SQLite", "rusqlite", "column", "panicked", "os error"] {
            assert!(!answer.stderr.contains(raw), "{about}: {}", answer.stderr);
        }
        said = answer.stderr;
        assert_eq!(std::fs::read(folder.path("box.survey")).unwrap(), before, "{about}");
    }
    assert_eq!(
        (folder.read("outside/secret"), folder.read("notes")),
        ("3".into(), "4".into()),
        "{about}"
    );
    said
}

#[test]
fn what_is_planted_in_a_schema_is_refused() {
    for planted in [
        "DROP TABLE gap; CREATE VIEW gap AS WITH RECURSIVE c(path, why) AS (SELECT '/', 'x' UNION \
         ALL SELECT path, why FROM c) SELECT * FROM c",
        "ALTER TABLE folder RENAME TO other; CREATE VIEW folder AS SELECT * FROM other",
        "CREATE TRIGGER keep AFTER DELETE ON gap BEGIN INSERT INTO gap VALUES (old.path, old.why); \
         END",
        "CREATE TRIGGER falsify AFTER INSERT ON class BEGIN UPDATE class SET mode = 511; END",
        "CREATE TRIGGER swallow BEFORE INSERT ON folder BEGIN SELECT RAISE(IGNORE); END",
        "CREATE INDEX more ON folder (listing)",
        "CREATE TABLE more (x)",
        "DROP TABLE content",
        "DROP TABLE media",
        "CREATE VIRTUAL TABLE more USING fts5(x)",
    ] {
        let folder = surveyed();
        let db = rusqlite::Connection::open(folder.path("box.survey")).unwrap();
        if db.execute_batch(planted).is_err() {
            assert!(planted.contains("fts5"), "{planted}");
            continue;
        }
        db.close().unwrap();
        assert!(refused(&folder, planted).contains("other things than a survey does"), "{planted}");
    }
}

#[test]
fn what_is_planted_in_rows_is_refused() {
    for planted in [
        // Names that are none, or lead elsewhere.
        r#"UPDATE folder SET entries = replace(entries, '"a"', '".."')"#,
        r#"UPDATE folder SET entries = replace(entries, '"a"', '"."')"#,
        r#"UPDATE folder SET entries = replace(entries, '"a"', '"../../outside"')"#,
        r#"UPDATE folder SET entries = replace(entries, '"a"', '"/etc"')"#,
        r#"UPDATE folder SET entries = replace(entries, '"a"', '""')"#,
        r#"UPDATE folder SET entries = replace(entries, '"a"', '"a\u0000b"')"#,
        r#"UPDATE folder SET entries = replace(entries, '"a"', '"' || hex(randomblob(40000)) || '"')"#,
        r#"UPDATE folder SET entries = replace(entries, '"a"', '7')"#,
        r#"UPDATE folder SET entries = replace(entries, '"a"', 'null')"#,
        r#"UPDATE folder SET entries = replace(entries, '"a"', '{"bytes":"!"}')"#,
        r#"UPDATE folder SET entries = replace(entries, '"a"', '{"bytes":"YQ==","more":1}')"#,
        r#"UPDATE folder SET entries = replace(entries, '"a"', '{"other":"YQ=="}')"#,
        // Out of order, and twice.
        "UPDATE folder SET entries = substr(entries, 1, length(entries) - 1) || ',' || \
         substr(entries, 2)",
        "INSERT INTO folder SELECT id + 1, listing, project, inherits, entries FROM folder",
        // No list, or no list of entries.
        "UPDATE folder SET entries = 'x'",
        "UPDATE folder SET entries = '{}'",
        "UPDATE folder SET entries = '[[]]'",
        "UPDATE folder SET entries = entries || ' '  || entries",
        "UPDATE folder SET entries = CAST(entries AS BLOB)",
        "UPDATE folder SET entries = x'ff'",
        "UPDATE folder SET entries = substr(entries, 1, length(entries) - 1)",
        r#"UPDATE folder SET entries = replace(entries, '"a",', '"a",-')"#,
        r#"UPDATE folder SET entries = replace(entries, '"a",', '"a",99')"#,
        "UPDATE folder SET entries = replace(entries, ']', ',7]')",
        "UPDATE folder SET listing = 'other'",
        // Folders that are nobody's, that lead back, or that are two.
        "UPDATE folder SET id = -7 WHERE id = 1 << 16",
        "UPDATE folder SET id = 9000000000000000000 WHERE id = (SELECT max(id) FROM folder)",
        "UPDATE folder SET id = 4000 << 16 WHERE id = (SELECT max(id) FROM folder)",
        "UPDATE folder SET id = 5000 << 16 WHERE id = 0",
        "INSERT INTO folder SELECT 77 << 16, listing, project, inherits, entries FROM folder WHERE \
         id = 1 << 16",
        "UPDATE folder SET entries = (SELECT entries FROM folder WHERE id = 1 << 16) WHERE id > 1 \
         << 16",
        "UPDATE folder SET entries = (SELECT entries FROM folder WHERE id = 0) WHERE id > 0",
        "DELETE FROM folder",
        // Classes that are none.
        "UPDATE class SET mode = 'x'",
        "UPDATE class SET mode = 70000",
        "UPDATE class SET uid = -5",
        "UPDATE class SET type = 'q'",
        "UPDATE class SET type = 'f'",
        "UPDATE class SET extras = 99",
        "UPDATE class SET id = id + 1000",
        "DELETE FROM class",
        "INSERT INTO gap VALUES (CAST('../x' AS BLOB), 'x')",
        "INSERT INTO root VALUES (CAST('/a/../b' AS BLOB), 1)",
    ] {
        let folder = surveyed();
        sql(&folder, planted);
        refused(&folder, planted);
    }
}

#[test]
fn seventy_thousand_filesystems_are_told_apart() {
    let folder = surveyed();
    sql(
        &folder,
        "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 70000) \
         INSERT INTO class SELECT i + (SELECT max(id) FROM class), 'f', 420, 0, 0, i, '', NULL \
         FROM n; \
         WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 70000) \
         UPDATE folder SET entries = (SELECT json_group_array(json_array(printf('n%05d', i), i + \
         (SELECT max(id) - 70000 FROM class), 0, 0, i, 1, 0, 0)) FROM n) \
         WHERE id = (SELECT max(id) FROM folder)",
    );
    let answer = within(&folder, 60, "compare box.survey box.survey");
    assert_eq!(
        (answer.code, answer.stdout.as_str()),
        (0, "nothing differs\n"),
        "{}",
        answer.stderr
    );
}

#[test]
fn no_foreign_journal_is_followed() {
    let fifo = |path: std::path::PathBuf| {
        let mode = nix::sys::stat::Mode::S_IRWXU;
        nix::unistd::mkfifo(&path, mode).unwrap();
    };
    for ending in ["-journal", "-wal", "-shm"] {
        let folder = surveyed();
        fifo(folder.path(&format!("box.survey{ending}")));
        refused(&folder, ending);
        let folder = surveyed();
        symlink(folder.path("notes"), folder.path(&format!("box.survey{ending}"))).unwrap();
        refused(&folder, ending);
        // Nor beside a survey that is yet to be made.
        let folder = surveyed();
        fifo(folder.path(&format!("new.survey{ending}")));
        let answer = within(&folder, 20, "survey top -o new.survey --host box");
        assert_eq!(answer.code, 2, "{ending}: {}", answer.stderr);
    }
    // A journal that has another file deleted: its end names it (SQLite's file format, section 3).
    let folder = surveyed();
    let target = folder.path("notes").to_str().unwrap().to_owned();
    let mut journal = vec![0u8; 512];
    journal[..8].copy_from_slice(&[0xd9, 0xd5, 0x05, 0xf9, 0x20, 0xa1, 0x63, 0xd7]);
    journal.extend_from_slice(&[0xff; 4]);
    journal.extend_from_slice(target.as_bytes());
    journal.extend_from_slice(&u32::try_from(target.len()).unwrap().to_be_bytes());
    journal.extend_from_slice(&target.bytes().map(u32::from).sum::<u32>().to_be_bytes());
    journal.extend_from_slice(&[0xd9, 0xd5, 0x05, 0xf9, 0x20, 0xa1, 0x63, 0xd7]);
    folder.write("box.survey-journal", &journal);
    refused(&folder, "a journal that names another");
}

#[test]
fn reading_never_puts_a_file_right() {
    // A journal as a killed writer leaves it: whoever reads sees what was before, and leaves both
    // as they are.
    let folder = surveyed();
    let file = folder.path("box.survey");
    let before = folder.run("compare box.survey box.survey --format json").stdout;
    let db = rusqlite::Connection::open(&file).unwrap();
    db.execute_batch(
        "PRAGMA cache_size = 1; PRAGMA cache_spill = 1; BEGIN; UPDATE class SET mode = 0; \
         WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 3000) \
         INSERT INTO folder SELECT (1000 + i) << 16, NULL, NULL, NULL, printf('%500d', i) FROM n;",
    )
    .unwrap();
    let (half, journal) =
        (std::fs::read(&file).unwrap(), std::fs::read(folder.path("box.survey-journal")).unwrap());
    drop(db);
    folder.write("box.survey", &half).write("box.survey-journal", &journal);
    let answer = within(&folder, 20, "compare box.survey box.survey --format json");
    assert_eq!((answer.code, answer.stdout), (0, before), "{}", answer.stderr);
    assert_eq!(std::fs::read(&file).unwrap(), half);
    assert_eq!(std::fs::read(folder.path("box.survey-journal")).unwrap(), journal);
    // At the very start there is an empty file, and the journal of it.
    folder.write("new.survey", "").write("new.survey-journal", &journal);
    let made = within(&folder, 20, "survey top -o new.survey --host box");
    assert_eq!(made.code, 0, "{}", made.stderr);
    // Whoever writes it puts it right.
    let renewed = within(&folder, 20, "survey top -o box.survey --host box");
    assert!(
        renewed.stdout.contains("(0 added,") && renewed.stdout.contains(" 0 removed)"),
        "{}{}",
        renewed.stdout,
        renewed.stderr
    );
}

#[test]
fn a_file_is_a_file_whatever_it_is_called() {
    let folder = surveyed();
    for name in [":memory:", "file:x.survey", "file:x?mode=memory", "a b%20c#d"] {
        let mut command = folder.command(["survey", "top", "--host", "box", "-o", name]);
        assert!(command.output().unwrap().status.success(), "{name}");
        assert!(folder.path(name).metadata().unwrap().len() > 1000, "{name}");
        let read = folder.output(["compare", "box.survey", name]);
        assert_eq!(String::from_utf8_lossy(&read.stdout), "nothing differs\n", "{name}");
    }
}

#[path = "support/hostile.rs"]
mod hostile;

#[test]
fn no_text_of_a_survey_gets_out_as_anything_else() {
    let columns = [
        ("survey", "value", "key = 'host'"),
        ("survey", "value", "key = 'kernel'"),
        ("gap", "path", "1"),
        ("gap", "why", "1"),
        ("mount", "root", "1"),
        ("mount", "point", "1"),
        ("mount", "options", "1"),
        ("mount", "propagation", "1"),
        ("mount", "filesystem", "1"),
        ("mount", "source", "1"),
        ("mount", "super_options", "1"),
        ("fstab", "source", "1"),
        ("fstab", "point", "1"),
        ("fstab", "filesystem", "1"),
        ("fstab", "options", "1"),
        ("account", "name", "1"),
        ("account", "groups", "1"),
        ("grp", "name", "1"),
        ("document", "name", "name = 'capacity'"),
        ("document", "text", "1"),
        ("folder", "entries", "name"),
        ("folder", "entries", "target"),
    ];
    let base = hostile::site(hostile::LAYOUT);
    base.edit(
        "granary.listing",
        "section roots\n",
        "section gaps\n|/loft/archive\tpermission \
        denied\nend gaps\nsection lacking\n|acl: no getfacl command\nend lacking\nsection roots\n",
    );
    assert_eq!(base.run("survey --from granary.listing -o granary.survey").code, 0);
    std::fs::remove_file(base.path("granary.listing")).unwrap();
    let survey = std::fs::read(base.path("granary.survey")).unwrap();
    let mut read = 0;
    for (n, (table, column, which)) in columns.into_iter().enumerate() {
        for turn in 0..2 {
            let odd =
                hostile::HOSTILE[(n * 3 + turn * 7) % hostile::HOSTILE.len()].replace('\'', "''");
            base.write("granary.survey", &survey);
            let db = rusqlite::Connection::open(base.path("granary.survey")).unwrap();
            let blob = matches!(column, "path" | "point" | "root")
                || (table, column) == ("mount", "source");
            let value = format!("CAST({column} AS TEXT) || '{odd}'");
            let value = if blob { format!("CAST({value} AS BLOB)") } else { value };
            let (field, of) = match which {
                "name" => (0, "value ->> 0 = 'films'"),
                _ => (8, "(SELECT type FROM class WHERE id = value ->> 1) = 'l'"),
            };
            let sql = match table {
                "folder" => format!(
                    "UPDATE folder SET entries = (SELECT ifnull(json_group_array(json(CASE WHEN \
                     {of} \
                     THEN json_set(value, '$[{field}]', (value ->> {field}) || '{odd}') ELSE value \
                     END)), '[]') FROM json_each(entries))"
                ),
                _ => format!("UPDATE OR REPLACE {table} SET {column} = {value} WHERE {which}"),
            };
            db.execute_batch(&sql).unwrap();
            db.close().unwrap();
            let about = format!("{odd:?} in {table}.{column}");
            for command in [
                "check",
                "check --format json",
                "check -v",
                "compare granary.survey granary.survey",
                "access /loft/media/films --from host:granary --all",
            ] {
                let code =
                    hostile::run(&base, command, &about).unwrap_or_else(|error| panic!("{error}"));
                read += u32::from(code < 2);
            }
        }
    }
    assert!(read > 100, "{read}");
}
