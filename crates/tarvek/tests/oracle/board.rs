//! The board of this machine against what `ls` as each account finds: ordinary and root-owned
//! folders, a bind mount, a tmpfs, random owners, modes and ACLs.

use std::collections::{BTreeSet, HashMap};
use std::fmt::Write;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use assert_cmd::Command;

use serde_json::Value;

use crate::kernel::{self, Found, Who};
use crate::random::{self, GIDS, Random, UIDS};

struct Library {
    root: PathBuf,
    total: u64,
    who: Who,
    mapped: bool,
}

#[test]
fn the_board_tells_what_a_look_as_each_account_tells() {
    kernel::private_mounts();
    let mut random = Random::from_env("board");
    let scratch = tempfile::tempdir().unwrap();
    std::fs::set_permissions(scratch.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
    let subjects: Vec<Who> = (0..6).map(|_| subject(&mut random)).collect();
    let libraries: Vec<Library> = (0..random::cases(80))
        .map(|n| library(&mut random, scratch.path(), n, &subjects))
        .collect();
    std::fs::write(scratch.path().join("tarvek.toml"), layout(&libraries)).unwrap();
    let ask = |command: &str| -> Value {
        let mut ask = Command::cargo_bin("tarvek").unwrap();
        ask.args([command, "--this-host", "box", "--format", "json"]).current_dir(scratch.path());
        serde_json::from_slice(&ask.output().unwrap().stdout).expect("a document")
    };
    let (check, forecast) = (ask("check"), ask("forecast"));
    let found = looks(&libraries, scratch.path());
    for (n, (library, found)) in libraries.iter().zip(found).enumerate() {
        compare(library, &found, &check["board"][n], &forecast["libraries"][n], n);
    }
    let refused = check["board"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|row| row["stages"]["readable"] != "ok")
        .count();
    eprintln!("board: {} libraries, {refused} of them not wholly readable", libraries.len());
    assert!(refused > libraries.len() / 10, "the trees are too tame to show anything");
}

fn subject(random: &mut Random) -> Who {
    let groups: BTreeSet<u32> = (0..random.below(3)).map(|_| *random.one(&GIDS[1..])).collect();
    Who {
        uid: *random.one(UIDS),
        gid: *random.one(&GIDS[1..]),
        groups: groups.into_iter().collect(),
    }
}

fn library(random: &mut Random, scratch: &Path, n: u64, subjects: &[Who]) -> Library {
    let home = scratch.join(format!("lib{n}"));
    let real = scratch.join(format!("real{n}"));
    std::fs::create_dir(&home).unwrap();
    match random.below(4) {
        0 => kernel::tmpfs(&home),
        1 => {
            std::fs::create_dir(&real).unwrap();
            kernel::bind(&real, &home);
        }
        _ => {}
    }
    // At times a library has a second mount inside it.
    let total = random::tree(random, &home, 3).len() as u64;
    let mut inner = 0;
    if random.rarely(5) {
        let point = home.join("inner");
        std::fs::create_dir(&point).unwrap();
        kernel::tmpfs(&point);
        inner = 1 + random::tree(random, &point, 1).len() as u64;
    }
    if random.rarely(2) {
        random::rights(random, &home);
    }
    Library {
        root: home,
        total: total + inner,
        who: random.one(subjects).clone(),
        mapped: random.rarely(2),
    }
}

fn layout(libraries: &[Library]) -> String {
    let mut text =
        "tarvek = 1\nsite = \"oracle\"\n[host.box]\nrole = [\"storage\", \"apps\"]\n".to_owned();
    for (n, library) in libraries.iter().enumerate() {
        let Who { uid, gid, groups } = &library.who;
        let groups: Vec<String> =
            groups.iter().map(|gid| format!("{:?}", gid.to_string())).collect();
        let root = library.root.to_str().unwrap();
        let (map, seen) = if library.mapped {
            (format!("map = [{{ from = {root:?}, to = \"/media\", access = \"ro\" }}]\n"), "/media")
        } else {
            (String::new(), root)
        };
        let _ = write!(
            text,
            "[service.s{n}]\nhost = \"box\"\nrole = \"serve\"\nruns_as = \"{uid}:{gid}\"\ngroups = \
             [{}]\n{map}\
             libraries = [{{ name = \"L\", kind = \"films\", roots = [{seen:?}] }}]\n",
            groups.join(", ")
        );
    }
    text
}

/// One process for each account looks into all its libraries.
fn looks(libraries: &[Library], scratch: &Path) -> Vec<Found> {
    let mut by_who: HashMap<&Who, Vec<usize>> = HashMap::new();
    for (n, library) in libraries.iter().enumerate() {
        by_who.entry(&library.who).or_default().push(n);
    }
    let mut all: Vec<Found> = libraries.iter().map(|_| Found::default()).collect();
    for (who, numbers) in by_who {
        let roots: Vec<PathBuf> = numbers.iter().map(|n| libraries[*n].root.clone()).collect();
        for (n, found) in numbers.into_iter().zip(kernel::look_as(who, &roots, scratch)) {
            all[n] = found;
        }
    }
    all
}

fn compare(library: &Library, found: &Found, row: &Value, forecast: &Value, n: usize) {
    let hidden =
        |film: &&PathBuf| !film.iter().any(|part| part.as_encoded_bytes().starts_with(b"."));
    let films = found.films.iter().filter(hidden).count() as u64;
    let unreadable = library.total - found.readable;
    let readable = match (found.root, unreadable) {
        (false, _) => "fail",
        (true, 0) => "ok",
        (true, _) => "part",
    };
    // What names mean is no kernel's matter; that there are any, and how many files they have, is.
    let titles = row["stages"]["titles"].as_u64().unwrap();
    assert!(titles <= films && (titles > 0) == (films > 0), "library {n}: {films} films, {row}");
    assert_eq!(forecast["files"], films, "library {n} of {:?}: {forecast}", library.who);
    assert_eq!(forecast["titles"], titles, "library {n} of {:?}: {forecast}", library.who);
    assert_eq!(forecast["unreadable"], unreadable, "library {n} of {:?}: {forecast}", library.who);
    let expected = serde_json::json!({
        "mapped": "ok", "mounted": "ok", "exists": "ok", "readable": readable, "titles": titles
    });
    assert_eq!(row["stages"], expected, "library {n} of {:?}: {row}", library.who);
    assert_eq!(row["unreadable"], unreadable, "library {n} of {:?}: {row}", library.who);
    assert_eq!(row["entries"], library.total, "library {n} of {:?}: {row}", library.who);
}
