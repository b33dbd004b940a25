//! `tarvek reclaim`, on files in a temporary folder.

mod support;

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::{DirBuilderExt, MetadataExt, PermissionsExt, symlink};
use std::path::Path;

use serde_json::Value;
use support::{Answer, Folder};

/// A folder with a film twice, a partial download, and a hollow folder; and the review of it.
fn reviewed() -> Folder {
    let folder = Folder::new();
    folder
        .write("d/Low Water (2003)/Low Water (2003).mkv", vec![b'w'; 9000])
        .write("d/low.water.2003.mkv", vec![b'w'; 9000])
        .write("d/third.mkv", vec![b'w'; 9000])
        .write("d/debris/Thumbs.db", "x")
        .write("d/other", "y");
    let old = std::time::SystemTime::now() - std::time::Duration::from_secs(30 * 86_400);
    fs::File::open(folder.path("d/debris")).unwrap().set_modified(old).unwrap();
    assert_eq!(folder.run("waste d --review r.csv").code, 0);
    folder
}

/// Another decision on a path.
fn decide(folder: &Folder, path: &str, decision: &str) {
    let text = folder.read("r.csv");
    let of = |line: &str| {
        let (_, rest) = line.split_once(',').unwrap();
        match line.contains(path) {
            true => format!("{decision},{rest}"),
            false => line.to_owned(),
        }
    };
    let lines: Vec<String> = text.split("\r\n").filter(|line| !line.is_empty()).map(of).collect();
    folder.write("r.csv", lines.join("\r\n") + "\r\n");
}

/// Everything below `d` but what is held: names with contents, inode and mode.
fn tree(folder: &Folder) -> BTreeMap<String, (Vec<u8>, u64, u32)> {
    fn walk(top: &Path, into: &mut BTreeMap<String, (Vec<u8>, u64, u32)>) {
        for entry in fs::read_dir(top).unwrap() {
            let path = entry.unwrap().path();
            if path.ends_with(".tarvek-held") {
                continue;
            }
            let meta = fs::symlink_metadata(&path).unwrap();
            let contents = if meta.is_file() { fs::read(&path).unwrap() } else { Vec::new() };
            into.insert(path.to_str().unwrap().to_owned(), (contents, meta.ino(), meta.mode()));
            if meta.is_dir() {
                walk(&path, into);
            }
        }
    }
    let mut all = BTreeMap::new();
    walk(&folder.path("d"), &mut all);
    all
}

/// State and reason of each step, by the last component of its path.
fn states(answer: &Answer) -> BTreeMap<String, (String, String)> {
    let json: Value =
        serde_json::from_str(&answer.stdout).unwrap_or_else(|_| panic!("{}", answer.stderr));
    let of = |step: &Value| {
        let text = |key: &str| step[key].as_str().unwrap_or_default().to_owned();
        let path = text("path");
        (path.rsplit('/').next().unwrap().to_owned(), (text("state"), text("why")))
    };
    json["steps"].as_array().unwrap().iter().map(of).collect()
}

fn reclaim(folder: &Folder, arguments: &str) -> Answer {
    folder.run(&format!("reclaim r.csv {arguments} --format json"))
}

fn number(answer: &Answer, key: &str) -> u64 {
    serde_json::from_str::<Value>(&answer.stdout).unwrap()[key].as_u64().unwrap()
}

fn exists(folder: &Folder, name: &str) -> bool {
    fs::symlink_metadata(folder.path(name)).is_ok()
}

#[test]
fn a_review_is_shown_done_undone_and_purged() {
    let folder = reviewed();
    let before = tree(&folder);
    let plan = reclaim(&folder, "");
    assert_eq!((plan.code, tree(&folder)), (0, before.clone()));
    assert!(!exists(&folder, "d/.tarvek-held"), "showing makes nothing");
    assert!(states(&plan).values().all(|(state, _)| state == "planned"), "{}", plan.stdout);
    let done = reclaim(&folder, "--yes");
    assert_eq!(done.code, 0, "{}{}", done.stdout, done.stderr);
    let left: Vec<String> =
        tree(&folder).into_keys().map(|path| path.rsplit('/').next().unwrap().to_owned()).collect();
    assert_eq!(left, ["Low Water (2003)", "Low Water (2003).mkv", "other"]);
    let held = fs::metadata(folder.path("d/.tarvek-held")).unwrap();
    assert_eq!(held.permissions().mode() & 0o777, 0o700);
    assert_eq!((number(&done, "freed_bytes"), number(&done, "held_bytes") > 18_000), (0, true));
    // A second time nothing is done, and nothing that is held is forgotten.
    let again = reclaim(&folder, "--yes");
    assert_eq!((again.code, number(&again, "held_bytes")), (0, number(&done, "held_bytes")));
    assert!(states(&again).values().all(|(state, why)| state == "done" && why == "done before"));
    // Waste that is held is no waste.
    assert_eq!(folder.json("waste d")["groups"], Value::Array(Vec::new()));
    let undone = reclaim(&folder, "--undo --yes");
    assert_eq!((undone.code, tree(&folder)), (0, before));
    assert!(states(&undone).values().all(|(state, _)| state == "undone"));
    assert_eq!(number(&undone, "held_bytes"), 0);
    reclaim(&folder, "--yes");
    let shown = reclaim(&folder, "--purge");
    assert!(number(&shown, "held_bytes") > 0 && number(&shown, "freed_bytes") == 0);
    let purged = reclaim(&folder, "--purge --yes");
    assert_eq!((purged.code, number(&purged, "held_bytes")), (0, 0), "{}", purged.stdout);
    assert!(number(&purged, "freed_bytes") >= 18_000);
    assert!(!exists(&folder, "d/.tarvek-held"), "it goes with the last of it");
    let total = folder.json("reclaim --total");
    assert_eq!(
        (&total["files"], &total["bytes"]),
        (&3.into(), &number(&purged, "freed_bytes").into())
    );
    // What is purged can't come back, and says so; the total counts it once.
    let undone = reclaim(&folder, "--undo --yes");
    assert_eq!(undone.code, 2);
    assert!(undone.stdout.contains("it was purged: nothing is held of it"), "{}", undone.stdout);
    assert_eq!(reclaim(&folder, "--purge --yes").code, 0);
    assert_eq!(folder.json("reclaim --total"), total);
    assert_eq!(reclaim(&folder, "--yes").code, 0);
}

#[test]
fn what_it_names_as_the_next_command_does_what_is_said_of_it() {
    for (what, restores) in [("puts everything back", true), ("deletes it for good", false)] {
        let folder = reviewed();
        let before = tree(&folder);
        let done = folder.run("reclaim r.csv --yes");
        let line = done.stdout.lines().find(|line| line.ends_with(what)).unwrap();
        let command = line.trim_end_matches(what).trim().strip_prefix("tarvek ").unwrap();
        assert_eq!(folder.run(command).code, 0, "{command}");
        assert_eq!(tree(&folder) == before, restores, "{command}");
        // The journal stays while something could be done again.
        assert_eq!(exists(&folder, "d/.tarvek-held/journal"), restores);
        assert_eq!(exists(&folder, "d/.tarvek-held"), restores);
        // Once more, there is nothing to do.
        let again = folder.run(command);
        let nothing = "✓ nothing is held for this review: nothing is left to do\n";
        assert_eq!((again.code, again.stdout.as_str()), (0, nothing));
    }
}

#[test]
fn what_is_put_back_is_not_listed_as_dropped() {
    let folder = reviewed();
    folder.run("reclaim r.csv --yes");
    for undone in ["reclaim r.csv --undo", "reclaim r.csv --undo --yes"] {
        let shown = folder.run(undone).stdout;
        assert_eq!(
            (shown.matches("  back  ").count(), shown.matches("drop").count()),
            (4, 0),
            "{shown}"
        );
    }
}

#[test]
fn what_has_changed_since_the_review_is_refused_by_name_and_the_rest_goes_on() {
    type Change = fn(&Folder);
    let cases: [(&str, Change, &str); 10] = [
        ("third.mkv", |f| _ = f.write("d/third.mkv", vec![b'x'; 9000]), "it was written to since"),
        ("third.mkv", |f| _ = f.write("d/third.mkv", vec![b'w'; 9001]), "it has 9001 bytes now"),
        (
            "third.mkv",
            |f| fs::remove_file(f.path("d/third.mkv")).unwrap(),
            "it is not there any more",
        ),
        (
            "third.mkv",
            |f| {
                fs::remove_file(f.path("d/third.mkv")).unwrap();
                symlink("other", f.path("d/third.mkv")).unwrap();
            },
            "a symlink took its place",
        ),
        (
            "third.mkv",
            |f| {
                fs::rename(f.path("d/third.mkv"), f.path("d/x")).unwrap();
                fs::copy(f.path("d/x"), f.path("d/third.mkv")).unwrap();
            },
            "another file took its place",
        ),
        (
            "third.mkv",
            |f| {
                // Other bytes under the old mtime: the bytes themselves are compared.
                let old = fs::metadata(f.path("d/third.mkv")).unwrap().modified().unwrap();
                let mut bytes = vec![b'w'; 9000];
                bytes[5000] = b'x';
                f.write("d/third.mkv", bytes);
                let file = fs::File::options().write(true).open(f.path("d/third.mkv")).unwrap();
                file.set_modified(old).unwrap();
            },
            "has other bytes",
        ),
        ("debris", |f| _ = f.write("d/debris/new", "z"), "it is not empty"),
        (
            "third.mkv",
            |f| {
                let text = f.read("r.csv");
                let line = text.lines().find(|line| line.contains("third.mkv")).unwrap().to_owned();
                f.write("r.csv", format!("{text}{line}\r\n"));
            },
            "it stands twice",
        ),
        (
            "third.mkv",
            |f| {
                let text = f.read("r.csv");
                let of = |line: &str| match line.contains("third.mkv") {
                    true => line.replacen(line.split(',').nth(1).unwrap(), "", 1),
                    false => line.to_owned(),
                };
                f.write("r.csv", text.lines().map(of).collect::<Vec<_>>().join("\r\n"));
            },
            "names no group",
        ),
        ("third.mkv", |f| decide(f, "third.mkv", "delete"), "is no decision"),
    ];
    for (name, change, says) in cases {
        let folder = reviewed();
        change(&folder);
        let before = tree(&folder);
        let answer = reclaim(&folder, "--yes");
        assert_eq!(answer.code, 1, "{says}: {}{}", answer.stdout, answer.stderr);
        let states = states(&answer);
        let (state, why) = &states[name];
        assert!(state == "refused" && why.contains(says), "{says}: {states:?}");
        assert!(!exists(&folder, "d/low.water.2003.mkv"), "{says}: the rest goes on");
        let after = tree(&folder);
        for (path, (bytes, ..)) in before.iter().filter(|(path, _)| path.contains(name)) {
            if !path.contains("Thumbs") {
                assert_eq!(Some(bytes), after.get(path).map(|(bytes, ..)| bytes), "{says}: {path}");
            }
        }
    }
}

#[test]
fn the_last_of_a_group_stays() {
    let folder = reviewed();
    decide(&folder, "Low Water (2003)/Low", "drop");
    let answer = reclaim(&folder, "--yes");
    assert_eq!(answer.code, 1);
    assert_eq!(states(&answer)["Low Water (2003).mkv"].1, "it is the last of its group, and stays");
    assert!(
        exists(&folder, "d/Low Water (2003)/Low Water (2003).mkv")
            && !exists(&folder, "d/third.mkv")
    );
    // Nor does anything go for which nothing is kept that is still there.
    let folder = reviewed();
    fs::remove_file(folder.path("d/Low Water (2003)/Low Water (2003).mkv")).unwrap();
    let answer = reclaim(&folder, "--yes");
    let (state, why) = states(&answer)["third.mkv"].clone();
    assert!(
        state == "refused" && why.contains("is kept instead, and it is not there any more"),
        "{why}"
    );
}

#[test]
fn a_link_unites_two_names_and_nobody_is_without() {
    let folder = reviewed();
    decide(&folder, "third.mkv", "link");
    let before = tree(&folder);
    let answer = reclaim(&folder, "--yes");
    assert_eq!(answer.code, 0, "{}{}", answer.stdout, answer.stderr);
    let inode = |name: &str| fs::metadata(folder.path(name)).unwrap().ino();
    assert_eq!(inode("d/third.mkv"), inode("d/Low Water (2003)/Low Water (2003).mkv"));
    assert_eq!(reclaim(&folder, "--yes").code, 0);
    assert_eq!(reclaim(&folder, "--undo --yes").code, 0);
    assert_eq!(tree(&folder), before);
    // Whoever could read it still has to.
    fs::set_permissions(folder.path("d/third.mkv"), fs::Permissions::from_mode(0o604)).unwrap();
    fs::set_permissions(
        folder.path("d/Low Water (2003)/Low Water (2003).mkv"),
        fs::Permissions::from_mode(0o640),
    )
    .unwrap();
    let answer = reclaim(&folder, "--yes");
    let (state, why) = states(&answer)["third.mkv"].clone();
    assert!(state == "refused" && why.contains("could no longer read it"), "{why}");
    assert_ne!(inode("d/third.mkv"), inode("d/Low Water (2003)/Low Water (2003).mkv"));
}

#[test]
fn nothing_is_purged_whose_last_copy_vanished_or_changed() {
    let kept = "d/Low Water (2003)/Low Water (2003).mkv";
    for change in [
        &|f: &Folder| fs::remove_file(f.path(kept)).unwrap(),
        &|f: &Folder| _ = f.write(kept, vec![b'x'; 9000]),
        &|f: &Folder| _ = f.write("d/.tarvek-held/000001", vec![b'v'; 9000]),
    ] as [&dyn Fn(&Folder); 3]
    {
        let folder = reviewed();
        assert_eq!(reclaim(&folder, "--yes").code, 0);
        change(&folder);
        let purged = reclaim(&folder, "--purge --yes");
        assert_eq!(purged.code, 1, "{}", purged.stdout);
        assert!(exists(&folder, "d/.tarvek-held/000001"), "{}", purged.stdout);
        assert!(number(&purged, "held_bytes") > 0);
    }
}

#[test]
fn a_planted_holding_folder_is_refused() {
    let cases: [&dyn Fn(&Folder); 4] = [
        &|f| {
            fs::create_dir(f.path("elsewhere")).unwrap();
            symlink(f.path("elsewhere"), f.path("d/.tarvek-held")).unwrap();
        },
        &|f| _ = f.write("d/.tarvek-held", "x"),
        &|f| fs::DirBuilder::new().mode(0o777).create(f.path("d/.tarvek-held")).unwrap(),
        &|f| {
            fs::DirBuilder::new().mode(0o700).create(f.path("d/.tarvek-held")).unwrap();
            f.write("journal", "");
            symlink(f.path("journal"), f.path("d/.tarvek-held/journal")).unwrap();
        },
    ];
    for plant in cases {
        let folder = reviewed();
        plant(&folder);
        let before = tree(&folder);
        let answer = reclaim(&folder, "--yes");
        assert_eq!((answer.code, tree(&folder)), (2, before), "{}", answer.stdout);
        assert!(states(&answer).values().all(|(state, why)| state == "refused" && !why.is_empty()));
    }
    // A journal that is damaged is not guessed at.
    let folder = reviewed();
    reclaim(&folder, "--yes");
    let journal = folder.read("d/.tarvek-held/journal");
    folder.write("d/.tarvek-held/journal", format!("{{\n{journal}"));
    let answer = reclaim(&folder, "--undo --yes");
    assert!(answer.code == 2 && answer.stdout.contains("damaged in line 1"), "{}", answer.stdout);
}

#[test]
fn undo_takes_nobodys_name() {
    let folder = reviewed();
    reclaim(&folder, "--yes");
    folder.write("d/third.mkv", "new");
    let answer = reclaim(&folder, "--undo --yes");
    assert_eq!(answer.code, 1);
    assert!(
        states(&answer)["third.mkv"].1.contains("another file took its name"),
        "{}",
        answer.stdout
    );
    assert_eq!(folder.read("d/third.mkv"), "new");
    assert!(exists(&folder, "d/low.water.2003.mkv"));
    // Once the name is free it comes back.
    fs::remove_file(folder.path("d/third.mkv")).unwrap();
    assert_eq!(reclaim(&folder, "--undo --yes").code, 0);
    assert_eq!(folder.read("d/third.mkv").len(), 9000);
}

#[test]
fn ignored_groups_are_remembered() {
    let folder = reviewed();
    decide(&folder, "third.mkv", "ignore");
    let answer = reclaim(&folder, "--yes");
    assert!(answer.code == 1 && answer.stdout.contains("--ignored FILE"), "{}", answer.stdout);
    let answer = reclaim(&folder, "--yes --ignored mine");
    assert_eq!(answer.code, 0, "{}", answer.stdout);
    folder.write("d/third again.mkv", vec![b'w'; 9000]);
    let found = folder.json("waste d --ignored mine --kind copy");
    assert_eq!(
        (&found["groups"], &found["totals"]["ignored"]),
        (&Value::Array(Vec::new()), &1.into())
    );
}

#[test]
fn other_hosts_files_are_theirs_to_reclaim() {
    let folder = reviewed();
    let own = nix::sys::utsname::uname().unwrap().nodename().to_str().unwrap().to_owned();
    let text = folder.read("r.csv").replace(&format!(",{own},"), ",granary,");
    folder.write("r.csv", text);
    let answer = reclaim(&folder, "--yes");
    assert_eq!(answer.code, 2, "{}", answer.stdout);
    assert!(
        states(&answer)
            .values()
            .all(|(_, why)| why == "it is a file of granary: run reclaim there")
    );
}

#[test]
fn a_link_says_what_changes_and_takes_or_gives_nothing_unasked() {
    let folder = reviewed();
    decide(&folder, "third.mkv", "link");
    let mode = |name: &str, mode: u32| {
        fs::set_permissions(folder.path(name), fs::Permissions::from_mode(mode)).unwrap();
    };
    mode("d/third.mkv", 0o604);
    mode("d/Low Water (2003)/Low Water (2003).mkv", 0o660);
    for arguments in ["", "--yes"] {
        let answer = reclaim(&folder, arguments);
        let (state, why) = states(&answer)["third.mkv"].clone();
        assert_eq!(state, "refused", "{why}");
        assert!(
            why.contains("whoever is in no group") && why.contains("no longer read it"),
            "{why}"
        );
        assert!(why.contains("could write it") && why.contains("--accept-rights"), "{why}");
    }
    let answer = reclaim(&folder, "--accept-rights");
    let json: Value = serde_json::from_str(&answer.stdout).unwrap();
    let step = json["steps"].as_array().unwrap().iter().find(|step| step["do"] == "link").unwrap();
    let changes: Vec<&str> =
        step["changes"].as_array().unwrap().iter().map(|line| line.as_str().unwrap()).collect();
    assert!(changes.contains(&"mode 0604 → 0660"), "{changes:?}");
    assert!(changes.iter().any(|line| line.contains("could no longer read it")), "{changes:?}");
    let shown = folder.run("reclaim r.csv --accept-rights").stdout;
    assert!(shown.contains("mode 0604 → 0660"), "{shown}");
    assert_eq!(reclaim(&folder, "--yes --accept-rights").code, 0);
    let inode = |name: &str| fs::metadata(folder.path(name)).unwrap().ino();
    assert_eq!(inode("d/third.mkv"), inode("d/Low Water (2003)/Low Water (2003).mkv"));
    // With equal rights nothing has to be said.
    assert_eq!(reclaim(&folder, "--undo --yes").code, 0);
    mode("d/third.mkv", 0o660);
    let answer = reclaim(&folder, "--yes");
    assert_eq!(states(&answer)["third.mkv"].0, "done", "{}", answer.stdout);
    assert!(!answer.stdout.contains("changes"), "{}", answer.stdout);
}

#[test]
fn a_line_that_was_changed_in_more_than_its_decision_is_refused() {
    for (column, value) in [("group", "copy-000000000000"), ("kind", "leftover"), ("root", "/")] {
        let folder = reviewed();
        let mut table = csv::Reader::from_path(folder.path("r.csv")).unwrap();
        let head = table.headers().unwrap().clone();
        let at = head.iter().position(|name| name == column).unwrap();
        let mut out = csv::Writer::from_path(folder.path("edited.csv")).unwrap();
        out.write_record(&head).unwrap();
        for record in table.records().map(Result::unwrap) {
            let cell = |(n, cell): (usize, &str)| match n == at {
                true => value.to_owned(),
                false => cell.to_owned(),
            };
            out.write_record(record.iter().enumerate().map(cell)).unwrap();
        }
        out.flush().unwrap();
        let before = tree(&folder);
        let answer = folder.run("reclaim edited.csv --yes --format json");
        assert_eq!((answer.code, tree(&folder)), (2, before), "{column}: {}", answer.stdout);
        assert!(!exists(&folder, "d/.tarvek-held") && !Path::new("/.tarvek-held").exists());
        let said = "more than the decision was changed";
        assert!(states(&answer).values().all(|(_, why)| why.contains(said)), "{}", answer.stdout);
    }
}

#[test]
fn the_columns_of_the_contract_are_enough_for_copies() {
    let folder = reviewed();
    let columns = [
        "mtime",
        "inode",
        "device",
        "digest",
        "path_bytes",
        "path",
        "why",
        "bytes",
        "kind",
        "group",
        "decision",
    ];
    let mut table = csv::Reader::from_path(folder.path("r.csv")).unwrap();
    let head = table.headers().unwrap().clone();
    let mut out = csv::Writer::from_path(folder.path("few.csv")).unwrap();
    out.write_record(columns).unwrap();
    for record in table.records().map(Result::unwrap) {
        let cell = |name| &record[head.iter().position(|column| column == name).unwrap()];
        out.write_record(columns.map(cell)).unwrap();
    }
    out.flush().unwrap();
    let before = tree(&folder);
    let answer = folder.run("reclaim few.csv --yes --format json");
    let states = states(&answer);
    assert_eq!(states["third.mkv"].0, "done", "{}", answer.stdout);
    // Nothing is there once more of a leftover, and nothing says that anybody asked for it.
    assert!(states["Thumbs.db"].1.contains("no seal"), "{}", answer.stdout);
    assert_eq!(folder.run("reclaim few.csv --undo --yes").code, 0);
    assert_eq!(tree(&folder), before);
}
