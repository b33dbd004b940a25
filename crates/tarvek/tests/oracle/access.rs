//! Access against real attempts: for random trees and random accounts, what is predicted for
//! reading, writing, entering, adding and removing, errors included, is what a process that has
//! become that account meets.

use std::collections::BTreeMap;
use std::ffi::OsStr;
use std::fs::Permissions;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::process::Command;

use nix::mount::{MsFlags, mount};
use tarvek_core::judge::access_check::judge;
use tarvek_core::judge::verdict::Need;
use tarvek_core::kernel::subject::IdRange;
use tarvek_core::kernel::subject::{IdMap, Subject};
use tarvek_core::layout::service::UserNs;
use tarvek_core::layout::site::Layout;
use tarvek_core::route::follow;
use tarvek_core::route::hops::View;
use tarvek_core::site::join::Site;
use tarvek_core::words::name::Name;
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::word::Word;
use tarvek_host::observe::{Depth, Look, observe};
use tarvek_host::walk::Watch;

use crate::kernel::{self, Space, Who};
use crate::random::{self, GIDS, Random, UIDS};

/// What came of an attempt: `ok`, the name of an error, or nothing where a need makes no sense.
pub type Tried = BTreeMap<(PathBuf, &'static str), String>;

#[test]
fn attempts_come_out_as_predicted() {
    kernel::private_mounts();
    let mut random = Random::from_env("access");
    let mut outcomes = Outcomes::default();
    for n in 0..random::cases(12) {
        let place = Place::new();
        let top = place.top();
        let whole = random.rarely(6);
        if whole {
            kernel::tmpfs(&top);
        }
        let paths = grow(&mut random, &top, whole);
        let subjects: Vec<Who> = (0..8).map(|_| subject(&mut random)).collect();
        let site = look(&top, Layout::default());
        for who in &subjects {
            let tried = attempt(who, None, &paths, place.folder());
            for ((path, need), really) in &tried {
                let predicted = predict(&site, &View::Host(host(&site)), path, need, who);
                assert_eq!(predicted, *really, "{need} of {path:?} as {who:?}, tree {n}");
                outcomes.count(really);
            }
        }
        clear(&top);
    }
    outcomes.report("access");
}

/// The same for processes inside user namespaces, whose root is root over some owners only, and
/// through idmapped mounts.
#[test]
fn attempts_in_user_namespaces_come_out_as_predicted() {
    kernel::private_mounts();
    let mut random = Random::from_env("access in namespaces");
    let mut outcomes = Outcomes::default();
    for n in 0..random::cases(12) {
        let idmapped = random.rarely(2);
        let space = Space::new(id_map(&mut random, idmapped));
        let place = Place::new();
        let top = place.top();
        // Not every filesystem can be idmapped; this one can.
        kernel::tmpfs(&top);
        let mut paths = grow(&mut random, &top, false);
        paths.retain(|path| *path != top);
        if paths.is_empty() {
            continue;
        }
        let seen = if idmapped {
            let at = place.folder().join("mapped");
            std::fs::create_dir(&at).unwrap();
            space.idmapped(&top, &at);
            at
        } else {
            top.clone()
        };
        let shown: Vec<PathBuf> =
            paths.iter().map(|path| seen.join(path.strip_prefix(&top).unwrap())).collect();
        let site = look(&top, contained(&top, &space.map, idmapped));
        for _ in 0..8 {
            let who = inhabitant(&mut random, &space.map);
            let tried = attempt(&who, Some(&space), &shown, place.folder());
            for ((path, need), really) in &tried {
                let asked = Path::new("/view").join(path.strip_prefix(&seen).unwrap());
                let view = View::service("lantern");
                let predicted = predict(&site, &view, &asked, need, &who);
                assert_eq!(
                    predicted, *really,
                    "{need} of {path:?} as {who:?} in {:?}, idmapped {idmapped}, tree {n}",
                    space.map
                );
                outcomes.count(really);
            }
        }
        if idmapped {
            nix::mount::umount2(&seen, nix::mount::MntFlags::MNT_DETACH).unwrap();
        }
        clear(&top);
    }
    outcomes.report("access in namespaces");
}

/// `access --prove` says what other attempts met, and leaves everything as it was.
#[test]
fn proofs_tell_what_really_happens_and_leave_no_trace() {
    kernel::private_mounts();
    let mut random = Random::from_env("proofs");
    let mut outcomes = Outcomes::default();
    for n in 0..random::cases(3) {
        let place = Place::new();
        let top = place.top();
        let paths = grow(&mut random, &top, false);
        for who in [subject(&mut random), subject(&mut random)] {
            let tried = attempt(&who, None, &paths, place.folder());
            let before = everything(&top);
            for path in
                paths.iter().filter(|path| path.extension().is_none_or(|e| e != "fifo")).take(12)
            {
                let gids: Vec<String> =
                    [who.gid].iter().chain(&who.groups).map(ToString::to_string).collect();
                let output = Command::new(env!("CARGO_BIN_EXE_tarvek"))
                    .args(["access", "--prove", "--format", "json", "--as"])
                    .arg(format!("{}:{}", who.uid, gids.join(",")))
                    .arg(path)
                    .output()
                    .unwrap();
                let answer: serde_json::Value = serde_json::from_slice(&output.stdout)
                    .unwrap_or_else(|error| {
                        panic!("{error}: {}", String::from_utf8_lossy(&output.stderr))
                    });
                for verdict in answer["verdicts"].as_array().unwrap() {
                    let need = verdict["need"].as_str().unwrap();
                    let need = Need::named(need).unwrap().word();
                    let really = &tried[&(path.clone(), need)];
                    let context = format!("{need} of {path:?} by {who:?}, tree {n}: {verdict}");
                    assert_eq!(verdict["allowed"] == true, really == "ok", "{context}");
                    assert!(
                        verdict["errno"] == "EBUSY" || verdict["evidence"] == "proven",
                        "{context}"
                    );
                    outcomes.count(really);
                }
            }
            assert_eq!(everything(&top), before, "something was left behind");
        }
        clear(&top);
    }
    outcomes.report("proofs");
}

/// Names, owners, modes, times and contents of a tree.
fn everything(top: &Path) -> String {
    let format = "%p %M %U:%G %s %i %T@\n";
    let listed = Command::new("find").arg(top).args(["-printf", format]).output().unwrap();
    String::from_utf8_lossy(&listed.stdout).into_owned()
}

/// A map of some of the owners that trees have, with 0 among the inside numbers.
pub fn id_map(random: &mut Random, idmapped: bool) -> IdMap {
    let mut ranges = |of: &[u32]| {
        let first = of[1] + random.below(2) as u32;
        // For an idmapped mount it is the numbers inside that the files have.
        if idmapped {
            vec![
                IdRange { inside: 0, outside: 90_000, count: 1 },
                IdRange { inside: first, outside: 91_000, count: 1 + random.below(2) as u32 },
            ]
        } else {
            vec![IdRange { inside: 0, outside: first, count: 1 + random.below(2) as u32 }]
        }
    };
    IdMap { uids: ranges(UIDS), gids: ranges(GIDS) }
}

/// Somebody whose numbers the map has; often its root.
pub fn inhabitant(random: &mut Random, map: &IdMap) -> Who {
    let mut one = |ranges: &[IdRange]| {
        let range = random.one(ranges);
        range.inside + random.below(u64::from(range.count)) as u32
    };
    let (uid, gid, group) = (one(&map.uids), one(&map.gids), one(&map.gids));
    Who { uid, gid, groups: if random.rarely(2) { vec![group] } else { Vec::new() } }
}

/// A layout with a service in a namespace that sees a folder.
pub fn contained(top: &Path, map: &IdMap, idmapped: bool) -> Layout {
    let host = nix::unistd::gethostname().unwrap().into_string().unwrap();
    let text = format!(
        "tarvek = 1\nsite = \"x\"\n[host.{host:?}]\nrole = \"apps\"\n[service.lantern]\nhost = \
         {host:?}\nrole = \"serve\"\n\
         userns = \"{}\"\nmap = [{{ from = {:?}, to = \"/view\", idmap = {idmapped} }}]\n",
        UserNs::Ranges(map.clone()),
        top.to_str().unwrap()
    );
    tarvek_formats::layout::read("layout", text.as_bytes()).unwrap()
}

#[derive(Default)]
struct Outcomes(BTreeMap<String, u64>);

impl Outcomes {
    fn count(&mut self, outcome: &str) {
        *self.0.entry(outcome.to_owned()).or_insert(0) += 1;
    }

    fn report(&self, area: &str) {
        eprintln!("{area}: {} attempts, {:?}", self.0.values().sum::<u64>(), self.0);
        assert!(self.0.len() >= 2, "everything came out the same");
    }
}

/// A folder for one tree, which everybody can enter.
pub struct Place(tempfile::TempDir);

impl Place {
    pub fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        std::fs::set_permissions(folder.path(), Permissions::from_mode(0o755)).unwrap();
        std::fs::create_dir(folder.path().join("tree")).unwrap();
        Self(folder)
    }

    pub fn folder(&self) -> &Path {
        self.0.path()
    }

    pub fn top(&self) -> PathBuf {
        self.folder().join("tree")
    }
}

/// A random tree with odd corners, and what in it is to be tried.
pub fn grow(random: &mut Random, top: &Path, whole: bool) -> Vec<PathBuf> {
    let mut paths = random::tree(random, top, 5);
    random::rights(random, top);
    paths.retain(|path| !path.is_symlink());
    paths.push(top.to_owned());
    // Read-only binds first: making a mount point needs nothing of a folder that is closed.
    for path in &paths {
        if path.is_dir() && path != top && random.rarely(12) {
            kernel::bind(path, path);
            let flags = MsFlags::MS_REMOUNT | MsFlags::MS_BIND | MsFlags::MS_RDONLY;
            mount(None::<&str>, path, None::<&str>, flags, None::<&str>).unwrap();
        }
    }
    if whole {
        let flags = MsFlags::MS_REMOUNT | MsFlags::MS_RDONLY;
        mount(None::<&str>, top, None::<&str>, flags, None::<&str>).unwrap();
        return paths;
    }
    for path in &paths {
        let file = path.symlink_metadata().unwrap().file_type();
        if (file.is_dir() || file.is_file()) && random.rarely(15) {
            let flag = *random.one(&["+i", "+a"]);
            // Where a read-only mount lies over it, it can't be set, and is not.
            let _ = Command::new("chattr").arg(flag).arg(path).output().unwrap();
        }
    }
    paths
}

/// Takes mounts and flags away again, innermost first.
pub fn clear(top: &Path) {
    let table = std::fs::read_to_string("/proc/thread-self/mountinfo").unwrap();
    let point = |line: &str| {
        line.split(' ')
            .nth(4)
            .unwrap()
            .replace("\\040", " ")
            .replace("\\012", "\n")
            .replace("\\134", "\\")
    };
    let mut points: Vec<String> = table.lines().map(point).collect();
    points.retain(|point| Path::new(point).starts_with(top));
    for point in points.iter().rev() {
        nix::mount::umount2(point.as_str(), nix::mount::MntFlags::MNT_DETACH).unwrap();
    }
    let _ = Command::new("chattr").args(["-R", "-i", "-a"]).arg(top).output().unwrap();
    let _ = Command::new("chattr").args(["-i", "-a"]).arg(top).output().unwrap();
    std::fs::remove_dir_all(top).unwrap();
}

pub fn subject(random: &mut Random) -> Who {
    let mut groups: Vec<u32> = (0..random.below(4)).map(|_| *random.one(GIDS)).collect();
    // Groups that nothing belongs to change nothing.
    groups.extend((0..random.below(18)).map(|n| 73_000 + n as u32));
    groups.sort_unstable();
    groups.dedup();
    Who { uid: *random.one(UIDS), gid: *random.one(GIDS), groups }
}

pub fn look(top: &Path, layout: Layout) -> Site {
    let (places, watch) = ([(abs(top), Depth::Everything)], Watch::default());
    let facts =
        observe(&Look { places: &places, documents: false, process: None, watch: &watch }).unwrap();
    assert!(facts.gaps.is_empty(), "{:?}", facts.gaps);
    Site::join(layout, vec![facts]).unwrap()
}

pub fn host(site: &Site) -> Name {
    site.observed().next().unwrap().0.clone()
}

pub fn predict(site: &Site, view: &View, path: &Path, need: &str, who: &Who) -> String {
    let subject = Subject::new(who.uid, who.gid, who.groups.iter().copied());
    let route = follow(site, view, &abs(path), &subject);
    let need = Need::named(need).unwrap();
    let verdict = judge(site, &route, need);
    match verdict.errno() {
        Some(errno) => errno.to_string(),
        None if verdict.is_allowed() => "ok".to_owned(),
        None => format!("{verdict:?}"),
    }
}

/// Hands paths to a process that has become somebody else.
pub fn write_paths(list: &Path, paths: &[PathBuf]) {
    let bytes: Vec<&[u8]> = paths.iter().map(|path| path.as_os_str().as_bytes()).collect();
    std::fs::write(list, bytes.join(&0)).unwrap();
}

pub fn read_paths(list: &Path) -> Vec<PathBuf> {
    let list = std::fs::read(list).unwrap();
    list.split(|&b| b == 0).map(|path| PathBuf::from(OsStr::from_bytes(path))).collect()
}

pub fn abs(path: &Path) -> AbsPath {
    AbsPath::new(path.as_os_str().as_bytes()).unwrap()
}

/// Tries everything as somebody else, in a process of its own.
pub fn attempt(who: &Who, space: Option<&Space>, paths: &[PathBuf], scratch: &Path) -> Tried {
    let program = kernel::own_program(scratch);
    let list = scratch.join("paths");
    write_paths(&list, paths);
    let mut command = kernel::become_account(who, space);
    command.arg(program).args(["access::tries", "--exact", "--ignored", "--nocapture"]);
    let output = command.env("TARVEK_TRY", &list).current_dir("/").output().expect("setpriv");
    let text = String::from_utf8(output.stdout).unwrap();
    let mut tried = Tried::new();
    for line in text.lines().filter_map(|line| line.strip_prefix("TRIED ")) {
        let mut words = line.split(' ');
        let path = &paths[words.next().unwrap().parse::<usize>().unwrap()];
        let need = words.next().unwrap();
        let need = Need::named(need).unwrap().word();
        tried.insert((path.clone(), need), words.next().unwrap().to_owned());
    }
    assert!(tried.len() > paths.len(), "{text}{}", String::from_utf8_lossy(&output.stderr));
    tried
}

/// Run by [`attempt`] in a process of its own.
#[test]
#[ignore = "tries as somebody else; other tests start it"]
fn tries() {
    let Ok(list) = std::env::var("TARVEK_TRY") else { return };
    let paths = read_paths(Path::new(&list));
    // The kinds as they are, whoever asks: a folder that can't be looked into can't tell.
    println!();
    for (n, path) in paths.into_iter().enumerate() {
        let name = path.file_name().unwrap().to_string_lossy().into_owned();
        let fifo = name.ends_with(".fifo");
        let folder = !fifo && !name.ends_with(".mkv");
        let say = |need: &str, outcome: std::io::Result<()>| {
            let word = match outcome {
                Ok(()) => "ok".to_owned(),
                Err(error) => {
                    nix::errno::Errno::from_raw(error.raw_os_error().unwrap()).to_string()
                }
            };
            println!("TRIED {n} {need} {}", word.split(':').next().unwrap());
        };
        let mut open = std::fs::OpenOptions::new();
        open.custom_flags(nix::libc::O_NONBLOCK);
        if folder {
            let enter = || std::fs::symlink_metadata(path.join(".")).map(drop);
            let list = || std::fs::read_dir(&path).map(drop);
            say("read", enter().and_then(|()| list()));
            say("enter", enter());
            let new = path.join(format!("tried by {} {n}", std::process::id()));
            let made = std::fs::OpenOptions::new().write(true).create_new(true).open(&new);
            say("add", made.map(drop));
            let _ = std::fs::remove_file(new);
        } else {
            say("read", open.read(true).open(&path).map(drop));
            let written = open.read(false).write(true).open(&path).map(drop);
            // A FIFO that nobody reads can be opened for writing as far as rights go.
            let no_reader = |e: &std::io::Error| fifo && e.raw_os_error() == Some(nix::libc::ENXIO);
            say("write", if written.as_ref().is_err_and(no_reader) { Ok(()) } else { written });
        }
        let gone = path.with_file_name(format!("gone {n}"));
        let moved = std::fs::rename(&path, &gone);
        if moved.is_ok() {
            std::fs::rename(&gone, &path).unwrap();
        }
        say("remove", moved);
    }
}
