//! A survey of which only that is read which a question asks for answers as one that is read as a
//! whole.

mod support;

use std::fmt::Write as _;
use std::path::Path;

use support::Folder;

/// The demo with its listings, which are read as a whole, and with surveys made of them, which are
/// read in part.
fn both() -> [Folder; 2] {
    both_with(|_| {})
}

/// The same, after a change.
fn both_with(change: impl Fn(&Folder)) -> [Folder; 2] {
    let (whole, part) = (Folder::demo(), Folder::demo());
    change(&whole);
    change(&part);
    for host in ["granary", "millrace"] {
        let listing = format!("{host}.listing");
        assert_eq!(part.run(&format!("survey --from {listing} -o {host}.survey")).code, 0);
        std::fs::remove_file(part.path(&listing)).unwrap();
    }
    [whole, part]
}

/// The same question to both; what comes back of the first.
fn same(folders: &[Folder; 2], arguments: &[&str]) -> String {
    let [whole, part] = folders.each_ref().map(|folder| {
        let output = folder.output(arguments);
        let text = |bytes| String::from_utf8_lossy(bytes).into_owned();
        (output.status.code(), text(&output.stdout), text(&output.stderr))
    });
    assert_eq!(whole, part, "{arguments:?}");
    whole.1
}

/// Every path of a host's listing.
fn paths(folder: &Folder, host: &str) -> Vec<String> {
    let listing = folder.read(&format!("{host}.listing"));
    let tree = listing.split("section tree").nth(1).unwrap().split("end tree").next().unwrap();
    let lines =
        tree.lines().filter(|line| ["|d", "|f", "|l"].iter().any(|kind| line.starts_with(kind)));
    let paths: Vec<String> =
        lines.filter_map(|line| Some(line[line.find(" /")? + 1..].to_owned())).collect();
    assert!(paths.len() > 5, "{paths:?}");
    paths
}

#[test]
fn a_question_about_any_path_is_answered_alike() {
    let folders = both();
    let mut answered = 0;
    for host in ["granary", "millrace"] {
        let view = format!("host:{host}");
        for path in paths(&folders[0], host).iter().step_by(2) {
            for asked in [
                &["access", path, "--from", &view, "--as", "840:840", "--format", "json"][..],
                &["access", path, "--from", &view, "--all"],
                &["trace", path, "--from", &view, "--format", "json"],
                &["trace", "--to", &format!("{host}:{path}")],
            ] {
                answered += usize::from(!same(&folders, asked).is_empty());
            }
        }
        same(&folders, &["access", "/nowhere/at all", "--from", &view]);
        same(&folders, &["trace", "/loft/media/Film", "--from", &view]);
    }
    assert!(answered > 80, "{answered}");
}

#[test]
fn questions_of_services_are_answered_alike() {
    let folders = both();
    for (service, path) in [
        ("lantern", "/media/films"),
        ("lantern", "/media/series"),
        ("lantern", "/archive"),
        ("lantern", "/books"),
        ("drover", "/data/intake"),
        ("joiner", "/data/films"),
    ] {
        let view = format!("service:{service}");
        for asked in [
            &["access", path, "--from", &view, "--below"][..],
            &["access", path, "--from", &view, "--new-file"],
            &["access", path, "--from", &view, "--need", "read,add", "--format", "json"],
            &["trace", path, "--from", &view, "-v"],
            &["link", "/data/intake", "/data/films", "--from", &view, "--format", "json"],
            &["link", path, "/data/films/", "--from", &view],
        ] {
            same(&folders, asked);
        }
    }
}

/// Adds folders to a host's listing that no library has, more than there are others.
fn surround(folder: &Folder, host: &str) {
    let name = format!("{host}.listing");
    let mut more = "|d 0755 0 0 6 0 - 2 1 - /loft/other\n".to_owned();
    for n in 0..400 {
        let _ = writeln!(more, "|d 0755 0 0 6 0 - 2 1 - /loft/other/{n}");
        let _ = writeln!(more, "|f 0600 7 7 6 0 - 1 1 - /loft/other/{n}/a:b.mkv");
    }
    let listing = folder.read(&name).replace("end tree\n", &format!("{more}end tree\n"));
    folder.write(&name, &listing);
}

#[test]
fn a_check_is_answered_alike_whatever_is_around_the_libraries() {
    // What becomes of the layout, and of what was seen on granary.
    type Change = (&'static str, &'static str);
    let changes: [(&str, Change, Change); 7] = [
        ("as it is", ("", ""), ("", "")),
        ("libraries elsewhere", ("\"/media/films\"", "\"/media/film\""), ("", "")),
        ("libraries not mapped", ("\"/media/films\"", "\"/nowhere/films\""), ("", "")),
        ("all of it a library", ("\"/media/films\"", "\"/media\""), ("", "")),
        ("refused", ("", ""), ("|d 0755 ", "|d 0700 ")),
        ("files refused", ("", ""), ("|f 0664 ", "|f 0600 ")),
        ("read-only", ("", ""), ("|d 2775 ", "|d 0555 ")),
    ];
    let mut told = std::collections::HashSet::new();
    for (what, (layout, new_layout), (seen, new_seen)) in changes {
        for surrounded in [false, true] {
            let change = |folder: &Folder| {
                for (name, old, new) in
                    [("tarvek.toml", layout, new_layout), ("granary.listing", seen, new_seen)]
                {
                    if !old.is_empty() {
                        let text = folder.read(name);
                        assert!(text.contains(old), "{what}: {old}");
                        folder.write(name, text.replace(old, new));
                    }
                }
                if surrounded {
                    surround(folder, "granary");
                }
            };
            let folders = both_with(change);
            for asked in [&["check", "--format", "json"][..], &["check", "-v"]] {
                let [whole, part] = folders.each_ref().map(|folder| {
                    let output = folder.output(asked);
                    let text =
                        String::from_utf8_lossy(&output.stdout).replace(".listing", ".survey");
                    (output.status.code(), text, output.stderr)
                });
                assert_eq!(whole, part, "{what}, surrounded: {surrounded}");
                told.insert(whole.1);
            }
        }
    }
    assert!(told.len() > 10, "{}", told.len());
}

#[test]
fn a_check_reads_no_more_than_it_goes_through() {
    let folder = Folder::demo();
    surround(&folder, "granary");
    // Nothing is missing: what is gets looked for everywhere.
    let layout = "tarvek = 1\nsite = \"x\"\n[host.granary]\nrole = [\"storage\", \"apps\"]\n\
                  [service.lantern]\nhost = \"granary\"\nrole = \"serve\"\n\
                  runs_as = \"840:2100\"\nmap = [{ from = \"/loft/media\", to = \"/media\", access \
                  = \"ro\" }]\n\
                  libraries = [{ name = \"Films\", kind = \"films\", roots = [\"/media/films\"] \
                  }]\n";
    folder.write("tarvek.toml", layout);
    assert_eq!(folder.run("survey --from granary.listing -o granary.survey").code, 0);
    std::fs::remove_file(folder.path("granary.listing")).unwrap();
    let before = folder.run("check");
    assert!(before.stdout.contains("Films"), "{}", before.stdout);
    let damage = |name: &str| {
        let db = rusqlite::Connection::open(folder.path("granary.survey")).unwrap();
        let sql =
            "UPDATE folder SET entries = replace(entries, ?1, '7') WHERE instr(entries, ?1) > 0";
        assert!(db.execute(sql, [format!("\"{name}\"")]).unwrap() > 0);
    };
    damage("a:b.mkv");
    let after = folder.run("check");
    assert_eq!(
        (after.code, after.stdout, after.stderr),
        (before.code, before.stdout, before.stderr)
    );
    assert_eq!(folder.run("compare granary.survey granary.survey").code, 2);
    damage("The Salt Orchard (2011) 1080p.mkv");
    assert_eq!(folder.run("check").code, 2);
}

#[test]
fn only_what_is_asked_for_is_read() {
    // A folder that nobody asks about is damaged; whoever reads all of the survey says so.
    let folder = Folder::new();
    folder.write("shelf/a/one", "x").write("shelf/b/two", "x");
    assert_eq!(folder.run("survey shelf -o box.survey --host box").code, 0);
    let db = rusqlite::Connection::open(folder.path("box.survey")).unwrap();
    let damage = "UPDATE folder SET entries = replace(entries, '\"two\"', '7') WHERE entries LIKE \
                  '%\"two\"%'";
    assert_eq!(db.execute(damage, []).unwrap(), 1);
    drop(db);
    let top = std::fs::canonicalize(folder.path("shelf")).unwrap();
    let ask = |path: &Path| {
        folder.run(&format!("access {} --survey box.survey --this-host box", path.display()))
    };
    folder.write("tarvek.toml", "tarvek = 1\nsite = \"x\"\n[host.box]\nrole = \"storage\"\n");
    let fine = ask(&top.join("a/one"));
    assert_eq!(fine.code, 0, "{}{}", fine.stdout, fine.stderr);
    let hurt = ask(&top.join("b/two"));
    assert_eq!(hurt.code, 2, "{}", hurt.stdout);
    assert!(hurt.stderr.contains("its folder tree is inconsistent"), "{}", hurt.stderr);
    assert_eq!(folder.run("compare box.survey box.survey").code, 2);
}

#[test]
fn a_folder_that_lies_in_two_is_refused_by_everybody() {
    let folder = Folder::new();
    folder.write("shelf/a/one", "x").write("shelf/b/two", "x");
    assert_eq!(folder.run("survey shelf -o box.survey --host box").code, 0);
    let db = rusqlite::Connection::open(folder.path("box.survey")).unwrap();
    let sql =
        "SELECT id, entries FROM folder WHERE entries LIKE '%\"a\",%' AND entries LIKE '%\"b\",%'";
    let row = |row: &rusqlite::Row| Ok((row.get::<_, i64>(0)?, row.get::<_, String>(1)?));
    let (id, entries) = db.query_row(sql, [], row).unwrap();
    let mut entries: serde_json::Value = serde_json::from_str(&entries).unwrap();
    let first = entries[0].as_array().unwrap().last().unwrap().clone();
    *entries[1].as_array_mut().unwrap().last_mut().unwrap() = first;
    db.execute("UPDATE folder SET entries = ?2 WHERE id = ?1", (id, entries.to_string())).unwrap();
    drop(db);
    let top = std::fs::canonicalize(folder.path("shelf")).unwrap();
    let layout = format!(
        "tarvek = 1\nsite = \"x\"\n[host.box]\nrole = \"storage\"\n[share.s]\nhost = \"box\"\npath \
         = \"{}\"\nnfs = [{{ clients = \"10.0.0.0/8\" }}]\n",
        top.display()
    );
    folder.write("tarvek.toml", layout);
    for asked in [
        format!("access --below {} --from host:box", top.display()),
        "check".to_owned(),
        "compare box.survey box.survey".to_owned(),
        "survey shelf -o box.survey --host box".to_owned(),
    ] {
        let output = folder.run(&asked);
        assert_eq!(output.code, 2, "{asked}: {}{}", output.stdout, output.stderr);
        assert!(output.stderr.contains("is inconsistent"), "{asked}: {}", output.stderr);
    }
}
