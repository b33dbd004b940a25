//! Names, as a real smbd shows them to `smbclient`: what is said to be shown is shown, and what is
//! not is shown under another name or not at all.

use std::collections::{BTreeMap, BTreeSet};
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;
use std::process::Command;

use serde_json::Value;

use crate::access::Place;
use crate::kernel::{self, Who};
use crate::people;
use crate::random::{self, GIDS, Random, UIDS};
use crate::smb::{Server, session};

const PIECES: &[&[u8]] = &[
    b"a",
    b"Low",
    b"Water",
    b" ",
    b".",
    b"(2003)",
    b".mkv",
    b":",
    b"?",
    b"*",
    b"<",
    b">",
    b"\"",
    b"|",
    b"\\",
    b"con",
    b"CON",
    b"Aux",
    b"nul",
    b"prn",
    b"com1",
    b"COM4",
    b"com5",
    b"lpt1",
    b"LPT4",
    b"lpt9",
    b"clock$",
    b"conin$",
    b"\x01",
    b"\t",
    b"\x1f",
    b"\x7f",
    b"\n",
    b"~1",
    b";",
    b"+",
    b"[1]",
    b"%",
    b"'",
    b"\xc3\x96l",
    b"O\xcc\x88l",
    b"\xe2\x80\x8b",
    b"\xf0\x9f\x8e\xac",
    b"\xdf",
    b"\xff",
    b"\xed\xa0\x80",
    b"\xc2\x80",
    b"com\xc2\xb9",
    b"-",
    b"_",
];

fn name(random: &mut Random) -> Vec<u8> {
    loop {
        let count = 1 + random.below(4);
        let name: Vec<u8> = (0..count).flat_map(|_| random.one(PIECES).to_vec()).collect();
        // Hidden names are another matter.
        if !name.starts_with(b".") {
            return name;
        }
    }
}

#[test]
fn smb_clients_see_what_is_said_to_be_seen() {
    kernel::private_mounts();
    let mut random = Random::from_env("names");
    let place = Place::new();
    let top = place.top();
    let who = Who { uid: UIDS[1], gid: GIDS[1], groups: Vec::new() };
    people::make_known(vec![&who], place.folder());
    let names: Vec<Vec<u8>> = (0..random::cases(400)).map(|_| name(&mut random)).collect();
    for (n, name) in names.iter().enumerate() {
        let folder = top.join(n.to_string());
        std::fs::create_dir(&folder).unwrap();
        std::fs::write(folder.join(OsStr::from_bytes(name)), "").unwrap();
    }
    open_up(&top);
    let stanza = format!("[names]\npath = {}\nread only = yes\n", top.display());
    let _server = Server::with(&stanza, std::slice::from_ref(&who), place.folder());
    let commands: Vec<String> = (0..names.len()).map(|n| format!("ls {n}\\*")).collect();
    // What is written and what comes back have to fit into pipes.
    let sessions = commands.chunks(200);
    let listed: Vec<String> =
        sessions.flat_map(|some| session("names", Some(&who), some).unwrap()).collect();
    let told = told(&top);
    let mut tally = BTreeMap::<(&str, bool), u64>::new();
    for (n, (name, listed)) in names.iter().zip(&listed).enumerate() {
        let shown = is_listed(name, listed);
        let said = told.get(&n.to_string()).cloned().unwrap_or_default();
        let hidden = said.contains("not shown");
        assert_eq!(!shown, hidden, "{:?}: {said:?}\n{listed}", name.escape_ascii().to_string());
        *tally.entry((if said.is_empty() { "fine" } else { "told" }, shown)).or_default() += 1;
    }
    eprintln!("names: {tally:?}");
    assert!(tally.len() > 1, "{tally:?}");
}

fn open_up(folder: &Path) {
    let done = Command::new("chmod").args(["-R", "a+rX"]).arg(folder).status().unwrap();
    assert!(done.success());
}

/// What is said of the one name in each folder.
fn told(top: &Path) -> BTreeMap<String, BTreeSet<&'static str>> {
    let mut command = Command::new(env!("CARGO_BIN_EXE_tarvek"));
    let output = command.args(["check", "--format", "json", "--names"]).arg(top).output().unwrap();
    let answer: Value = serde_json::from_slice(&output.stdout)
        .unwrap_or_else(|_| panic!("{}", String::from_utf8_lossy(&output.stderr)));
    let mut told = BTreeMap::<String, BTreeSet<&str>>::new();
    for finding in answer["findings"].as_array().unwrap() {
        let path = finding["where"]["path"].as_str().unwrap();
        let below = path.strip_prefix(top.to_str().unwrap()).unwrap().trim_start_matches('/');
        let folder = below.split('/').next().unwrap().to_owned();
        let message = finding["message"].as_str().unwrap();
        let what = match finding["rule"].as_str().unwrap() {
            "name/not-utf8" => "not shown",
            "name/not-share-safe" if message.contains("show it under another name") => "not shown",
            "name/not-share-safe" => "not opened",
            _ => "shown",
        };
        told.entry(folder).or_default().insert(what);
    }
    told
}

/// Whether a listing has an entry of that very name: two blanks, the name, and blanks up to what it
/// is.
fn is_listed(name: &[u8], listed: &str) -> bool {
    let Ok(name) = std::str::from_utf8(name) else { return false };
    listed.lines().any(|line| {
        let line = line.strip_prefix("  ").unwrap_or(line);
        line.strip_prefix(name).is_some_and(|rest| {
            let columns = rest.trim_start();
            rest.len() - columns.len() >= 2 && columns.starts_with(['N', 'A', 'D', 'H', 'R', 'S'])
        })
    })
}
