//! Views: what processes meet in mappings and mounts of every kind, against `access`, `access
//! --below` and `trace` from a survey, a listing, and live.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::ffi::OsStr;
use std::fmt::Write;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{MetadataExt, OpenOptionsExt, PermissionsExt};
use std::path::Path;
use std::process::Command;

use nix::fcntl::{OFlag, open as open_at, renameat};
use nix::sys::stat::Mode;
use nix::unistd::mkfifo;
use serde_json::{Value, json};
use tarvek_core::judge::access_check::judge;
use tarvek_core::judge::verdict::Need;
use tarvek_core::kernel::subject::{IdMap, Subject};
use tarvek_core::layout::service::UserNs;
use tarvek_core::link::hard::hardlink;
use tarvek_core::link::link_paths::LinkPaths;
use tarvek_core::link::moved::rename;
use tarvek_core::route::end::End;
use tarvek_core::route::follow_written;
use tarvek_core::route::hops::{HopKind, View};
use tarvek_core::scan::read::below;
use tarvek_core::site::join::Site;
use tarvek_core::words::word::Word;
use tarvek_host::store;

use crate::access::{Place, id_map, inhabitant, subject};
use crate::kernel::{self, Setting, Space, Who};
use crate::random::{self, Random};
use crate::stage::{self, Mapped, TOOLS, Viewed};

/// What the kernel protects in sticky folders.
fn protected(symlinks: &mut Random, files: &mut Random) -> [Setting; 3] {
    [
        Setting::set("fs/protected_symlinks", symlinks.below(2)),
        Setting::set("fs/protected_regular", files.below(3)),
        Setting::set("fs/protected_fifos", files.below(3)),
    ]
}

/// What came of a whole run.
#[derive(Default)]
struct Tally {
    verdicts: u64,
    unknown: BTreeMap<String, u64>,
    outcomes: BTreeMap<String, u64>,
    belows: u64,
    ends: u64,
    live: u64,
    creates: u64,
    links: u64,
}

impl Tally {
    fn unknown(&mut self, why: &str) {
        // Without the paths, so that equal reasons are one.
        let words = why.split(' ').filter(|word| !word.starts_with('/')).collect::<Vec<_>>();
        *self.unknown.entry(words.join(" ")).or_insert(0) += 1;
    }
}

/// Where paths are asked: on the host, or in the view of a service, which may be in a user
/// namespace.
struct Asking<'a> {
    viewed: Option<&'a Viewed>,
    space: Option<&'a Space>,
    scratch: &'a Path,
}

impl Asking<'_> {
    /// A command that runs a test of this program there, as somebody.
    fn command(&self, who: &Who, test: &str) -> Command {
        let Some(viewed) = self.viewed else {
            let mut command = kernel::become_account(who, None);
            command.arg(kernel::own_program(self.scratch));
            command.args([test, "--exact", "--ignored", "--nocapture"]);
            command.env("TARVEK_PATHS", self.scratch.join("paths"));
            return command;
        };
        let mut command = Command::new("nsenter");
        command.args(viewed.enter());
        if let Some(space) = self.space {
            command.args(space.files()).args(["--setuid=0", "--setgid=0"]);
        }
        let inner = kernel::become_account(who, None);
        command.arg(inner.get_program()).args(inner.get_args());
        command.arg(Path::new(TOOLS).join("looker"));
        command.args([test, "--exact", "--ignored", "--nocapture"]);
        command.env("TARVEK_PATHS", Path::new(TOOLS).join("paths"));
        command
    }

    /// Hands paths to a test that runs there, and takes its answers, a document a line.
    fn ask(&self, who: &Who, test: &str, paths: &[Vec<u8>]) -> Vec<Value> {
        std::fs::write(self.scratch.join("paths"), paths.join(&0)).unwrap();
        let output = self.command(who, test).current_dir("/").output().unwrap();
        let text = String::from_utf8_lossy(&output.stdout);
        let errors = String::from_utf8_lossy(&output.stderr);
        assert!(text.contains("DONE"), "{text}{errors}");
        text.lines()
            .filter_map(|line| line.strip_prefix("SAID "))
            .map(|line| serde_json::from_str(line).unwrap())
            .collect()
    }

    /// As the root of everything, who may look everywhere.
    fn ask_as_root(&self, test: &str, paths: &[Vec<u8>]) -> Vec<Value> {
        let root = Who { uid: 0, gid: 0, groups: Vec::new() };
        Self { space: None, ..*self }.ask(&root, test, paths)
    }
}

fn given() -> Option<Vec<Vec<u8>>> {
    let list = std::env::var_os("TARVEK_PATHS")?;
    let list = std::fs::read(list).unwrap();
    println!();
    Some(list.split(|&b| b == 0).map(<[u8]>::to_vec).collect())
}

fn say(answer: &Value) {
    println!("SAID {answer}");
}

fn path_of(bytes: &[u8]) -> &Path {
    Path::new(OsStr::from_bytes(bytes))
}

fn errno(error: &std::io::Error) -> String {
    let name = nix::errno::Errno::from_raw(error.raw_os_error().unwrap_or(0)).to_string();
    name.split(':').next().unwrap().to_owned()
}

fn word(outcome: std::io::Result<()>) -> String {
    outcome.map_or_else(|error| errno(&error), |()| "ok".to_owned())
}

/// So many symlinks to folders are followed one after another where a reader would follow more.
const MOST_LINKS: u32 = 3;

/// Run in a view: everything below some folders, region by region, and what symlinks lead to.
#[test]
#[ignore = "looks around in a view; other tests start it"]
fn lists() {
    let Some(tops) = given() else { return };
    // What a service keeps for itself, and what lies beside the storage, is nobody's to read here.
    let known = |path: &Path| {
        std::fs::canonicalize(path)
            .is_ok_and(|real| tops.iter().any(|top| near_to(&real, path_of(top))))
    };
    for top in &tops {
        let mut regions = Vec::new();
        let mut done = HashSet::new();
        let mut todo = vec![(path_of(top).to_owned(), 0)];
        while let Some((region, links)) = todo.pop() {
            let Ok(meta) = std::fs::metadata(&region) else { continue };
            if !meta.is_dir() || !done.insert(region.clone()) || regions.len() > 200 {
                continue;
            }
            let mut entries = Vec::new();
            for path in stage::below(&region) {
                let Ok(own) = path.symlink_metadata() else { continue };
                let end = std::fs::metadata(&path).ok();
                let folder = end.as_ref().is_some_and(std::fs::Metadata::is_dir);
                let own_storage = own.is_symlink() && end.is_some() && !known(&path);
                if own.is_symlink() && folder && links < MOST_LINKS && !own_storage {
                    todo.push((path.clone(), links + 1));
                }
                let id = |meta: &std::fs::Metadata| json!([meta.dev(), meta.ino()]);
                let kind = |meta: &std::fs::Metadata| match meta {
                    meta if meta.is_dir() => "d",
                    meta if meta.is_file() => "f",
                    meta if meta.is_symlink() => "l",
                    _ => "o",
                };
                entries.push(json!({
                    "path": path.as_os_str().as_bytes(), "kind": kind(&own), "id": id(&own),
                    "own": own_storage,
                    "end": end.as_ref().map(kind), "end_id": end.as_ref().map(id),
                }));
            }
            let id = json!([meta.dev(), meta.ino()]);
            regions.push(
                json!({ "path": region.as_os_str().as_bytes(), "id": id, "entries": entries }),
            );
        }
        say(&json!(regions));
    }
    println!("DONE");
}

/// Whether a path is in a folder, or one of those above it but the root.
fn near_to(path: &Path, top: &Path) -> bool {
    path.starts_with(top) || top.starts_with(path) && path.parent().is_some()
}

/// Run in a view: what some paths lead to.
#[test]
#[ignore = "looks around in a view; other tests start it"]
fn ends() {
    let Some(paths) = given() else { return };
    for path in paths {
        let end = std::fs::metadata(path_of(&path));
        say(&end.map_or_else(
            |error| json!({ "errno": errno(&error) }),
            |meta| {
                let kind = if meta.is_dir() {
                    "d"
                } else if meta.is_file() {
                    "f"
                } else {
                    "o"
                };
                json!({ "kind": kind, "id": [meta.dev(), meta.ino()] })
            },
        ));
    }
    println!("DONE");
}

/// Run in a view as somebody: whether some entries can be read. The first byte of a path says what
/// it is.
#[test]
#[ignore = "tries as somebody else; other tests start it"]
fn reads() {
    let Some(paths) = given() else { return };
    for path in paths {
        let (kind, path) = (path[0], path_of(&path[1..]));
        say(&json!(word(if kind == b'd' { list(path) } else { open(path, nix::libc::O_RDONLY) })));
    }
    println!("DONE");
}

fn enter(path: &Path) -> std::io::Result<()> {
    let inside = [path.as_os_str().as_bytes(), b"/."].concat();
    std::fs::symlink_metadata(path_of(&inside)).map(drop)
}

fn list(path: &Path) -> std::io::Result<()> {
    enter(path)?;
    std::fs::read_dir(path).map(drop)
}

fn open(path: &Path, flags: i32) -> std::io::Result<()> {
    let read = flags == nix::libc::O_RDONLY;
    let mut open = std::fs::OpenOptions::new();
    open.custom_flags(nix::libc::O_NONBLOCK | flags).read(read).write(!read);
    let opened = open.open(path).map(drop);
    // A FIFO that nobody reads can be opened for writing as far as rights go.
    let no_reader = |e: &std::io::Error| e.raw_os_error() == Some(nix::libc::ENXIO);
    if opened.as_ref().is_err_and(no_reader) { Ok(()) } else { opened }
}

/// As if it were made, though it is there.
fn open_made(path: &Path) -> std::io::Result<()> {
    std::fs::metadata(path)?;
    open(path, nix::libc::O_WRONLY | nix::libc::O_CREAT)
}

/// Run in a view as somebody: every need of some paths, really tried.
#[test]
#[ignore = "tries as somebody else; other tests start it"]
fn tries() {
    let Some(paths) = given() else { return };
    for (n, path) in paths.iter().enumerate() {
        let (folder, path) = (path[0] == b'd', &path[1..]);
        let new = [path, format!("/tried by {} {n}", std::process::id()).as_bytes()].concat();
        let added = std::fs::OpenOptions::new().write(true).create_new(true).open(path_of(&new));
        let added = word(added.map(drop));
        let _ = std::fs::remove_file(path_of(&new));
        let place = path_of(path);
        say(&json!({
            "read": word(if folder { list(place) } else { open(place, nix::libc::O_RDONLY) }),
            "write": if folder { added.clone() } else { word(open(place, nix::libc::O_WRONLY)) },
            "create": if folder { "ok".into() } else { word(open_made(place)) },
            "enter": word(enter(place)),
            "add": added,
            "remove": word(removed(path, n)),
        }));
    }
    println!("DONE");
}

/// Moves a name away and back.
fn removed(path: &[u8], n: usize) -> std::io::Result<()> {
    let end = path.iter().rposition(|&b| b != b'/').map_or(0, |last| last + 1);
    let folder = path[..end].iter().rposition(|&b| b == b'/').map_or(0, |slash| slash + 1);
    // The way back may lead through what was moved; the dot keeps a symlink before it from being
    // the last of the path.
    let parent = [&path[..folder], b"."].concat();
    let flags = OFlag::O_PATH | OFlag::O_DIRECTORY | OFlag::O_CLOEXEC;
    let parent = open_at(path_of(&parent), flags, Mode::empty())?;
    let gone = format!("gone {n}");
    match renameat(&parent, path_of(&path[folder..]), &parent, gone.as_str()) {
        // Overlayfs renames no folder of a lower layer; it can be removed, when it is emptied
        // first.
        Err(nix::errno::Errno::EXDEV) => return Ok(()),
        done => done?,
    }
    renameat(&parent, gone.as_str(), &parent, path_of(&path[folder..end]))?;
    Ok(())
}

fn bytes(value: &Value) -> Vec<u8> {
    value.as_array().unwrap().iter().map(|b| b.as_u64().unwrap() as u8).collect()
}

/// Paths to ask for: some that are there, and what people and programs make of them.
fn paths(random: &mut Random, tops: &[Vec<u8>], regions: &[Value]) -> Vec<Vec<u8>> {
    let mut known = tops.to_vec();
    for region in regions.iter().flat_map(|document| document.as_array().unwrap()) {
        known.push(bytes(&region["path"]));
        known.extend(region["entries"].as_array().unwrap().iter().map(|e| bytes(&e["path"])));
    }
    let mut asked: Vec<Vec<u8>> = Vec::new();
    for _ in 0..45 {
        let path = random.one(&known).clone();
        let other = random.one(&known).clone();
        let name = other.rsplit(|&b| b == b'/').next().unwrap().to_vec();
        let with = |end: &[u8]| [&path[..], end].concat();
        asked.push(match random.below(22) {
            0 => with(b"/"),
            1 => with(b"/."),
            2 => with(b"/.."),
            3 => with(&[b"/../", &name[..]].concat()),
            4 => with(b"/nothing"),
            5 => with(&[b"/", &b"x".repeat(255 + random.below(2) as usize)[..]].concat()),
            6 if random.rarely(4) => with(&b"/.".repeat(2100)),
            7 => with(&[b"/./", &name[..]].concat()),
            8 => with(&[b"//", &name[..], b"/"].concat()),
            _ => path,
        });
    }
    asked
}

/// The layout of a site with one service.
fn layout(made: &[Mapped], map: Option<&IdMap>) -> String {
    let mut text =
        "tarvek = 1\nsite = \"x\"\n[host.box]\nrole = \"apps\"\n[service.lantern]\nhost \
                    = \"box\"\nrole = \"serve\"\n"
            .to_owned();
    if let Some(map) = map {
        let _ = writeln!(text, "userns = \"{}\"", UserNs::Ranges(map.clone()));
    }
    text += "map = [\n";
    for (n, mapped) in made.iter().enumerate() {
        let to = mapped.to.to_str().unwrap();
        let _ = match &mapped.from {
            Some(from) => {
                let access = if mapped.read_only { "ro" } else { "rw" };
                let from = from.to_str().unwrap();
                writeln!(text, "{{ from = {from:?}, to = {to:?}, access = {access:?} }},")
            }
            None => writeln!(text, "{{ volume = \"kept{n}\", to = {to:?} }},"),
        };
    }
    text + "]\n"
}

fn program(arguments: &[&dyn AsRef<OsStr>], folder: &Path) -> std::process::Output {
    let mut command = Command::new(env!("CARGO_BIN_EXE_tarvek"));
    command.args(arguments.iter().map(AsRef::as_ref)).current_dir(folder).env("LC_ALL", "C");
    command.output().unwrap()
}

/// What `tarvek access` says as somebody, from a live look.
fn asks_live(
    more: &[&dyn AsRef<OsStr>],
    view: &View,
    who: &Who,
    path: &[u8],
    folder: &Path,
) -> std::process::Output {
    let gids: Vec<String> = [who.gid].iter().chain(&who.groups).map(ToString::to_string).collect();
    let who = format!("{}:{}", who.uid, gids.join(","));
    let (view, path) = (view.to_string(), path_of(path));
    let asked: [&dyn AsRef<OsStr>; 6] = [&"access", &"--from", &view, &"--as", &who, &path];
    let live: [&dyn AsRef<OsStr>; 4] = [&"--format", &"json", &"--this-host", &"box"];
    program(&[&asked[..], &live[..], more].concat(), folder)
}

/// A site from a survey of this machine, or from a listing of it.
fn seen(scratch: &Path, top: &Path, text: &str, collected: bool) -> Site {
    let parsed = tarvek_formats::layout::read("layout", text.as_bytes()).unwrap();
    let mut facts = if collected {
        let script = program(&[&"survey", &"--collector"], scratch).stdout;
        std::fs::write(scratch.join("collector.sh"), script).unwrap();
        let output =
            Command::new("sh").arg(scratch.join("collector.sh")).arg(top).output().unwrap();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        tarvek_formats::listing::read("box.listing", &output.stdout).unwrap()
    } else {
        let survey = scratch.join("seen.survey");
        let _ = std::fs::remove_file(&survey);
        let output = program(&[&"survey", &"--host", &"box", &"-o", &survey, &top], scratch);
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        store::load(&survey).unwrap()
    };
    facts.name = "box".into();
    Site::join(parsed, vec![facts]).unwrap()
}

/// What is foretold at a path, need by need: `ok`, the error, or `? why`.
fn foretold(site: &Site, view: &View, path: &[u8], who: &Who) -> BTreeMap<&'static str, String> {
    let subject = Subject::new(who.uid, who.gid, who.groups.iter().copied());
    let route = follow_written(site, view, path, &subject);
    Need::ALL
        .iter()
        .map(|need| {
            let answer = judge(site, &route, *need);
            let told = match (answer.errno(), answer.is_allowed()) {
                (Some(errno), _) => errno.to_string(),
                (None, true) => "ok".to_owned(),
                (None, false) => format!("? {}", answer.reason()),
            };
            (need.word(), told)
        })
        .collect()
}

/// Whether what may be written may also be opened with O_CREAT.
fn creates(site: &Site, view: &View, path: &[u8], who: &Who) -> bool {
    let subject = Subject::new(who.uid, who.gid, who.groups.iter().copied());
    let answer = judge(site, &follow_written(site, view, path, &subject), Need::Write);
    !answer.reason().contains("opened with O_CREAT it is refused (EACCES)")
}

/// Whether a mismatch is one of the two that nobody who looks from outside can tell: who owns the
/// service's own folder that a mapping stands in, and what a mount covers.
fn excused(site: &Site, view: &View, path: &[u8], need: &str, told: &str, really: &str) -> bool {
    if need != "remove" || told != "EBUSY" || really == "ok" {
        return false;
    }
    let route = follow_written(site, view, path, &Subject::new(0, 0, []));
    let attached = route.trail.last().is_some_and(|last| last.attached && last.covers.is_none());
    attached || route.is_engine_made() || route.trail.len() < 2
}

/// Counts what a reader finds below a folder, from what is there and what can be read: entries,
/// unreadable ones, symlinks that lead nowhere. `None` if it takes more symlinks than were
/// followed.
fn counted(regions: &[Value], readable: &HashMap<Vec<u8>, String>) -> Option<(u64, u64, u64)> {
    let (mut entries, mut unreadable, mut broken) = (0, 0, 0);
    let mut visited: HashSet<String> = HashSet::new();
    let mut links: Vec<(Vec<u8>, String)> = Vec::new();
    let mut todo: Vec<Vec<u8>> = vec![bytes(&regions[0]["path"])];
    while let Some(top) = todo.pop() {
        let region = regions.iter().find(|region| bytes(&region["path"]) == top)?;
        visited.insert(region["id"].to_string());
        let mut shut: Vec<Vec<u8>> = Vec::new();
        if readable[&top] != "ok" {
            shut.push([&top[..], b"/"].concat());
        }
        for entry in region["entries"].as_array().unwrap() {
            entries += 1;
            let path = bytes(&entry["path"]);
            if shut.iter().any(|above| path.starts_with(above)) {
                unreadable += 1;
                continue;
            }
            let ok = readable.get(&path).map_or("ok", String::as_str);
            match entry["kind"].as_str().unwrap() {
                "d" => {
                    visited.insert(entry["id"].to_string());
                    if ok != "ok" {
                        unreadable += 1;
                        shut.push([&path[..], b"/"].concat());
                    }
                }
                "l" if ok == "ok" && entry["own"] == true => broken += 1,
                "l" if ok == "ok" && entry["end"] == "d" => {
                    links.push((path, entry["end_id"].to_string()));
                }
                "l" if ok == "EACCES" => unreadable += 1,
                "l" if ok != "ok" => broken += 1,
                "f" if ok != "ok" => unreadable += 1,
                _ => {}
            }
        }
        while let Some((path, id)) = links.pop() {
            if visited.insert(id) {
                todo.push(path);
                break;
            }
        }
    }
    Some((entries, unreadable, broken))
}

/// The entries of a folder's regions, each with what it is, for [`reads`].
fn readers(regions: &[Value]) -> Vec<Vec<u8>> {
    let mut all: Vec<Vec<u8>> = Vec::new();
    for region in regions {
        all.push([b"d", &bytes(&region["path"])[..]].concat());
        for entry in region["entries"].as_array().unwrap() {
            let kind = match (entry["kind"].as_str().unwrap(), entry["end"].as_str()) {
                ("o", _) => continue,
                (_, Some("d")) => b"d",
                _ => b"f",
            };
            all.push([kind, &bytes(&entry["path"])[..]].concat());
        }
    }
    all
}

/// Cases that once came out otherwise.
const KEPT: &[u64] = &[
    16312908901713405192,
    11601270487930522370,
    15741314087135521774,
    13960828368273045926,
    9881860534768060767,
    17929776761655577484,
    3342891279703601746,
    10_796_266_715_222_188_763,
    12_098_933_930_311_472_642,
    9_838_946_757_276_346_147,
    18_168_803_624_624_612,
];

/// `TARVEK_CASE` repeats one case.
#[test]
fn views_show_what_a_process_in_them_meets() {
    kernel::private_mounts();
    let mut random = Random::from_env("view");
    let mut tally = Tally::default();
    if let Ok(seed) = std::env::var("TARVEK_CASE") {
        return one(seed.parse().unwrap(), &mut tally);
    }
    let new = (0..random::cases(16)).map(|_| random.next());
    for seed in KEPT.iter().copied().chain(new.collect::<Vec<_>>()) {
        eprintln!("view: TARVEK_CASE={seed}");
        one(seed, &mut tally);
    }
    let unknown: u64 = tally.unknown.values().sum();
    eprintln!(
        "view: {} verdicts, {} links and renames, {unknown} unknown, {} live, {} refused with \
         O_CREAT, {} ends, {} folders read to the end, {:?}\nunknown: {:#?}",
        tally.verdicts,
        tally.links,
        tally.live,
        tally.creates,
        tally.ends,
        tally.belows,
        tally.outcomes,
        tally.unknown
    );
    assert!(unknown * 100 <= tally.verdicts * 3, "too much is unknown");
}

/// In sticky folders of every kind, what others made is opened as if it were made, and tried to be
/// removed.
#[test]
fn sticky_folders_protect_what_others_made() {
    kernel::private_mounts();
    let mut random = Random::from_env("sticky");
    let (mut tally, view) = (Tally::default(), View::host("box"));
    for _ in 0..random::cases(8).max(1) {
        let protected = protected(&mut Random::of(random.next()), &mut random);
        let place = Place::new();
        let (top, scratch) = (place.top(), place.folder());
        kernel::tmpfs(&top);
        kernel::own_program(scratch);
        let owners = [0, 71_000, 71_001, 71_002];
        let mut asked: Vec<Vec<u8>> = Vec::new();
        for n in 0..24 {
            let folder = top.join(format!("f{n}"));
            std::fs::create_dir(&folder).unwrap();
            let mode = *random.one(&[0o1777, 0o1777, 0o1775, 0o1755, 0o1757, 0o777, 0o1770]);
            let owned = |path: &Path, uid, mode| {
                std::os::unix::fs::chown(path, Some(uid), Some(72_000)).unwrap();
                std::fs::set_permissions(path, std::fs::Permissions::from_mode(mode)).unwrap();
            };
            for (name, kind) in [("film.mkv", "f"), ("queue", "p"), ("link", "l")] {
                let path = folder.join(name);
                match kind {
                    "f" => std::fs::write(&path, "").unwrap(),
                    "p" => mkfifo(&path, Mode::empty()).unwrap(),
                    _ => std::os::unix::fs::symlink("film.mkv", &path).unwrap(),
                }
                if kind != "l" {
                    owned(&path, *random.one(&owners), *random.one(&[0o666, 0o666, 0o660]));
                }
                asked.push(path.into_os_string().into_encoded_bytes());
            }
            owned(&folder, *random.one(&owners), mode);
        }
        let text = layout(&[], None);
        let asking = Asking { viewed: None, space: None, scratch };
        let kinds: Vec<Vec<u8>> = asked.iter().map(|path| [b"f", &path[..]].concat()).collect();
        for site in [false, true].map(|collected| seen(scratch, &top, &text, collected)) {
            for uid in owners {
                let who = Who { uid, gid: 72_000 + uid % 2, groups: Vec::new() };
                let tried = asking.ask(&who, "view::tries", &kinds);
                for (path, really) in asked.iter().zip(&tried) {
                    compared(&mut tally, &site, &view, path, &who, really, "sight");
                }
            }
        }
        drop(protected);
        clear(&top);
    }
    eprintln!("sticky: {} verdicts, {} refused with O_CREAT", tally.verdicts, tally.creates);
    assert!(tally.creates * 100 > tally.verdicts, "O_CREAT is refused too seldom to tell");
}

/// Every need of a path, as somebody, against what came of it.
fn compared(
    tally: &mut Tally,
    site: &Site,
    view: &View,
    path: &[u8],
    who: &Who,
    really: &Value,
    context: &str,
) {
    let foretold = foretold(site, view, path, who);
    if foretold["write"] == "ok" && really["write"] == "ok" {
        let refused = really["create"] != "ok";
        tally.creates += u64::from(refused);
        assert_eq!(
            !creates(site, view, path, who),
            refused,
            "O_CREAT of {:?}, as {who:?} by {context}{}",
            String::from_utf8_lossy(path),
            kernel::listing(path_of(path))
        );
    }
    let context = format!("{who:?} by {context}");
    for (need, told) in foretold {
        let really = really[need].as_str().unwrap();
        check(tally, site, view, path, need, &told, really, &context);
    }
}

fn one(seed: u64, tally: &mut Tally) {
    let random = &mut Random::of(seed);
    // What came later draws from a stream of its own, so that the cases that are kept stay what
    // they were.
    let protected = protected(random, &mut Random::of(!seed));
    let place = Place::new();
    let (top, scratch) = (place.top(), place.folder());
    kernel::tmpfs(&top);
    stage::storage(random, &mut Random::of(seed.rotate_left(7)), &top);
    let wanted = stage::mappings(random, &top);
    kernel::own_program(scratch);
    let viewed = Viewed::new(scratch, wanted);
    let space = random.rarely(4).then(|| Space::new(id_map(random, false)));
    let on_host = space.is_none() && random.rarely(4);
    let text = layout(&viewed.made, space.as_ref().map(|space| &space.map));
    std::fs::write(scratch.join("tarvek.toml"), &text).unwrap();
    let asking = Asking { viewed: (!on_host).then_some(&viewed), space: space.as_ref(), scratch };
    let view = if on_host { View::host("box") } else { View::service("lantern") };
    let mut tops: Vec<Vec<u8>> = viewed
        .made
        .iter()
        .filter(|_| !on_host)
        .filter(|mapped| mapped.from.is_some())
        .map(|mapped| mapped.to.as_os_str().as_bytes().to_vec())
        .collect();
    if on_host {
        tops.extend(
            ["tank", "pool"].map(|name| top.join(name).into_os_string().into_encoded_bytes()),
        );
    }
    if tops.is_empty() {
        drop(viewed);
        return clear(&top);
    }
    let mut sites = vec![("survey", seen(scratch, &top, &text, false))];
    if random.rarely(3) {
        sites.push(("listing", seen(scratch, &top, &text, true)));
    }
    let regions = asking.ask_as_root("view::lists", &tops);
    let mut asked = paths(random, &tops, &regions);
    if !on_host && viewed.made.iter().any(|mapped| mapped.to.starts_with("/only/maps")) {
        asked.extend([b"/only/maps".to_vec(), b"/only".to_vec()]);
    }
    // What lies in storage that the engine keeps, or in a service's own, nobody sees from outside.
    asked.retain(|path| !is_own(&sites[0].1, &view, path));
    let ends = asking.ask_as_root("view::ends", &asked);
    let kinds: Vec<Vec<u8>> = asked
        .iter()
        .zip(&ends)
        .map(|(path, end)| [if end["kind"] == "d" { b"d" } else { b"f" }, &path[..]].concat())
        .collect();
    for (source, site) in &sites {
        for (path, end) in asked.iter().zip(&ends) {
            same_end(site, &view, path, end, source, on_host);
            tally.ends += 1;
        }
    }
    for round in 0..3 {
        let who = match &space {
            Some(space) => inhabitant(random, &space.map),
            None => subject(random),
        };
        for (document, top) in regions.iter().zip(&tops) {
            let regions = document.as_array().unwrap();
            // What a symlink leads to in storage that the engine keeps, nobody sees from outside.
            let kept = viewed.made.iter().any(|mapped| mapped.from.is_none());
            if regions.is_empty() || regions.len() > 100 || kept {
                continue;
            }
            let wanted = readers(regions);
            let said = asking.ask(&who, "view::reads", &wanted);
            let readable: HashMap<Vec<u8>, String> = wanted
                .iter()
                .zip(&said)
                .map(|(path, said)| (path[1..].to_vec(), said.as_str().unwrap().to_owned()))
                .collect();
            let Some(really) = counted(regions, &readable) else { continue };
            for (source, site) in &sites {
                let subject = Subject::new(who.uid, who.gid, who.groups.iter().copied());
                let scan = below(site, &follow_written(site, &view, top, &subject));
                let told = (scan.entries, scan.unreadable, scan.broken_links);
                assert!(
                    told == really || scan.unseen > 0,
                    "below {} as {who:?} by {source}: told {told:?} {:#?}, really {really:?}\n\
                     {text}{}",
                    String::from_utf8_lossy(top),
                    scan.causes,
                    mounts() + &links(regions, &readable)
                );
                if scan.unseen > 0 {
                    tally.unknown(&format!("below: {source}"));
                }
                tally.belows += 1;
            }
        }
        if round == 0 {
            let top = &tops[0];
            let output = asks_live(&[&"--below"], &view, &who, top, scratch);
            let answer: Value = serde_json::from_slice(&output.stdout).unwrap_or(Value::Null);
            let subject = Subject::new(who.uid, who.gid, who.groups.iter().copied());
            let scan = below(&sites[0].1, &follow_written(&sites[0].1, &view, top, &subject));
            if let Some(below) = answer.get("below") {
                assert_eq!(
                    (below["entries"].as_u64(), below["unreadable"].as_u64()),
                    (Some(scan.entries), Some(scan.unreadable)),
                    "live below {} as {who:?}: {below}\n{text}{}",
                    String::from_utf8_lossy(top),
                    mounts()
                );
            }
        }
        let tried = asking.ask(&who, "view::tries", &kinds);
        for (path, really) in asked.iter().zip(&tried) {
            for (source, site) in &sites {
                let context = format!("{source}\n{text}");
                compared(tally, site, &view, path, &who, really, &context);
            }
        }
        let n = random.below(asked.len() as u64) as usize;
        live(tally, &sites[0].1, &view, &asked[n], &tried[n], &who, scratch);
    }
    if !on_host {
        let who = match &space {
            Some(space) => inhabitant(random, &space.map),
            None => subject(random),
        };
        links_in(random, tally, &asking, &sites[0].1, &asked, &who, &text);
    }
    drop(viewed);
    drop(protected);
    clear(&top);
}

/// Pairs of paths, really linked and renamed in the view as somebody, against what is said of them.
fn links_in(
    random: &mut Random,
    tally: &mut Tally,
    asking: &Asking,
    site: &Site,
    asked: &[Vec<u8>],
    who: &Who,
    text: &str,
) {
    let _setting = Setting::set("fs/protected_hardlinks", random.below(2));
    let site = with_setting(site);
    let view = View::service("lantern");
    let subject = Subject::new(who.uid, who.gid, who.groups.iter().copied());
    let pairs: Vec<[Vec<u8>; 2]> = (0..30)
        .map(|n| {
            let (from, folder) = (random.one(asked), random.one(asked));
            [from.clone(), [folder, format!("/link {n}").as_bytes()].concat()]
        })
        .collect();
    let flat: Vec<Vec<u8>> = pairs.iter().flatten().cloned().collect();
    let really = asking.ask(who, "view::links_and_renames", &flat);
    for ([from, to], really) in pairs.iter().zip(&really) {
        let ends = LinkPaths::of(&site, &view, &subject, from, to);
        if ends.source.name.as_ref().is_some_and(|name| matches!(name.end, End::Missing(_))) {
            continue;
        }
        for (deed, verdict) in [("link", hardlink(&ends)), ("rename", rename(&ends))] {
            tally.links += 1;
            let told = match (verdict.possible, verdict.errno) {
                (None, _) => {
                    tally.unknown(&format!("{deed}: {}", verdict.detail));
                    continue;
                }
                (Some(true), _) => "ok".to_owned(),
                (_, errno) => errno.map(|errno| errno.to_string()).unwrap_or_default(),
            };
            let covered = ends.source.name.as_ref().and_then(|name| name.trail.last());
            let covered =
                deed == "rename" && covered.is_some_and(|last| last.attached || last.engine_made);
            let really = really[deed].as_str().unwrap();
            assert!(
                told == really
                    || (covered || verdict.may_be_refused_before) && told != "ok" && really != "ok",
                "{deed} of {:?} to {:?} as {who:?}: told {told} ({}), really {really}\n{text}{}",
                String::from_utf8_lossy(from),
                String::from_utf8_lossy(to),
                verdict.detail,
                mounts() + &kernel::listing(path_of(from)),
            );
        }
    }
}

/// The site as it is with this kernel's settings of now.
fn with_setting(site: &Site) -> Site {
    let (name, facts) = site.observed().next().unwrap();
    let mut facts = facts.clone();
    let now = std::fs::read_to_string("/proc/sys/fs/protected_hardlinks").unwrap();
    facts.name = name.clone();
    facts.told.sysctls.retain(|(name, _)| name != "fs.protected_hardlinks");
    facts.told.sysctls.push(("fs.protected_hardlinks".to_owned(), now.trim().parse().unwrap()));
    Site::join((*site.layout).clone(), vec![facts]).unwrap()
}

/// Run in a view as somebody: pairs of paths, linked and renamed, and both taken back; no more once
/// something could not be.
#[test]
#[ignore = "tries as somebody else; other tests start it"]
fn links_and_renames() {
    let Some(paths) = given() else { return };
    for pair in paths.chunks_exact(2) {
        let (from, to) = (path_of(&pair[0]), path_of(&pair[1]));
        let here = nix::fcntl::AT_FDCWD;
        let linked = nix::unistd::linkat(here, from, here, to, nix::fcntl::AtFlags::empty());
        let mut clean = linked.is_err() || std::fs::remove_file(to).is_ok();
        let moved =
            if clean { renameat(here, from, here, to) } else { Err(nix::errno::Errno::EXDEV) };
        let said = clean;
        clean &= moved.is_err() || renameat(here, to, here, from).is_ok();
        let word = |came: nix::Result<()>| word(came.map_err(std::io::Error::from));
        if said {
            say(&json!({ "link": word(linked), "rename": word(moved) }));
        }
        if !clean {
            break;
        }
    }
    println!("DONE");
}

/// The symlinks among the entries of regions, for the message of a failed case.
fn links(regions: &[Value], readable: &HashMap<Vec<u8>, String>) -> String {
    let entries = regions.iter().flat_map(|region| region["entries"].as_array().unwrap());
    let line = |entry: &Value| {
        let path = bytes(&entry["path"]);
        let said = readable.get(&path);
        format!("{} {} {said:?}\n", String::from_utf8_lossy(&path), entry["end"])
    };
    entries.filter(|entry| entry["kind"] == "l").map(line).collect()
}

/// Takes everything away that is mounted there, in one go.
fn clear(top: &Path) {
    nix::mount::umount2(top, nix::mount::MntFlags::MNT_DETACH).unwrap();
}

fn is_own(site: &Site, view: &View, path: &[u8]) -> bool {
    let route = follow_written(site, view, path, &Subject::new(0, 0, []));
    matches!(route.end, End::Uncovered { .. } | End::Volume { .. })
        || path.iter().filter(|&&b| b == b'/').count() < 2 && path.ends_with(b"/..")
}

fn mounts() -> String {
    let table = std::fs::read_to_string("/proc/thread-self/mountinfo").unwrap();
    table.lines().filter(|line| line.contains("/tree")).map(|line| format!("{line}\n")).collect()
}

#[expect(clippy::too_many_arguments, reason = "all of it belongs to one comparison")]
fn check(
    tally: &mut Tally,
    site: &Site,
    view: &View,
    path: &[u8],
    need: &str,
    told: &str,
    really: &str,
    context: &str,
) {
    tally.verdicts += 1;
    if let Some(why) = told.strip_prefix("? ") {
        return tally.unknown(why);
    }
    let trail = follow_written(site, view, path, &Subject::new(0, 0, [])).trail;
    let need_route: String = trail
        .iter()
        .map(|way| {
            let meta = way.node.map(|node| site.tree(&way.seen_on).unwrap().meta(node));
            let acl = way.node.and_then(|node| {
                site.tree(&way.seen_on).unwrap().extras(node).and_then(|e| e.acl.clone())
            });
            format!(
                "{} {:?} {:?}\n",
                way.at.path,
                meta.map(|meta| format!(
                    "{:o} {}:{} {:?}",
                    meta.mode, meta.uid, meta.gid, meta.flags
                )),
                acl.map(|a| a.to_string())
            )
        })
        .collect();
    *tally.outcomes.entry(really.to_owned()).or_insert(0) += 1;
    assert!(
        told == really || excused(site, view, path, need, told, really),
        "{need} of {:?} from {view}: told {told}, really {really}, as {context}{}",
        String::from_utf8_lossy(path),
        mounts() + &kernel::listing(path_of(path)) + &need_route + &targets(site),
    );
}

/// Every symlink that was seen, and its target.
fn targets(site: &Site) -> String {
    let Some((_, facts)) = site.observed().next() else { return String::new() };
    let tree = &facts.tree;
    let links = tree.below(tarvek_core::facts::tree::Tree::ROOT);
    links
        .filter_map(|node| {
            let target = tree.target(node)?;
            Some(format!("{} -> {}\n", tree.path(node), String::from_utf8_lossy(target)))
        })
        .collect()
}

/// Whether `trace` ends where the kernel does: at the same inode, and at a place of the host that
/// shows it.
fn same_end(site: &Site, view: &View, path: &[u8], end: &Value, source: &str, on_host: bool) {
    let root = Subject::new(0, 0, []);
    let site_of_root = site;
    let route = follow_written(site_of_root, view, path, &root);
    let name = String::from_utf8_lossy(path);
    // Whose symlinks are followed depends on who asks, and root of a namespace is somebody else;
    // the verdicts compare that.
    let asks = matches!(route.end, End::Unmapped { .. } | End::ProtectedLink { .. });
    if asks || route.is_engine_made() {
        return;
    }
    let Some((last, node)) = route.entry() else {
        let unseen = matches!(route.end, End::Unseen { .. });
        assert!(
            unseen || end["errno"].is_string(),
            "{name} by {source}: {:?}, really {end}",
            route.end
        );
        return;
    };
    let meta = site.tree(&last.seen_on).unwrap().meta(node);
    let told = json!([meta.device, meta.inode]);
    assert_eq!(
        told,
        end["id"],
        "{name} by {source} on host {on_host}: {:?}\n{}",
        route.hops,
        mounts()
    );
    let covered = |hop: &tarvek_core::route::hops::Hop| {
        hop.kind == HopKind::Mount && hop.note.contains("covered by")
    };
    let gone = |hop: &tarvek_core::route::hops::Hop| hop.note.contains("removed since");
    if !route.hops.iter().any(|hop| covered(hop) || gone(hop)) {
        let here = path_of(route.here().path.as_bytes()).to_owned();
        let there =
            std::fs::symlink_metadata(&here).map(|meta| json!([meta.dev(), meta.ino()])).ok();
        assert_eq!(
            there,
            Some(end["id"].clone()),
            "{name} by {source} is said to be {here:?}: {:#?}\n{}",
            route.hops,
            mounts()
        );
    }
}

/// The built program's own answer, from a live look.
fn live(
    tally: &mut Tally,
    site: &Site,
    view: &View,
    path: &[u8],
    tried: &Value,
    who: &Who,
    folder: &Path,
) {
    let needs = "read,write,enter,add,remove";
    let output = asks_live(&[&"--need", &needs], view, who, path, folder);
    let errors = String::from_utf8_lossy(&output.stderr);
    let context = format!("{who:?} live, {errors}");
    let Ok(answer) = serde_json::from_slice::<Value>(&output.stdout) else {
        assert!(errors.contains("does not exist"), "{context}");
        assert!(tried["read"] == "ENOENT", "{}: {context}", String::from_utf8_lossy(path));
        return;
    };
    for verdict in answer["verdicts"].as_array().unwrap() {
        let need = verdict["need"].as_str().unwrap();
        let told = match (&verdict["allowed"], verdict["errno"].as_str()) {
            (Value::Null, _) => format!("? {}", verdict["reason"].as_str().unwrap()),
            (_, Some(errno)) => errno.to_owned(),
            _ => "ok".to_owned(),
        };
        tally.live += 1;
        check(tally, site, view, path, need, &told, tried[need].as_str().unwrap(), &context);
    }
}
