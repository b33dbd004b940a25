//! Surveys against what standard tools say of the same trees: `stat`, `getfacl -n`, `getfattr`,
//! `lsattr`, `findmnt`, `zfs`, `btrfs`. Live, through the collector under three shells, killed on
//! the way, and onto a full disk.

use std::collections::BTreeMap;
use std::ffi::{CString, OsStr};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use rusqlite::types::Value;

use crate::kernel;
use crate::random::{self, Random};
use crate::rows::{self, Row};

/// Runs a tool, which has to be there and to succeed, and returns what it prints.
pub fn tool(program: &str, arguments: &[&dyn AsRef<OsStr>]) -> Vec<u8> {
    let mut command = Command::new(program);
    command.args(arguments.iter().map(AsRef::as_ref)).env("LC_ALL", "C");
    let output = command.output().unwrap_or_else(|error| panic!("{program}: {error}"));
    let errors = String::from_utf8_lossy(&output.stderr);
    assert!(output.status.success(), "{program}: {errors}");
    output.stdout
}

fn tarvek(arguments: &[&dyn AsRef<OsStr>]) -> String {
    String::from_utf8(tool(env!("CARGO_BIN_EXE_tarvek"), arguments)).unwrap()
}

/// Filesystems of every sort, mounted below one folder, as long as this lives.
struct Site {
    top: PathBuf,
    zfs: Option<ZfsPool>,
    pool: String,
}

/// A ZFS pool in a file, through FUSE, as long as this lives.
pub struct ZfsPool {
    pub name: String,
    daemon: Child,
}

impl ZfsPool {
    pub fn new(name: &str, at: &Path, file: &Path, scratch: &Path) -> Self {
        let mut command = Command::new("zfs-fuse");
        command.args(["--no-daemon", "--pidfile"]).arg(scratch.join("zfs.pid"));
        let daemon = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("zfs-fuse");
        let pool = Self { name: name.to_owned(), daemon };
        let patience = Instant::now() + Duration::from_secs(20);
        loop {
            let mut create = Command::new("zpool");
            let created =
                create.args(["create", "-m"]).arg(at).arg(name).arg(file).output().unwrap();
            if created.status.success() {
                return pool;
            }
            let said = String::from_utf8_lossy(&created.stderr);
            assert!(Instant::now() < patience, "zfs-fuse makes no pool: {said}");
            std::thread::sleep(Duration::from_millis(200));
        }
    }
}

impl Drop for ZfsPool {
    fn drop(&mut self) {
        // What was mounted in a view that has just ended may be held for a moment more.
        for _ in 0..50 {
            let mut destroy = Command::new("zpool");
            let destroyed = destroy.args(["destroy", "-f", &self.name]).output();
            if destroyed.is_ok_and(|destroyed| destroyed.status.success()) {
                break;
            }
            std::thread::sleep(Duration::from_millis(100));
        }
        let _ = self.daemon.kill();
        let _ = self.daemon.wait();
    }
}

impl Site {
    fn new(scratch: &Path) -> Self {
        let top = scratch.join("top");
        let at = |name: &str| {
            let folder = top.join(name);
            std::fs::create_dir_all(&folder).unwrap();
            folder
        };
        at("plain");
        kernel::tmpfs(&at("plain/tmpfs"));
        let image = |name: &str, size: u64| {
            let file = scratch.join(name);
            std::fs::File::create(&file).unwrap().set_len(size << 20).unwrap();
            file
        };
        let ext4 = image("ext4.img", 64);
        tool("mkfs.ext4", &[&"-q", &ext4]);
        tool("mount", &[&"-o", &"loop", &ext4, &at("ext4")]);
        let xfs = image("xfs.img", 320);
        tool("mkfs.xfs", &[&"-q", &xfs]);
        tool("mount", &[&"-o", &"loop", &xfs, &at("ext4/with space/x fs")]);
        let btrfs = image("btrfs.img", 160);
        tool("mkfs.btrfs", &[&"-q", &btrfs]);
        let volume = at("plain/btrfs");
        tool("mount", &[&"-o", &"loop", &btrfs, &volume]);
        tool("btrfs", &[&"subvolume", &"create", &volume.join("sub")]);
        tool("btrfs", &[&"subvolume", &"create", &volume.join("sub/inner")]);
        let pool = format!("tarvek{}", std::process::id());
        let zfs = ZfsPool::new(&pool, &at("zfs"), &image("zfs.img", 128), scratch);
        tool("zfs", &[&"create", &format!("{pool}/films")]);
        tool(
            "zfs",
            &[
                &"create",
                &"-o",
                &"recordsize=16K",
                &"-o",
                &"atime=off",
                &format!("{pool}/films/new"),
            ],
        );
        Self { top, zfs: Some(zfs), pool }
    }

    /// Every place that is a filesystem or subvolume of its own.
    fn places(&self) -> Vec<PathBuf> {
        [
            "plain",
            "plain/tmpfs",
            "ext4",
            "ext4/with space/x fs",
            "plain/btrfs",
            "plain/btrfs/sub",
            "plain/btrfs/sub/inner",
            "zfs",
            "zfs/films",
            "zfs/films/new",
        ]
        .iter()
        .map(|place| self.top.join(place))
        .collect()
    }

    /// What a random tree of ordinary folders lacks.
    fn decorate(&self, random: &mut Random) {
        for (n, place) in self.places().into_iter().enumerate() {
            let folder = place.join("odd");
            std::fs::create_dir(&folder).unwrap();
            for name in [
                &b"new\nline"[..],
                b"tab\there",
                b"back\\slash",
                b"\xff\xfe",
                b"-n",
                b"$(x) `y`",
                b" ",
                b"*",
                b"[a]",
                b"\x1b[31m",
                b"two  spaces ",
                b"\xc3\x96",
            ] {
                if std::fs::write(folder.join(OsStr::from_bytes(name)), name).is_err() {
                    assert!(place.starts_with(self.top.join("zfs")), "only ZFS may refuse a name");
                }
            }
            std::os::unix::fs::symlink("loop", folder.join("loop")).unwrap();
            std::os::unix::fs::symlink("a\n\\b ", folder.join("to odd\n")).unwrap();
            std::os::unix::fs::symlink("/", folder.join("up")).unwrap();
            let fifo = CString::new(folder.join("fifo").as_os_str().as_bytes()).unwrap();
            nix::unistd::mkfifo(fifo.as_c_str(), nix::sys::stat::Mode::S_IRWXU).unwrap();
            drop(std::os::unix::net::UnixListener::bind(folder.join("socket")));
            std::fs::File::create(folder.join("sparse")).unwrap().set_len(1 << 30).unwrap();
            std::fs::write(folder.join("linked"), "x").unwrap();
            std::fs::hard_link(folder.join("linked"), folder.join("link of it")).unwrap();
            tool("touch", &[&"-d", &"1969-12-31 23:59:58.25 UTC", &folder.join("linked")]);
            // Where the filesystem has no such thing, it says so, and Tarvek has to say the same.
            let with_acls = folder.join("acl");
            std::fs::create_dir(&with_acls).unwrap();
            for _ in 0..3 {
                let acl = format!(
                    "u:{}:{},g:{}:r-x,m::{}",
                    70_000 + random.below(9),
                    random.one(&["rwx", "r--", "---"]),
                    70_000 + random.below(9),
                    random.one(&["rwx", "r-x", "---"])
                );
                let mut setfacl = Command::new("setfacl");
                setfacl.args(["-m", &acl]).arg(&with_acls).stderr(Stdio::null());
                setfacl.status().unwrap();
                let mut setfacl = Command::new("setfacl");
                setfacl.args(["-d", "-m", &acl]).arg(&with_acls).stderr(Stdio::null());
                setfacl.status().unwrap();
                std::fs::write(with_acls.join(format!("{}", random.below(99))), "x").unwrap();
            }
            if n % 2 == 0 {
                let mut label = Command::new("setfattr");
                label.args([
                    "-h",
                    "-n",
                    "security.selinux",
                    "-v",
                    "system_u:object_r:public_content_t:s0",
                ]);
                label.arg(folder.join("linked")).stderr(Stdio::null()).status().unwrap();
            }
            for (flag, name) in [("+i", "fixed"), ("+a", "growing")] {
                std::fs::write(folder.join(name), "x").unwrap();
                let mut chattr = Command::new("chattr");
                chattr.arg(flag).arg(folder.join(name)).stderr(Stdio::null()).status().unwrap();
            }
        }
        let volume = self.top.join("plain/btrfs");
        tool(
            "btrfs",
            &[&"subvolume", &"snapshot", &"-r", &volume.join("sub"), &volume.join("snap")],
        );
        let project = self.top.join("ext4/with space/x fs/odd");
        tool("chattr", &[&"-R", &"-p", &"42", &project.join("acl")]);
        tool("chattr", &[&"+P", &project.join("acl")]);
        // Stays in its project although the folder has none.
        std::fs::write(project.join("acl/moved"), "x").unwrap();
        std::fs::rename(project.join("acl/moved"), project.join("moved")).unwrap();
        tool("sync", &[]);
    }
}

impl Drop for Site {
    fn drop(&mut self) {
        for flag in ["-i", "-a"] {
            for place in self.places() {
                let mut chattr = Command::new("chattr");
                chattr.args(["-R", flag]).arg(place).stdout(Stdio::null()).stderr(Stdio::null());
                let _ = chattr.status();
            }
        }
        drop(self.zfs.take());
        for place in ["plain/btrfs", "ext4/with space/x fs", "ext4", "plain/tmpfs"] {
            let _ = Command::new("umount").arg("-l").arg(self.top.join(place)).status();
        }
    }
}

/// Every path below a folder, the folder included, by asking the kernel folder by folder.
fn all_paths(top: &Path) -> Vec<PathBuf> {
    let mut all = vec![top.to_owned()];
    let mut next = 0;
    while next < all.len() {
        if all[next].symlink_metadata().unwrap().is_dir() {
            all.extend(std::fs::read_dir(&all[next]).unwrap().map(|entry| entry.unwrap().path()));
        }
        next += 1;
    }
    all
}

/// What `stat(1)` says, as a survey would hold it.
fn by_stat(path: &Path) -> BTreeMap<&'static str, Value> {
    let text = tool("stat", &[&"--printf=%f %u %g %s %b %B %i %h %Y %y %Z %z %Hd %Ld", &path]);
    let text = String::from_utf8(text).unwrap();
    let f: Vec<&str> = text.split(' ').collect();
    let n = |field: &str| field.parse::<i64>().unwrap();
    let raw = i64::from_str_radix(f[0], 16).unwrap();
    let kind = match raw >> 12 {
        1 => "p",
        2 => "c",
        4 => "d",
        6 => "b",
        8 => "f",
        10 => "l",
        _ => "s",
    };
    let time = |seconds: &str, clock: &str| {
        n(seconds) * 1_000_000_000 + n(clock.split_once('.').unwrap().1)
    };
    BTreeMap::from([
        ("type", Value::Text(kind.into())),
        ("mode", Value::Integer(raw & 0o7777)),
        ("uid", Value::Integer(n(f[1]))),
        ("gid", Value::Integer(n(f[2]))),
        ("size", Value::Integer(n(f[3]))),
        ("allocated", Value::Integer(n(f[4]) * n(f[5]))),
        ("inode", Value::Integer(n(f[6]))),
        ("links", Value::Integer(n(f[7]))),
        ("mtime", Value::Integer(time(f[8], f[10]))),
        ("ctime", Value::Integer(time(f[12], f[14]))),
        ("device", Value::Integer(n(f[16]) << 32 | n(f[17]))),
    ])
}

/// The ACLs of an entry as `getfacl -n` tells them: access where it has more than the mode, and
/// default.
fn by_getfacl(path: &Path) -> (Option<String>, Option<String>) {
    let text = tool("getfacl", &[&"-n", &"-p", &"-c", &"--no-effective", &"--", &path]);
    let text = String::from_utf8(text).unwrap();
    let (default, access): (Vec<&str>, Vec<&str>) =
        text.lines().filter(|line| !line.is_empty()).partition(|line| line.starts_with("default:"));
    let default: Vec<&str> =
        default.iter().map(|line| line.trim_start_matches("default:")).collect();
    ((access.len() > 3).then(|| access.join(",")), (!default.is_empty()).then(|| default.join(",")))
}

/// The flags and project of an entry as `lsattr` tells them, `None` where its filesystem has none.
/// It opens the file.
fn by_lsattr(path: &Path) -> Option<(String, i64, bool)> {
    let mut command = Command::new("lsattr");
    let output = command.args(["-d", "-p", "--"]).arg(path).output().expect("lsattr");
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let mut words = text.split_whitespace();
    let (project, flags) = (words.next()?.parse().ok()?, words.next()?);
    let known: String = ['i', 'a'].into_iter().filter(|flag| flags.contains(*flag)).collect();
    Some((known, project, flags.contains('P')))
}

fn by_getfattr(path: &Path) -> Option<Vec<u8>> {
    let mut command = Command::new("getfattr");
    command.args(["-h", "--only-values", "-n", "security.selinux", "--"]).arg(path);
    let output = command.output().expect("getfattr");
    output.status.success().then_some(output.stdout)
}

/// Compares one entry, and says how many fields were compared.
fn same_entry(path: &Path, row: &Row) -> usize {
    let mut count = 0;
    // What stands in a snapshot for a subvolume within is made up at each look, times included.
    let stub = path.ends_with("snap/inner");
    for (column, value) in by_stat(path) {
        if stub && column.ends_with("time") {
            continue;
        }
        assert_eq!(row[column], value, "{column} of {path:?}");
        count += 1;
    }
    let meta = path.symlink_metadata().unwrap();
    let target = std::fs::read_link(path).ok().map(|target| target.as_os_str().as_bytes().to_vec());
    assert_eq!(rows::bytes(row, "target"), target, "{path:?}");
    assert_eq!(rows::bytes(row, "label"), by_getfattr(path), "label of {path:?}");
    if !meta.is_symlink() {
        let (access, default) = by_getfacl(path);
        assert_eq!(
            rows::bytes(row, "acl").map(|b| String::from_utf8(b).unwrap()),
            access,
            "{path:?}"
        );
        let shown = rows::bytes(row, "default_acl").map(|b| String::from_utf8(b).unwrap());
        assert_eq!(shown, default, "{path:?}");
        count += 2;
    }
    if (meta.is_file() || meta.is_dir())
        && let Some((flags, project, inherits)) = by_lsattr(path)
    {
        let told = rows::bytes(row, "flags").map(|b| String::from_utf8(b).unwrap());
        assert!(
            told.as_ref().is_none_or(|told| *told == flags),
            "flags of {path:?}: {told:?} {flags:?}"
        );
        count += usize::from(told.is_some());
        match rows::number(row, "project") {
            Some(told) => {
                assert_eq!(
                    (told, row["inherits"] != Value::Integer(0)),
                    (project, inherits),
                    "{path:?}"
                );
                count += 1;
            }
            None => {
                assert!(!meta.is_dir() && project == 0, "project {project} of {path:?} is not told")
            }
        }
    }
    count
}

#[test]
fn every_field_is_what_standard_tools_say() {
    kernel::private_mounts();
    let mut random = Random::from_env("survey");
    let scratch = tempfile::tempdir().unwrap();
    std::fs::set_permissions(scratch.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
    let site = Site::new(scratch.path());
    for place in site.places() {
        let folder = place.join("tree");
        std::fs::create_dir(&folder).unwrap();
        random::tree(&mut random, &folder, 3);
    }
    site.decorate(&mut random);
    // A unit with a password in it, which nobody else sees.
    let units = Path::new("/etc/systemd/system");
    std::fs::create_dir_all(units).unwrap();
    kernel::tmpfs(units);
    let unit = "[Mount]\nOptions=user=x,password=hunter2,ro\nWhat=//granary/media\n# pass \
                = \"hunter2 hunter2\"\n";
    std::fs::write(units.join("mnt-x.mount"), unit).unwrap();
    let survey = scratch.path().join("live.survey");
    tarvek(&[&"survey", &site.top, &"-o", &survey, &"--host", &"box"]);
    let rows = rows::below(&survey, &site.top);
    let paths = all_paths(&site.top);
    assert_eq!(rows.len(), paths.len());
    let fields: usize =
        paths.iter().map(|path| same_entry(path, &rows[path.as_os_str().as_bytes()])).sum();
    eprintln!("survey: {} entries, {fields} fields as the standard tools tell them", paths.len());

    mounts_are_what_findmnt_says(&survey);
    datasets_are_what_their_tools_say(&survey, &site);
    for shell in ["dash", "bash", "busybox"] {
        collected(shell, scratch.path(), &site, &survey);
    }
    // Nothing was touched, and the second look at the same tells the same.
    tarvek(&[&"survey", &site.top, &"-o", &survey, &"--host", &"box"]);
    let mut again = rows::below(&survey, &site.top);
    let stub = site.top.join("plain/btrfs/snap/inner");
    let stub = stub.as_os_str().as_bytes();
    again.insert(stub.to_vec(), rows[stub].clone());
    assert_eq!(again, rows);
}

fn mounts_are_what_findmnt_says(survey: &Path) {
    let columns = "TARGET,SOURCE,FSTYPE,VFS-OPTIONS,ID,PARENT";
    let text = String::from_utf8(tool("findmnt", &[&"-J", &"-l", &"-o", &columns])).unwrap();
    let found: serde_json::Value = serde_json::from_str(&text).unwrap();
    let db = rusqlite::Connection::open(survey).unwrap();
    let mut statement = db
        .prepare("SELECT point, source, filesystem, options, parent FROM mount WHERE id = ?1")
        .unwrap();
    let found = found["filesystems"].as_array().unwrap();
    let text = |value: &serde_json::Value| value.as_str().unwrap_or_default().to_owned();
    for mount in found {
        let told = statement
            .query_row([mount["id"].as_i64().unwrap()], |row| {
                Ok((
                    row.get::<_, Vec<u8>>(0)?,
                    row.get::<_, Vec<u8>>(1)?,
                    row.get::<_, String>(2)?,
                    row.get::<_, String>(3)?,
                    row.get::<_, i64>(4)?,
                ))
            })
            .unwrap_or_else(|error| panic!("{mount}: {error}"));
        let source = String::from_utf8(told.1).unwrap();
        // findmnt adds in brackets which part of the filesystem is mounted.
        assert!(
            text(&mount["source"]).starts_with(&source) || source == "none",
            "{mount} {source}"
        );
        assert_eq!(
            (String::from_utf8(told.0).unwrap(), told.2, told.3, told.4),
            (
                text(&mount["target"]),
                text(&mount["fstype"]),
                text(&mount["vfs-options"]),
                mount["parent"].as_i64().unwrap()
            )
        );
    }
    let count: i64 = db.query_row("SELECT count(*) FROM mount", [], |row| row.get(0)).unwrap();
    assert_eq!(count, found.len() as i64);
}

fn document(survey: &Path, name: &str) -> String {
    let db = rusqlite::Connection::open(survey).unwrap();
    db.query_row("SELECT text FROM document WHERE name = ?1", [name], |row| row.get(0)).unwrap()
}

fn datasets_are_what_their_tools_say(survey: &Path, site: &Site) {
    let text = document(survey, "zfs");
    let told: BTreeMap<(&str, &str), &str> = text
        .lines()
        .filter_map(|line| {
            let mut words = line.split('\t');
            Some(((words.next()?, words.next()?), words.next()?))
        })
        .collect();
    for dataset in
        [site.pool.clone(), format!("{}/films", site.pool), format!("{}/films/new", site.pool)]
    {
        for property in [
            "mountpoint",
            "recordsize",
            "atime",
            "quota",
            "readonly",
            "casesensitivity",
            "compression",
        ] {
            let value = tool("zfs", &[&"get", &"-H", &"-o", &"value", &property, &dataset]);
            assert_eq!(
                told[&(dataset.as_str(), property)],
                String::from_utf8(value).unwrap().trim()
            );
        }
    }
    let subvolumes = document(survey, "btrfs");
    let volume = site.top.join("plain/btrfs");
    for (flag, part) in [("-s", "snap"), ("-o", "sub")] {
        let listed =
            String::from_utf8(tool("btrfs", &[&"subvolume", &"list", &flag, &volume])).unwrap();
        assert!(
            listed.contains(part) && subvolumes.contains(&format!("path {part}")),
            "{subvolumes}"
        );
    }
    let (_, read_only) = subvolumes.split_once("read-only\n").unwrap();
    assert!(read_only.contains("path snap") && !read_only.contains("path sub\n"), "{subvolumes}");
}

/// What the collector tells under a shell is what the walk saw; what it can't tell is marked as
/// unknown.
fn collected(shell: &str, scratch: &Path, site: &Site, live: &Path) {
    let script = scratch.join("collector.sh");
    std::fs::write(&script, tarvek(&[&"survey", &"--collector"])).unwrap();
    let listing = scratch.join(format!("{shell}.listing"));
    let mut command = Command::new(shell);
    if shell == "busybox" {
        // Nothing but BusyBox's own tools.
        let applets = scratch.join("applets");
        std::fs::create_dir(&applets).unwrap();
        tool("busybox", &[&"--install", &"-s", &applets]);
        command = Command::new(applets.join("sh"));
        command.env("PATH", &applets);
    }
    let output = command
        .arg(&script)
        .arg(&site.top)
        .stdout(std::fs::File::create(&listing).unwrap())
        .output()
        .unwrap_or_else(|error| panic!("{shell}: {error}"));
    assert!(output.status.success(), "{shell}: {}", String::from_utf8_lossy(&output.stderr));
    let survey = scratch.join(format!("{shell}.survey"));
    tarvek(&[&"survey", &"--from", &listing, &"-o", &survey]);
    let (told, seen) = (rows::below(&survey, &site.top), rows::below(live, &site.top));
    assert_eq!(told.keys().collect::<Vec<_>>(), seen.keys().collect::<Vec<_>>(), "{shell}");
    let mut unknown = vec!["label", "nfs4_acl"];
    if shell == "busybox" {
        unknown.extend(["acl", "default_acl", "flags", "project", "inherits"]);
    }
    let mut marked = 0;
    for (path, row) in &told {
        for (column, value) in row {
            let name = String::from_utf8_lossy(path);
            if unknown.contains(&column.as_str()) {
                assert_eq!(*value, Value::Null, "{shell}: {column} of {name} is a guess");
            } else if ["flags", "project", "inherits"].contains(&column.as_str()) {
                // Not every filesystem has them, and of no project nothing is said.
                let seen = &seen[path][column];
                let none =
                    *value == Value::Null && (*seen == Value::Integer(0) || *seen == Value::Null);
                let untold = column == "flags" && *value == Value::Null;
                assert!(
                    *value == *seen || none || untold,
                    "{shell}: {column} of {name}: {value:?}, {seen:?}"
                );
                marked += u64::from(column == "flags" && *value != Value::Null);
            } else {
                let stub = column.ends_with("time") && name.ends_with("snap/inner");
                assert!(stub || *value == seen[path][column], "{shell}: {column} of {name}");
            }
        }
    }
    assert_eq!(marked > 0, shell != "busybox", "{shell}: no flags are told");
    // A secret does not even leave the host.
    let units = std::fs::read(&listing).unwrap();
    assert!(!units.windows(7).any(|window| window == b"hunter2"), "{shell}");
    assert!(document(&survey, "units").contains("password=[hidden],ro"), "{shell}");
    let lacking = document(&survey, "lacking");
    assert_eq!(lacking.contains("acl: "), shell == "busybox", "{lacking}");
    assert!(lacking.contains("marks: "), "{lacking}");
}

#[test]
fn a_survey_that_is_killed_is_none_or_partial_or_what_it_was() {
    kernel::private_mounts();
    let mut random = Random::from_env("kill");
    let scratch = tempfile::tempdir().unwrap();
    let top = scratch.path().join("top");
    for n in 0..40 {
        let folder = top.join(n.to_string());
        std::fs::create_dir_all(&folder).unwrap();
        for m in 0..500 {
            std::fs::write(folder.join(format!("{m} {}", "long ".repeat(30))), "").unwrap();
        }
    }
    let survey = scratch.path().join("box.survey");
    let start = || {
        let mut command = Command::new(env!("CARGO_BIN_EXE_tarvek"));
        command.args(["survey", "--host", "box", "-o"]).arg(&survey).arg(&top);
        command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
    };
    let begun = Instant::now();
    assert!(start().wait().unwrap().success());
    let whole = begun.elapsed();
    let entries = rows::of(&survey).len();
    let (mut states, renewing) = (BTreeMap::new(), random::cases(50) / 2);
    for round in 0..random::cases(50) {
        // Half of them into a new file, half into one that is there.
        let renew = round < renewing;
        if !renew {
            let _ = std::fs::remove_file(&survey);
            let _ = std::fs::remove_file(scratch.path().join("box.survey-journal"));
        } else {
            std::fs::write(top.join(format!("{}/new {round}", round % 40)), "").unwrap();
        }
        let mut child = start();
        std::thread::sleep(whole.mul_f64(random.below(1100) as f64 / 1000.0));
        child.kill().unwrap();
        child.wait().unwrap();
        let state = if survey.exists() && std::fs::metadata(&survey).unwrap().len() > 0 {
            let mut command = Command::new(env!("CARGO_BIN_EXE_tarvek"));
            let output = command.arg("compare").arg(&survey).arg(&survey).output().unwrap();
            let errors = String::from_utf8_lossy(&output.stderr);
            assert!(output.status.success(), "round {round}: {errors}");
            let db = rusqlite::Connection::open(&survey).unwrap();
            let state: String = db
                .query_row("SELECT value FROM survey WHERE key = 'state'", [], |row| row.get(0))
                .unwrap();
            if state == "complete" {
                assert!(rows::of(&survey).len() >= entries, "round {round} claims to be complete");
            }
            state
        } else {
            "none".to_owned()
        };
        assert!(!renew || state == "complete", "round {round}: what was there is {state}");
        *states.entry(state).or_insert(0) += 1;
        assert!(start().wait().unwrap().success(), "round {round} can't be surveyed again");
    }
    eprintln!("kill: {states:?}");
}

#[test]
fn a_full_disk_leaves_what_was_there() {
    kernel::private_mounts();
    let scratch = tempfile::tempdir().unwrap();
    let (top, small) = (scratch.path().join("top"), scratch.path().join("small"));
    std::fs::create_dir_all(&small).unwrap();
    tool("mount", &[&"-t", &"tmpfs", &"-o", &"size=512k", &"tmpfs", &small]);
    let fill = |from: u32, to: u32| {
        std::fs::create_dir_all(&top).unwrap();
        for n in from..to {
            std::fs::write(top.join(format!("{n} {}", "long ".repeat(20))), "").unwrap();
        }
    };
    let survey = small.join("box.survey");
    let run = || {
        let mut command = Command::new(env!("CARGO_BIN_EXE_tarvek"));
        command.args(["survey", "--host", "box", "-o"]).arg(&survey).arg(&top).output().unwrap()
    };
    fill(0, 500);
    assert!(run().status.success());
    let before = rows::of(&survey);
    fill(500, 9000);
    let output = run();
    let message = String::from_utf8_lossy(&output.stderr).into_owned();
    assert_eq!(output.status.code(), Some(2), "{message}");
    assert!(message.contains("the disk is full; nothing was changed"), "{message}");
    // Nor is anything lost if what was half done could only be taken back afterwards.
    tarvek(&[&"compare", &survey, &survey]);
    assert_eq!(rows::of(&survey), before);
    tool("umount", &[&small]);
}
