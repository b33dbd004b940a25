//! Configuration that `adopt` reads, put to the programs that it is written for: `exportfs`,
//! `testparm`, `findmnt` and `docker-compose config`. Each file is random, and what was read of it
//! has to be what they read of it.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::process::{Command, Output};

use serde_json::Value;
use tarvek_formats::escape::unescape;

use crate::kernel;
use crate::random::{Random, cases};

fn adopted(folder: &Path, files: &[&str]) -> Value {
    let mut command = Command::new(env!("CARGO_BIN_EXE_tarvek"));
    // Engines fill variables from the environment as well.
    command.current_dir(folder).args(["adopt", "--environment", "--format", "json"]);
    command.args(files.iter().map(|file| format!("granary:{file}")));
    command.env("HOME", "/home/mira").env("SHELF", "/mnt/shelf").env("EMPTY", "");
    let output = command.output().unwrap();
    let said = String::from_utf8_lossy(&output.stderr);
    assert!(output.status.success(), "{said}");
    serde_json::from_slice(&output.stdout).unwrap_or_else(|_| panic!("{said}"))
}

fn facts<'a>(read: &'a Value, kind: &'a str) -> impl Iterator<Item = &'a Value> {
    read["facts"].as_array().unwrap().iter().filter(move |fact| fact["kind"] == kind)
}

fn text(output: &Output) -> String {
    String::from_utf8_lossy(&output.stdout).into_owned()
}

/// Both have to be the same; what differs is said, and what it was read of.
fn same<T: Ord + std::fmt::Debug>(
    ours: impl IntoIterator<Item = T>,
    theirs: impl IntoIterator<Item = T>,
    of: &str,
) {
    let (ours, theirs): (BTreeSet<T>, BTreeSet<T>) =
        (ours.into_iter().collect(), theirs.into_iter().collect());
    let only = |a: &BTreeSet<T>, b: &BTreeSet<T>| {
        a.difference(b).map(|line| format!("  {line:?}")).collect::<Vec<_>>().join("\n")
    };
    assert!(
        ours == theirs,
        "{of}\nonly ours:\n{}\nonly theirs:\n{}",
        only(&ours, &theirs),
        only(&theirs, &ours)
    );
}

fn string(value: &Value) -> String {
    value.as_str().map_or_else(|| value.to_string(), str::to_owned)
}

const PATHS: [&str; 10] = [
    "/loft/media",
    "/loft/films",
    "\"/loft/a b\"",
    "/loft/c\\040d",
    "/loft/x#y",
    "/loft/deep/er",
    "\"/loft/q\\040r\"",
    "/loft/=",
    "/loft/(x",
    "/loft/ü",
];

const CLIENTS: [&str; 16] = [
    "10.20.0.0/24",
    "10.20.0.7",
    "10.0.0.0/255.0.0.0",
    "10.20.0.5/8",
    "*.lan",
    "mill?.lan",
    "*",
    "@viewers",
    "gss/krb5",
    "fe80::/10",
    "::1",
    "10.30.*",
    "10.0.0.0/33",
    "",
    "\"10.40.0.0/16\"",
    "[a-c].lan",
];

const OPTIONS: [&str; 34] = [
    "ro",
    "rw",
    "sync",
    "async",
    "secure",
    "insecure",
    "root_squash",
    "no_root_squash",
    "all_squash",
    "no_all_squash",
    "crossmnt",
    "nocrossmnt",
    "nohide",
    "hide",
    "subtree_check",
    "no_subtree_check",
    "anonuid=840",
    "anongid=841",
    "anonuid=-2",
    "fsid=0",
    "fsid=root",
    "fsid=7",
    "sec=sys",
    "sec=krb5",
    "sec=krb5:sys",
    "no_wdelay",
    "wdelay",
    "acl",
    "no_acl",
    "insecure_locks",
    "pnfs",
    "rw",
    "ro",
    "security_label",
];

const WRONG: [&str; 16] = [
    "quick",
    "anonuid=x",
    "anonuid",
    "",
    "rw ",
    "fsid",
    "ro=1x",
    "sec=none",
    "mountpoint",
    "sec=x",
    "fsid=x",
    "sec=",
    "sec",
    "fsid=12345678:12345678:12345678:12345678",
    "mp=/x",
    "RO",
];

fn options(random: &mut Random) -> String {
    let count = random.below(6);
    let mut option = |_| match random.rarely(4) {
        true => *random.one(&["sec=sys", "sec=krb5", "sec=krb5:sys", "sec=unix", "sec=none"]),
        false => *random.one(&OPTIONS),
    };
    let mut options: Vec<&str> = (0..count).map(&mut option).collect();
    if random.rarely(60) {
        options.push(*random.one(&WRONG));
    }
    options.join(",")
}

fn exports_file(random: &mut Random) -> String {
    let mut file = String::new();
    for _ in 0..1 + random.below(6) {
        if random.rarely(5) {
            file += *random.one(&["# a comment\n", "\n", "   \n", "#/loft/media *(rw)\n"]);
        }
        let mut line = (*random.one(&PATHS)).to_owned();
        for _ in 0..random.below(4) {
            line += *random.one(&[" ", "\t", "  ", " \\\n "]);
            if random.rarely(6) {
                line += &format!("-{}", options(random));
                continue;
            }
            line += *random.one(&CLIENTS);
            match random.below(8) {
                0 => {}
                1 => line += &format!(" ({})", options(random)),
                2 => line += "()",
                _ => line += &format!("({})", options(random)),
            }
            if random.rarely(100) {
                line += *random.one(&[")", "(", "x", "(ro", "\"", "(rw)"]);
            }
        }
        if random.rarely(8) {
            line += " # after it";
        }
        file += &line;
        file += *random.one(&["\n", "\n", "\n", " \n", "\r\n"]);
    }
    file
}

#[test]
fn exports_are_read_as_exportfs_reads_them() {
    kernel::private_mounts();
    let mut random = Random::from_env("adopt");
    let scratch = tempfile::tempdir().unwrap();
    std::fs::OpenOptions::new().create(true).append(true).open("/etc/exports").unwrap();
    for folder in ["/srv", "/etc/exports.d", "/var/lib/nfs"] {
        std::fs::create_dir_all(folder).unwrap();
        kernel::tmpfs(Path::new(folder));
    }
    let (mut exported, mut stopped) = (0, 0);
    for _ in 0..cases(100) {
        let file = exports_file(&mut random);
        // It takes what follows a lone quotation mark, line feeds and all, for one client.
        if file.matches('"').count() % 2 == 1 {
            continue;
        }
        let path = scratch.path().join("exports");
        std::fs::write(&path, &file).unwrap();
        kernel::bind(&path, Path::new("/etc/exports"));
        for name in ["etab", "rmtab"] {
            std::fs::write(Path::new("/var/lib/nfs").join(name), "").unwrap();
        }
        let ran = Command::new("exportfs").arg("-r").output().unwrap();
        let told = text(&Command::new("exportfs").arg("-s").output().unwrap());
        nix::mount::umount("/etc/exports").unwrap();
        let theirs: BTreeSet<String> = told.lines().map(their_export).collect();
        let read = adopted(scratch.path(), &["exports"]);
        // It stops at the first line that it refuses.
        let refused = read["flaws"].as_array().unwrap().iter();
        let end = refused.filter_map(|flaw| flaw["line"].as_u64()).min().unwrap_or(u64::MAX);
        stopped += u64::from(end < u64::MAX);
        let before = facts(&read, "export").filter(|fact| fact["line"].as_u64().unwrap() <= end);
        let said = String::from_utf8_lossy(&ran.stderr);
        // Once a client was named like options, it reads remains of that as options of the next
        // line.
        if said.contains("Failed to resolve -") {
            continue;
        }
        // A name that nobody knows is a name all the same.
        let unknown = |fact: &&Value| {
            said.contains(&format!("Failed to resolve {}\n", string(&fact["client"])))
        };
        let ours: BTreeSet<String> = before.filter(|fact| !unknown(fact)).map(our_export).collect();
        exported += ours.len();
        same(ours, theirs, &format!("{file}\n{said}"));
    }
    eprintln!("adopt: {exported} exports, {stopped} files that exportfs stops in");
    assert!(exported as u64 > cases(100));
}

/// `/loft/media  10.20.0.0/24(sync,wdelay,…,ro,root_squash,…)`.
fn their_export(line: &str) -> String {
    let (path, client) = line.split_once("  ").unwrap_or_else(|| panic!("{line}"));
    let (client, options) = client.split_once('(').unwrap();
    let path = String::from_utf8(unescape(path.as_bytes())).unwrap();
    let options = options.trim_end_matches(')');
    // What is said for AUTH_SYS, else for the first flavour.
    let flavours: Vec<&str> = options.split("sec=").skip(1).collect();
    let is_sys = |said: &&&str| {
        said.split(',').next().unwrap().split(':').any(|f| matches!(f, "sys" | "unix"))
    };
    let said = flavours.iter().find(is_sys).or(flavours.first()).unwrap();
    let has = |text: &str, option: &str| text.split(',').any(|known| known == option);
    let squash = match (has(said, "all_squash"), has(said, "root_squash")) {
        (true, _) => "all",
        (false, true) => "root",
        _ => "none",
    };
    let access = if has(said, "rw") { "rw" } else { "ro" };
    let id = |key: &str| {
        let id = options.split(',').find_map(|option| option.strip_prefix(key))?;
        Some(id.parse::<i64>().unwrap() as u32)
    };
    let nobody =
        |id: Option<u32>| id.filter(|id| *id != 65534).map_or("-".into(), |id| id.to_string());
    format!(
        "{path} {client} {access} {squash} {} {} {}",
        nobody(id("anonuid=")),
        nobody(id("anongid=")),
        has(options, "crossmnt")
    )
}

fn our_export(fact: &Value) -> String {
    let id = |key: &str| fact.get(key).map_or("-".to_owned(), string);
    let options: Vec<String> = fact["options"].as_array().unwrap().iter().map(string).collect();
    let last = options.iter().rev().find(|option| option.ends_with("crossmnt"));
    format!(
        "{} {} {} {} {} {} {}",
        string(&fact["path"]),
        string(&fact["client"]),
        string(&fact["access"]),
        string(&fact["squash"]),
        id("anonuid"),
        id("anongid"),
        last.is_some_and(|option| option == "crossmnt")
    )
}

const SETTINGS: [&str; 44] = [
    "read only = no",
    "read only = yes",
    "Read Only=No",
    "readonly = 0",
    "writeable = yes",
    "writable = no",
    "write ok = true",
    "guest ok = yes",
    "public = no",
    "public = yes",
    "guest only = yes",
    "only guest = no",
    "valid users = mira",
    "valid users = @keepers, oskar",
    "valid users = \"two words\" +keepers",
    "valid users =",
    "invalid users = root",
    "read list = lantern;mira",
    "write list = @keepers\tmira",
    "admin users = mira",
    "force user = lantern",
    "force group = +keepers",
    "group = keepers",
    "create mask = 0664",
    "create mode = 0600",
    "directory mask = 2775",
    "directory mode = 0700",
    "force create mode = 0660",
    "comment = words = more",
    "comment = a \\\n  b",
    "browseable = no",
    "vfs objects = recycle",
    "available = yes",
    "available = no",
    "hosts allow = 10.",
    "; a comment",
    "# another",
    "",
    "wide links = yes",
    "unknown thing = x",
    "copy = media",
    "copy = films",
    "copy = nowhere",
    "include = more.conf",
];

fn smb_file(random: &mut Random) -> String {
    let mut file = String::new();
    file += "[global]\n  workgroup = HOLLOW\n";
    if random.rarely(2) {
        for _ in 0..random.below(3) {
            let global = [
                "read only = no",
                "guest ok = yes",
                "create mask = 0600",
                "valid users = mira",
                "directory mask = 0711",
            ];
            file += &format!("  {}\n", random.one(&global));
        }
    }
    for _ in 0..1 + random.below(4) {
        let names = ["media", "films", "Media", "two  words", "x$", "photos", "FILMS"];
        file += &format!("[{}]\n", random.one(&names));
        let paths = ["/loft/media", "/loft/a b", "\"/loft/q\"", "/loft/films/", "/loft/%U/x"];
        if !random.rarely(6) {
            file += &format!(
                "  {} = {}\n",
                random.one(&["path", "directory", "Path"]),
                random.one(&paths)
            );
        }
        for _ in 0..random.below(6) {
            file += &format!("{}{}\n", random.one(&["  ", "\t", ""]), random.one(&SETTINGS));
        }
    }
    file
}

#[test]
fn smb_shares_are_read_as_testparm_reads_them() {
    let mut random = Random::from_env("adopt");
    let scratch = tempfile::tempdir().unwrap();
    std::fs::write(scratch.path().join("more.conf"), "  write list = oskar\n").unwrap();
    let mut shares = 0;
    for _ in 0..cases(100) {
        let file = smb_file(&mut random);
        std::fs::write(scratch.path().join("smb.conf"), &file).unwrap();
        // Relative names start where the server was built to look.
        let run = file.replace(
            "include = more.conf",
            &format!("include = {}/more.conf", scratch.path().display()),
        );
        std::fs::write(scratch.path().join("run.conf"), &run).unwrap();
        let told = Command::new("testparm")
            .arg("-sv")
            .arg(scratch.path().join("run.conf"))
            .output()
            .unwrap();
        let read = adopted(scratch.path(), &["smb.conf"]);
        let refused = !read["flaws"].as_array().unwrap().is_empty();
        assert_eq!(
            told.status.success(),
            !refused,
            "{file}\n{}",
            String::from_utf8_lossy(&told.stderr)
        );
        if refused {
            continue;
        }
        let theirs = their_shares(&text(&told));
        let ours: BTreeMap<String, BTreeMap<String, String>> =
            facts(&read, "share").map(our_share).collect();
        shares += ours.len();
        same(ours, theirs, &file);
    }
    eprintln!("adopt: {shares} shares");
    assert!(shares as u64 > cases(100) / 2);
}

const SHOWN: [&str; 13] = [
    "path",
    "guest ok",
    "read only",
    "valid users",
    "invalid users",
    "read list",
    "write list",
    "admin users",
    "force user",
    "force group",
    "create mask",
    "directory mask",
    "available",
];

/// The sections that `testparm` prints, with every parameter.
fn their_shares(told: &str) -> BTreeMap<String, BTreeMap<String, String>> {
    let mut sections: BTreeMap<String, BTreeMap<String, String>> = BTreeMap::new();
    // What a section does not say itself stands in the first one.
    let mut usual = BTreeMap::new();
    let mut at = String::new();
    for line in told.lines() {
        if let Some(name) = line.strip_prefix('[').and_then(|rest| rest.strip_suffix(']')) {
            at = name.to_owned();
            if at != "global" {
                sections.insert(at.clone(), usual.clone());
            }
        } else if let Some((key, value)) = line.trim().split_once(" =")
            && SHOWN.contains(&key)
        {
            let section = sections.get_mut(&at).unwrap_or(&mut usual);
            section.insert(key.to_owned(), value.trim().to_owned());
        }
    }
    sections.retain(|_, keys| keys["available"] == "Yes" && !keys["path"].is_empty());
    for keys in sections.values_mut() {
        keys.remove("available");
        // It prints quotation marks that the server takes off (`lp_string` in its sources).
        let path = keys["path"].trim_matches('"').to_owned();
        keys.insert("path".to_owned(), path);
        for key in ["create mask", "directory mask"] {
            let bits = u16::from_str_radix(&keys[key], 8).unwrap();
            keys.insert(key.to_owned(), format!("{bits:o}"));
        }
        for key in ["valid users", "invalid users", "read list", "write list", "admin users"] {
            let plain = keys[key].replace('"', "");
            keys.insert(key.to_owned(), plain);
        }
    }
    sections
}

fn our_share(fact: &Value) -> (String, BTreeMap<String, String>) {
    let yes = |key: &str| if fact[key] == true { "Yes" } else { "No" }.to_owned();
    let list =
        |key: &str| fact[key].as_array().unwrap().iter().map(string).collect::<Vec<_>>().join(" ");
    let one = |key: &str| fact.get(key).map_or(String::new(), string);
    let bits = |key: &str, usual: u16| {
        let bits =
            fact.get(key).map_or(usual, |bits| u16::from_str_radix(&string(bits), 8).unwrap());
        format!("{bits:o}")
    };
    let keys = [
        ("path", one("path")),
        ("guest ok", yes("guests")),
        ("read only", yes("read_only")),
        ("valid users", list("valid_users")),
        ("invalid users", list("invalid_users")),
        ("read list", list("read_list")),
        ("write list", list("write_list")),
        ("admin users", list("admin_users")),
        ("force user", one("force_user")),
        ("force group", one("force_group")),
        ("create mask", bits("create_mask", 0o744)),
        ("directory mask", bits("directory_mask", 0o755)),
    ];
    (string(&fact["name"]), keys.map(|(key, value)| (key.to_owned(), value)).into())
}

fn fstab_file(random: &mut Random) -> String {
    let sources = [
        "UUID=12-34",
        "LABEL=loft",
        "/dev/sdb1",
        "granary:/loft/media",
        "//granary/me\\040dia",
        "tmpfs",
        "/srv/a\\134b",
        "PARTLABEL=x",
    ];
    let points =
        ["/mnt/a", "/mnt/b\\040c", "none", "swap", "/mnt/ü", "/mnt/x\\011y", "/", "/mnt/d/e"];
    let kinds = ["ext4", "nfs", "nfs4", "cifs", "swap", "none", "auto", "xfs", "fuse.x"];
    let options = [
        "defaults",
        "ro",
        "rw,nofail,_netdev",
        "bind",
        "noauto,x-systemd.automount",
        "uid=840,gid=840",
        "username=mira",
    ];
    let mut file = String::new();
    for _ in 0..1 + random.below(6) {
        if random.rarely(5) {
            file += *random.one(&["# comment\n", "\n", "  # indented\n", " \t \n"]);
        }
        let gap = *random.one(&[" ", "\t", "   "]);
        let mut fields = vec![*random.one(&sources), *random.one(&points), *random.one(&kinds)];
        if !random.rarely(8) {
            fields.push(*random.one(&options));
            if !random.rarely(4) {
                fields.push(*random.one(&["0", "1"]));
                if !random.rarely(4) {
                    fields.push(*random.one(&["0", "2"]));
                }
            }
        }
        if random.rarely(25) {
            fields.truncate(random.below(3) as usize);
        }
        file += &format!(
            "{}{}{}\n",
            random.one(&["", "", " "]),
            fields.join(gap),
            random.one(&["", "", " ", " # after"])
        );
    }
    file
}

#[test]
fn fstab_is_read_as_findmnt_reads_it() {
    let mut random = Random::from_env("adopt");
    let scratch = tempfile::tempdir().unwrap();
    let mut lines = 0;
    for _ in 0..cases(100) {
        let file = fstab_file(&mut random);
        let path = scratch.path().join("fstab");
        // Nothing but comments is no fstab.
        std::fs::write(&path, format!("/dev/first /first ext4 defaults 0 0\n{file}")).unwrap();
        let theirs = found(Command::new("findmnt").arg("--fstab").arg("-F").arg(&path));
        let read = adopted(scratch.path(), &["fstab"]);
        let ours: Vec<String> = facts(&read, "mount").map(our_mount).collect();
        lines += ours.len();
        same(ours, theirs, &file);
    }
    eprintln!("adopt: {lines} lines of fstab");
}

/// What `findmnt` lists, in the order of the file.
fn found(command: &mut Command) -> Vec<String> {
    let output = command.args(["-J", "-l", "-o", "SOURCE,TARGET,FSTYPE,OPTIONS"]).output().unwrap();
    if output.stdout.is_empty() {
        return Vec::new();
    }
    let told: Value = serde_json::from_slice(&output.stdout).unwrap();
    let one = |mount: &Value| {
        let field = |key: &str| mount[key].as_str().unwrap_or_default().to_owned();
        format!("{} {} {} {}", field("source"), field("target"), field("fstype"), field("options"))
    };
    told["filesystems"].as_array().unwrap().iter().map(one).collect()
}

fn our_mount(fact: &Value) -> String {
    let options: Vec<String> = fact["options"].as_array().unwrap().iter().map(string).collect();
    format!(
        "{} {} {} {}",
        string(&fact["source"]),
        string(&fact["at"]),
        string(&fact["type"]),
        options.join(",")
    )
}

#[test]
fn mount_tables_are_read_as_findmnt_reads_them() {
    kernel::private_mounts();
    let mut random = Random::from_env("adopt");
    let scratch = tempfile::tempdir().unwrap();
    let base = scratch.path().join("m");
    std::fs::create_dir(&base).unwrap();
    kernel::tmpfs(&base);
    let names = ["a", "b c", "d\te", "f\\g", "ü", "h#i", "j\nk"];
    for name in names {
        std::fs::create_dir(base.join(name)).unwrap();
    }
    for _ in 0..cases(40).min(400) {
        let at = base.join(random.one(&names));
        match random.below(4) {
            0 => kernel::tmpfs(&at),
            1 => kernel::bind(&base.join(random.one(&names)), &at),
            2 => {
                let _ = nix::mount::umount(&at);
            }
            _ => {
                let from = base.join(random.one(&names));
                let flags = nix::mount::MsFlags::MS_MOVE;
                let _ = nix::mount::mount(Some(&from), &at, None::<&str>, flags, None::<&str>);
            }
        }
        for name in names {
            let _ = std::fs::create_dir(base.join(name));
        }
        let table = std::fs::read("/proc/thread-self/mountinfo").unwrap();
        std::fs::write(scratch.path().join("mountinfo"), &table).unwrap();
        let mut theirs = found(Command::new("findmnt").args(["--kernel", "-v"]));
        let read = adopted(scratch.path(), &["mountinfo"]);
        let mut ours: Vec<String> = facts(&read, "mount").map(our_mount).collect();
        let sorted = |lines: &mut Vec<String>| {
            for line in lines.iter_mut() {
                let (before, options) = line.rsplit_once(' ').unwrap();
                let mut options: Vec<&str> = options.split(',').collect();
                options.sort_unstable();
                options.dedup();
                *line = format!("{before} {}", options.join(","));
            }
            lines.sort();
        };
        sorted(&mut theirs);
        sorted(&mut ours);
        same(ours, theirs, &String::from_utf8_lossy(&table));
    }
}

/// A Compose file that uses what there is to use, and what it needs beside it.
fn compose_files(random: &mut Random, folder: &Path) -> Vec<&'static str> {
    let mut env = String::from("# variables\nSHELF=/not/this\nTAG=3\nQUOTED=\"/q q\"\nPORT=7000\n");
    if random.rarely(2) {
        env += "export MORE='/more'\n";
    }
    std::fs::write(folder.join(".env"), env).unwrap();
    std::fs::write(folder.join("ids.env"), "PUID=840\nPGID=841\n# no\nUMASK=002\n").unwrap();
    std::fs::create_dir_all(folder.join("sub")).unwrap();
    let below = format!(
        "services:\n  base:\n    image: x\n    volumes:\n      - ./under:/under\n      - {}\n    \
         user: \"{}\"\n",
        random.one(&["/y:/y:ro", "../up:/up", "/x:/media"]),
        random.below(2000),
    );
    std::fs::write(folder.join("sub/base.yml"), below).unwrap();
    std::fs::write(folder.join("compose.yaml"), project(random, false)).unwrap();
    if random.rarely(3) {
        std::fs::write(folder.join("compose.override.yaml"), project(random, true)).unwrap();
        return vec!["compose.yaml", "compose.override.yaml"];
    }
    vec!["compose.yaml"]
}

const VOLUMES: [&str; 24] = [
    "/mnt/media:/media",
    "/mnt/media:/media:ro",
    "\"./config:/config\"",
    "../up:/up:rw",
    "~/home:/home",
    "~:/whole",
    "kept:/kept",
    "kept:/kept:ro",
    "offered:/offered",
    "/anonymous",
    "${SHELF}/films:/films:ro,z",
    "${NONE:-/fallback}/x:/x",
    "${EMPTY:-/fallback}/y:/y",
    "${EMPTY-/never}/z:/z",
    "$SHELF:/shelf:Z",
    "/mnt/$$x:/dollar",
    "./a/../b/./c:/abc:rslave",
    "{type: bind, source: /mnt/long, target: /long, read_only: true}",
    "{type: bind, source: ./rel, target: /rel, bind: {propagation: rslave}}",
    "{type: volume, source: kept, target: /kept2}",
    "{type: volume, target: /noname}",
    "{type: tmpfs, target: /tmp2}",
    "{type: bind, source: \"${SHELF}\", target: /media, read_only: false}",
    "\"${QUOTED}:/quoted:cached\"",
];

const PORTS: [&str; 14] = [
    "\"80\"",
    "\"8080:80\"",
    "8081:81",
    "\"127.0.0.1:3000-3002:4000-4002\"",
    "\"6060:6060/udp\"",
    "\"5000-5001\"",
    "\"[::1]:90:90\"",
    "{target: 91}",
    "{target: 92, published: 9092, protocol: udp}",
    "\"${PORT}:70\"",
    "\"127.0.0.1::95\"",
    "\"7100-7101:7200-7201/udp\"",
    "96",
    "\"0.0.0.0:97:97\"",
];

const OTHERS: [&str; 18] = [
    "    user: \"840:840\"\n",
    "    user: \"841\"\n",
    "    user: mira\n",
    "    environment: {PUID: 842, PGID: \"843\", UMASK: \"022\"}\n",
    "    environment: [PUID=844, PGID=845, OTHER=x]\n",
    "    environment: [SHELF, \"PUID=${TAG}\"]\n",
    "    environment:\n      PUID: 850\n      PGID:\n",
    "    env_file: ids.env\n",
    "    env_file: [ids.env]\n",
    "    network_mode: host\n",
    "    networks: [inner]\n",
    "    tmpfs: /run\n",
    "    tmpfs: [/run, /scratch]\n",
    "    group_add: [2100, keepers]\n",
    "    profiles: [extra]\n",
    "    depends_on: [s0]\n",
    "    userns_mode: host\n",
    "    image: \"x:${TAG:-1}\"\n",
];

fn project(random: &mut Random, over: bool) -> String {
    let mut file = String::from(
        "x-common: &common\n  image: x\n  environment: &ids\n    PUID: 860\n    PGID: 861\n\
         services:\n",
    );
    let count = 1 + random.below(5);
    for n in 0..count {
        file += &format!("  s{n}:\n");
        let merges = random.rarely(4);
        file += if merges { "    <<: *common\n" } else { "    restart: unless-stopped\n" };
        if !merges {
            file += "    image: x\n";
        }
        match random.below(6) {
            0 if n > 0 && !over => file += "    extends: {service: s0}\n",
            1 if !over => file += "    extends:\n      file: sub/base.yml\n      service: base\n",
            _ => {}
        }
        let mut seen = BTreeSet::new();
        for _ in 0..random.below(4) {
            let other = *random.one(&OTHERS);
            let key = other.split(':').next().unwrap();
            let twice = !seen.insert(key.to_owned()) || (!merges && key.trim() == "image");
            // Ports can't be published in the host's network, and nothing depends on itself.
            if !twice
                && !(key.trim() == "depends_on" && (n == 0 || over))
                && !(merges && key.trim() == "image")
                && !(key.trim() == "networks" && (over || seen.contains("    network_mode")))
                && !(key.trim() == "network_mode" && (over || seen.contains("    networks")))
            {
                file += other;
            }
        }
        let mut lists: [(&str, Vec<&str>); 2] = [("volumes", Vec::new()), ("ports", Vec::new())];
        for _ in 0..random.below(5) {
            lists[0].1.push(*random.one(&VOLUMES));
        }
        if !seen.contains("    network_mode") {
            for _ in 0..random.below(3) {
                lists[1].1.push(*random.one(&PORTS));
            }
        }
        for (key, items) in lists {
            let mut targets = BTreeSet::new();
            let items: Vec<&str> =
                items.into_iter().filter(|item| targets.insert(target(item))).collect();
            if !items.is_empty() {
                file += &format!("    {key}:\n");
                for item in items {
                    file += &format!("      - {item}\n");
                }
            }
        }
    }
    file + "volumes:\n  kept:\n  offered:\n    driver_opts: {type: nfs, o: \"addr=granary,ro\", \
            device: \":/loft/media\"}\nnetworks:\n  inner:\n"
}

/// What must not stand twice.
fn target(item: &str) -> String {
    match item.find("target: ") {
        Some(at) => item[at + 8..].split([',', '}']).next().unwrap().to_owned(),
        None => item.trim_matches('"').split(':').nth(1).unwrap_or(item).to_owned(),
    }
}

#[test]
fn compose_files_are_read_as_their_engine_reads_them() {
    let mut random = Random::from_env("adopt");
    let scratch = tempfile::tempdir().unwrap();
    let (mut read_files, mut read_facts, mut refused) = (0, 0, 0);
    for n in 0..cases(16) {
        let folder = scratch.path().join(n.to_string());
        std::fs::create_dir(&folder).unwrap();
        let files = compose_files(&mut random, &folder);
        let mut command = Command::new("docker-compose");
        command.current_dir(&folder).args(files.iter().flat_map(|file| ["-f", file])).arg("config");
        command.env("HOME", "/home/mira").env("SHELF", "/mnt/shelf").env("EMPTY", "");
        let told = command.output().unwrap();
        let whole = || {
            files
                .iter()
                .map(|f| std::fs::read_to_string(folder.join(f)).unwrap())
                .collect::<String>()
        };
        let said = String::from_utf8_lossy(&told.stderr);
        if said.contains("'network_mode' and 'networks' cannot be combined") {
            // What a service extends may have the one, and the service the other: no project at
            // all.
            refused += 1;
            assert!(refused <= 2 + n / 10, "{refused} of {n} are none");
            continue;
        }
        assert!(told.status.success(), "{}\n{said}", whole());
        let mut json = Command::new("python3");
        let script =
            "import sys, yaml, json; json.dump(yaml.safe_load(open(sys.argv[1])), sys.stdout)";
        std::fs::write(folder.join("told"), &told.stdout).unwrap();
        let json = json.args(["-c", script]).arg(folder.join("told")).output().unwrap();
        let theirs: Value = serde_json::from_slice(&json.stdout).unwrap();
        let theirs = their_facts(&theirs);
        let read = adopted(&folder, &files);
        let ours = our_facts(&read);
        read_files += files.len();
        read_facts += ours.len();
        same(ours, theirs, &whole());
    }
    eprintln!("adopt: {read_facts} facts of {read_files} Compose files");
}

fn their_facts(told: &Value) -> BTreeSet<String> {
    let mut facts = BTreeSet::new();
    for (name, service) in told["services"].as_object().unwrap() {
        let environment =
            |key: &str| service["environment"].get(key).map(string).filter(|v| v != "null");
        let (mut uid, mut gid) = (environment("PUID"), environment("PGID"));
        let user = service.get("user").map(string);
        if let Some(user) = &user {
            let (u, g) = user.split_once(':').map_or((user.as_str(), None), |(u, g)| (u, Some(g)));
            let number =
                |text: &str| Some(text.to_owned()).filter(|text| text.parse::<u32>().is_ok());
            (uid, gid) = (number(u), g.and_then(number));
        }
        let umask = environment("UMASK").map(|umask| format!("{:0>4}", umask));
        let network = service.get("network_mode").map(string).or_else(|| {
            let networks = service.get("networks")?.as_object()?;
            Some(networks.keys().next()?.clone())
        });
        facts.insert(format!(
            "service {name} {user:?} {uid:?} {gid:?} {umask:?} {network:?} {:?}",
            service.get("image").map(string)
        ));
        for volume in service["volumes"].as_array().into_iter().flatten() {
            facts.insert(their_volume(name, volume));
        }
        let tmpfs = &service["tmpfs"];
        for at in tmpfs.as_array().map_or_else(|| vec![tmpfs.clone()], Clone::clone) {
            if !at.is_null() {
                facts.insert(format!("memory {name} {} rw", string(&at)));
            }
        }
        for port in service["ports"].as_array().into_iter().flatten() {
            facts.extend(their_port(name, port));
        }
    }
    facts
}

fn their_volume(name: &str, volume: &Value) -> String {
    let Some(line) = volume.as_str() else {
        let get = |key: &str| volume.get(key).map(string).unwrap_or_default();
        let access = if volume["read_only"] == true { "ro" } else { "rw" };
        let propagation = volume["bind"].get("propagation").map(string);
        let (from, to) = (get("source"), get("target"));
        return match get("type").as_str() {
            "bind" => format!("mapping {name} {from} {to} {access} None {propagation:?}"),
            "tmpfs" => format!("memory {name} {to} {access}"),
            _ => format!("volume {name} {from} {to} {access}"),
        };
    };
    let parts: Vec<&str> = line.split(':').collect();
    let [from, to, modes] = parts[..] else { return format!("volume {name}  {line} rw") };
    let has = |mode: &str| modes.split(',').any(|known| known == mode);
    let access = if has("ro") { "ro" } else { "rw" };
    if !from.starts_with('/') {
        return format!("volume {name} {from} {to} {access}");
    }
    let label = if has("z") {
        Some("shared")
    } else if has("Z") {
        Some("private")
    } else {
        None
    };
    let propagation = has("rslave").then(|| "rslave".to_owned());
    format!("mapping {name} {from} {to} {access} {} {propagation:?}", label.unwrap_or("None"))
}

fn their_port(name: &str, port: &Value) -> Vec<String> {
    if let Some(line) = port.as_str() {
        let (ports, protocol) = line.split_once('/').unwrap_or((line, "tcp"));
        let mut parts: Vec<&str> = ports.rsplitn(3, ':').collect();
        parts.resize(3, "");
        let ip = parts[2].trim_matches(['[', ']']);
        return vec![format!("port {name} {ip} {} {} {protocol}", parts[1], parts[0])];
    }
    let get = |key: &str| port.get(key).map(string).unwrap_or_default();
    let protocol = Some(get("protocol")).filter(|p| !p.is_empty()).unwrap_or("tcp".into());
    vec![format!(
        "port {name} {} {} {} {protocol}",
        get("host_ip"),
        get("published"),
        get("target")
    )]
}

fn our_facts(read: &Value) -> BTreeSet<String> {
    let mut facts = BTreeSet::new();
    for fact in read["facts"].as_array().unwrap() {
        let get = |key: &str| fact.get(key).filter(|value| !value.is_null()).map(string);
        let one = |key: &str| get(key).unwrap_or_default();
        let service = one("service");
        facts.insert(match fact["kind"].as_str().unwrap() {
            "service" => format!(
                "service {service} {:?} {:?} {:?} {:?} {:?} {:?}",
                get("user"),
                get("uid"),
                get("gid"),
                get("umask"),
                get("network"),
                get("image")
            ),
            "mapping" => format!(
                "mapping {service} {} {} {} {} {:?}",
                one("from"),
                one("to"),
                one("access"),
                get("label").unwrap_or("None".into()),
                get("propagation")
            ),
            "volume" if one("driver_source") == "tmpfs" => {
                format!("memory {service} {} {}", one("to"), one("access"))
            }
            "volume" => {
                format!("volume {service} {} {} {}", one("volume"), one("to"), one("access"))
            }
            "port" => format!(
                "port {service} {} {} {} {}",
                one("host_ip"),
                one("published"),
                one("target"),
                one("protocol")
            ),
            kind => panic!("{kind}"),
        });
    }
    facts
}

#[test]
fn what_runs_is_collected_as_it_is_seen_live() {
    kernel::private_mounts();
    // What lies in a folder of the system is no media.
    let scratch = tempfile::tempdir_in("/srv").unwrap();
    let (from, to) = (scratch.path().join("a b"), scratch.path().join("seen"));
    std::fs::create_dir(&from).unwrap();
    std::fs::create_dir(&to).unwrap();
    let script = "mount --bind \"$0\" \"$1\" && mount -o remount,ro,bind \"$1\" && exec sleep 120";
    let mut runs = Command::new("unshare")
        .args(["-m", "sh", "-c", script])
        .args([&from, &to])
        .spawn()
        .unwrap();
    // It is there once its mount is.
    let table = format!("/proc/{}/mountinfo", runs.id());
    let there = || std::fs::read_to_string(&table).is_ok_and(|text| text.contains("/seen ro"));
    for _ in 0..100 {
        if there() {
            break;
        }
        std::thread::sleep(std::time::Duration::from_millis(50));
    }
    assert!(there());
    let told = |facts: &[tarvek_core::facts::configured::Configured]| -> BTreeSet<String> {
        use tarvek_core::facts::configured::Fact;
        let of = format!("/proc/{}/", runs.id());
        let mine = facts.iter().filter(|found| found.spot.file.raw().starts_with(&of));
        mine.map(|found| match &found.fact {
            Fact::Mapping(map) => format!("{map:?}"),
            Fact::Service(service) => format!("{service:?}"),
            other => panic!("{other:?}"),
        })
        .collect()
    };
    let live = told(&tarvek_host::process::running().configuration.facts);
    assert!(live.len() >= 2, "{live:?}");
    let collector = Command::new(env!("CARGO_BIN_EXE_tarvek"))
        .args(["survey", "--collector"])
        .output()
        .unwrap();
    let file = scratch.path().join("collector.sh");
    std::fs::write(&file, collector.stdout).unwrap();
    for shell in [&["dash"][..], &["bash"], &["busybox", "sh"]] {
        let listing =
            Command::new(shell[0]).args(&shell[1..]).arg(&file).arg(&from).output().unwrap();
        let read = tarvek_formats::listing::read("listing", &listing.stdout).unwrap();
        assert_eq!(told(&read.told.configured.facts), live, "{shell:?}");
    }
    runs.kill().unwrap();
    runs.wait().unwrap();
}

/// Each folder is filled, covered by a mount of another kind, and judged; then its remedy is
/// followed to the letter.
#[test]
fn what_a_mount_hides_is_found_and_brought_out() {
    kernel::private_mounts();
    let scratch = tempfile::tempdir().unwrap();
    let at = |name: &str| scratch.path().join(name);
    let run = |words: &[&std::ffi::OsStr]| {
        let done = Command::new(words[0]).args(&words[1..]).status().unwrap();
        assert!(done.success(), "{words:?}");
    };
    let word = std::ffi::OsStr::new;
    std::fs::create_dir(at("other")).unwrap();
    std::fs::write(at("other/shown"), "x").unwrap();
    for name in ["a b", "empty", "twice", "itself"] {
        std::fs::create_dir(at(name)).unwrap();
    }
    std::fs::create_dir(at("a b/deep")).unwrap();
    // Of what two names share a disk holds one.
    std::fs::write(at("a b/deep/film"), vec![1; 100_000]).unwrap();
    std::fs::hard_link(at("a b/deep/film"), at("a b/again")).unwrap();
    std::os::unix::fs::symlink("/", at("a b/link")).unwrap();
    nix::unistd::mkfifo(&at("a b/pipe"), nix::sys::stat::Mode::S_IRWXU).unwrap();
    std::fs::write(at("twice/first"), "x").unwrap();
    std::fs::write(at("itself/seen"), "x").unwrap();
    for (from, to) in [
        ("other", "a b"),
        ("other", "empty"),
        ("a b", "twice"),
        ("other", "twice"),
        ("itself", "itself"),
    ] {
        run(&[word("mount"), word("--bind"), at(from).as_os_str(), at(to).as_os_str()]);
    }
    let hidden = || -> BTreeMap<String, Value> {
        let output = Command::new(env!("CARGO_BIN_EXE_tarvek"))
            .args(["check", "--here", "--format", "json"])
            .output()
            .unwrap();
        let json: Value = serde_json::from_slice(&output.stdout).unwrap();
        let findings = json["findings"].as_array().unwrap().iter();
        let here = scratch.path().to_str().unwrap();
        findings
            .filter(|finding| finding["rule"] == "mount/files-beneath")
            .filter_map(|finding| {
                let path = finding["where"]["path"].as_str()?.strip_prefix(here)?;
                Some((path.to_owned(), finding.clone()))
            })
            .collect()
    };
    let before = hidden();
    // What lies beneath two mounts at one path can't be reached without unmounting one; nothing is
    // said of it.
    assert_eq!(before.keys().collect::<Vec<_>>(), ["/a b"]);
    let finding = &before["/a b"];
    let message = finding["message"].as_str().unwrap();
    assert!(message.contains(": 5 entries, 10"), "{message}");
    for step in finding["steps"].as_array().unwrap() {
        match step["run"].as_array() {
            Some(words) => {
                let words: Vec<&std::ffi::OsStr> =
                    words.iter().map(|text| word(text.as_str().unwrap())).collect();
                run(&words);
            }
            None => {
                let words = step["do"].as_str().unwrap();
                let seen = words.strip_prefix("move what lies in ").unwrap();
                let seen = seen.strip_suffix(" to where it belongs").unwrap();
                std::fs::create_dir(at("found")).unwrap();
                let script = "mv \"$0\"/* \"$1\"";
                run(&[word("sh"), word("-c"), word(script), word(seen), at("found").as_os_str()]);
            }
        }
    }
    assert_eq!(std::fs::read(at("found/deep/film")).unwrap().len(), 100_000);
    assert!(at("a b/shown").exists(), "the mount stayed");
    assert!(hidden().is_empty());
}
