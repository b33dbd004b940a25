//! The kernel's side: mounts that nobody else sees, and attempts as somebody else.

use std::path::{Path, PathBuf};
use std::process::Command;

use nix::mount::{MsFlags, mount};
use nix::sched::{CloneFlags, unshare};

/// Moves this thread, and what it starts, into mounts of its own.
pub fn private_mounts() {
    assert!(nix::unistd::geteuid().is_root(), "the oracle lane needs root");
    unshare(CloneFlags::CLONE_NEWNS).expect("a mount namespace");
    mount(None::<&str>, "/", None::<&str>, MsFlags::MS_REC | MsFlags::MS_PRIVATE, None::<&str>)
        .unwrap();
}

pub fn tmpfs(at: &Path) {
    mount(Some("tmpfs"), at, Some("tmpfs"), MsFlags::empty(), Some("mode=755")).unwrap();
}

pub fn bind(from: &Path, at: &Path) {
    mount(Some(from), at, None::<&str>, MsFlags::MS_BIND, None::<&str>).unwrap();
}

/// Who tries.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Who {
    pub uid: u32,
    pub gid: u32,
    pub groups: Vec<u32>,
}

/// This program, where every account can start it.
pub fn own_program(scratch: &Path) -> PathBuf {
    let program = scratch.join("looker");
    if !program.exists() {
        std::fs::copy(std::env::current_exe().unwrap(), &program).unwrap();
    }
    program
}

/// A command that runs what follows it as somebody else.
pub fn become_account(who: &Who) -> Command {
    let mut command = Command::new("setpriv");
    command.args([format!("--reuid={}", who.uid), format!("--regid={}", who.gid)]);
    match who.groups.as_slice() {
        [] => command.arg("--clear-groups"),
        groups => {
            let list: Vec<String> = groups.iter().map(ToString::to_string).collect();
            command.arg(format!("--groups={}", list.join(",")))
        }
    };
    command
}

/// What somebody found in a folder, by really looking.
#[derive(Debug, Default, PartialEq)]
pub struct Found {
    /// Whether the folder itself could be listed and entered.
    pub root: bool,
    /// Entries below that could be listed and read.
    pub readable: u64,
    /// The films among them, as paths below the folder.
    pub films: Vec<PathBuf>,
}

/// Looks into folders as somebody else, in a process that has become that account.
pub fn look_as(who: &Who, folders: &[PathBuf], scratch: &Path) -> Vec<Found> {
    let program = own_program(scratch);
    let list = folders.iter().map(|f| f.to_str().unwrap()).collect::<Vec<_>>().join(":");
    let mut command = become_account(who);
    command.arg(&program).args(["kernel::look", "--exact", "--ignored", "--nocapture"]);
    let output = command.env("TARVEK_LOOK", list).current_dir("/").output().expect("setpriv");
    let text = String::from_utf8(output.stdout).unwrap();
    let answers = text.lines().filter_map(|line| line.split_once("LOOKED ").map(|(_, json)| json));
    let found: Vec<Found> = answers
        .map(|json| {
            let value: serde_json::Value = serde_json::from_str(json).unwrap();
            let film = |path: &serde_json::Value| PathBuf::from(path.as_str().unwrap());
            Found {
                root: value["root"].as_bool().unwrap(),
                readable: value["readable"].as_u64().unwrap(),
                films: value["films"].as_array().unwrap().iter().map(film).collect(),
            }
        })
        .collect();
    assert_eq!(found.len(), folders.len(), "{text}{}", String::from_utf8_lossy(&output.stderr));
    found
}

/// Run by [`look_as`] in a process of its own.
#[test]
#[ignore = "looks as somebody else; other tests start it"]
fn look() {
    let Ok(folders) = std::env::var("TARVEK_LOOK") else { return };
    for folder in folders.split(':') {
        let folder = Path::new(folder);
        let mut found = Found { root: can_list(folder), ..Found::default() };
        if found.root {
            below(folder, folder, &mut found);
        }
        let films: Vec<_> = found.films.iter().map(|film| film.to_string_lossy()).collect();
        println!(
            "\nLOOKED {}",
            serde_json::json!({ "root": found.root, "readable": found.readable, "films": films })
        );
    }
}

fn can_list(folder: &Path) -> bool {
    std::fs::read_dir(folder).is_ok() && std::fs::metadata(folder.join(".")).is_ok()
}

fn below(top: &Path, folder: &Path, found: &mut Found) {
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        let Ok(meta) = std::fs::symlink_metadata(&path) else { continue };
        if meta.is_dir() {
            if can_list(&path) {
                found.readable += 1;
                below(top, &path, found);
            }
        } else if !meta.is_file() {
            found.readable += 1;
        } else if std::fs::File::open(&path).is_ok() {
            found.readable += 1;
            if path.extension().is_some_and(|ending| ending == "mkv") {
                found.films.push(path.strip_prefix(top).unwrap().to_owned());
            }
        }
    }
}
