//! What is drafted and emitted, put to the programs that it is meant for: the NFS server's reader
//! of exports, `testparm`, `findmnt --verify`, `systemd-analyze verify`, `docker-compose config`,
//! shells, and filesystems.

use std::collections::BTreeMap;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::process::{Command, Output};

use tarvek_core::layout::folder::Right;
use tarvek_core::layout::site::Layout;
use tarvek_core::words::name::Name;

use crate::kernel;
use crate::survey::{ZfsPool, tool};

fn tarvek(folder: &Path, arguments: &str) -> Output {
    let mut command = Command::new(env!("CARGO_BIN_EXE_tarvek"));
    command.args(arguments.split_whitespace()).current_dir(folder).output().unwrap()
}

fn fine(output: Output, what: &str) -> String {
    let (out, err) =
        (String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
    assert!(output.status.success(), "{what}: {out}{err}");
    out.into_owned()
}

fn example(name: &str) -> String {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../examples");
    std::fs::read_to_string(folder.join(format!("{name}.brief.toml"))).unwrap()
}

/// Drafts a brief in a folder, and returns the layout.
fn drafted(folder: &Path, brief: &str) -> Layout {
    std::fs::write(folder.join("brief.toml"), brief).unwrap();
    fine(tarvek(folder, "draft --brief brief.toml -o tarvek.toml"), brief);
    let text = std::fs::read(folder.join("tarvek.toml")).unwrap();
    tarvek_formats::layout::read("tarvek.toml", &text).unwrap()
}

#[test]
fn emitted_configuration_is_accepted_by_what_reads_it() {
    kernel::private_mounts();
    let mut accepted: BTreeMap<&str, u32> = BTreeMap::new();
    let scratch = tempfile::tempdir().unwrap();
    // The NFS server wants to know who its clients are.
    let hosts = scratch.path().join("hosts");
    let known = std::fs::read_to_string("/etc/hosts").unwrap();
    std::fs::write(&hosts, known + "10.20.0.3 millrace.lan\n").unwrap();
    kernel::bind(&hosts, Path::new("/etc/hosts"));
    let with = |name: &str, from: &str, to: &str| {
        let text = example(name);
        assert!(text.contains(from), "{name} has no {from}");
        text.replace(from, to)
    };
    let briefs = [
        example("one-box"),
        example("nfs"),
        example("smb"),
        with("nfs", "filesystem = \"zfs\"", "filesystem = \"zfs\"\nselinux = true"),
        with("nfs", "subnet = \"10.20.0.0/24\"", ""),
        with("one-box", "containers = \"podman\"", "containers = \"docker\""),
    ];
    for (n, brief) in briefs.iter().enumerate() {
        let folder = scratch.path().join(n.to_string());
        std::fs::create_dir(&folder).unwrap();
        let layout = drafted(&folder, brief);
        for host in &layout.hosts {
            for what in ["exports", "smb", "fstab", "systemd", "compose"] {
                let out = format!("{what}-{}", host.name);
                let emitted =
                    tarvek(&folder, &format!("emit {what} --host {} -o {out}", host.name));
                if emitted.status.success() {
                    accept(what, &folder.join(out), &layout, host.name.raw());
                    *accepted.entry(what).or_insert(0) += 1;
                }
            }
        }
    }
    eprintln!("emit: accepted {accepted:?}");
    assert_eq!(accepted.len(), 5, "{accepted:?}");
}

fn accept(what: &str, folder: &Path, layout: &Layout, host: &str) {
    match what {
        "exports" => {
            std::fs::OpenOptions::new().create(true).append(true).open("/etc/exports").unwrap();
            kernel::bind(&folder.join("exports"), Path::new("/etc/exports"));
            // What is exported has to be there; what was not, goes again.
            let mut made: Vec<PathBuf> = Vec::new();
            for share in layout.shares.iter().filter(|share| share.host == host) {
                let path = PathBuf::from(share.path.to_string());
                let above = path.ancestors().filter(|folder| !folder.exists());
                made.extend(above.map(Path::to_path_buf));
                std::fs::create_dir_all(path).unwrap();
            }
            fine(Command::new("exportfs").arg("-r").output().unwrap(), "exportfs");
            let told = fine(Command::new("exportfs").arg("-s").output().unwrap(), "exportfs -s");
            nix::mount::umount("/etc/exports").unwrap();
            made.iter().for_each(|folder| std::fs::remove_dir(folder).unwrap());
            for share in layout.shares.iter().filter(|share| share.host == host) {
                for export in &share.nfs {
                    let line = told.lines().find(|line| {
                        line.starts_with(&format!("{} ", share.path))
                            && line.contains(&format!(" {}(", export.clients))
                    });
                    let line =
                        line.unwrap_or_else(|| panic!("{} {}: {told}", share.path, export.clients));
                    let has = |option: &str| {
                        line.contains(&format!(",{option},"))
                            || line.contains(&format!(",{option})"))
                    };
                    assert!(has(export.access.word()) && has("root_squash"), "{line}");
                    assert_eq!(line.contains("crossmnt"), export.crossmnt, "{line}");
                }
            }
        }
        "smb" => {
            let config = folder.join("smb.conf");
            let shares = std::fs::read_to_string(folder.join("shares.smb.conf")).unwrap();
            std::fs::write(&config, format!("[global]\n{shares}")).unwrap();
            let output = Command::new("testparm").arg("-s").arg(&config).output().unwrap();
            let errors = String::from_utf8_lossy(&output.stderr).into_owned();
            for word in ["nknown parameter", "gnoring", "ERROR", "WARNING"] {
                assert!(!errors.contains(word), "{errors}");
            }
            let told = fine(output, "testparm");
            for share in
                layout.shares.iter().filter(|share| share.host == host && share.smb.is_some())
            {
                assert!(told.contains(&format!("[{}]", share.name)), "{told}");
                assert!(told.contains(&format!("path = {}", share.path)), "{told}");
            }
        }
        "fstab" => {
            let file = folder.join("fstab");
            let output = Command::new("findmnt")
                .args(["--verify", "--verbose", "--tab-file"])
                .arg(&file)
                .output()
                .unwrap();
            let told = String::from_utf8_lossy(&output.stdout).into_owned()
                + &String::from_utf8_lossy(&output.stderr);
            // Disks and servers of the layout are not here; everything else has to be in order.
            let bad = |line: &&str| {
                line.contains("[E]")
                    && !line.contains("unreachable")
                    && !line.contains("does not exist")
            };
            let wrong: Vec<&str> = told.lines().filter(bad).collect();
            assert!(
                wrong.is_empty()
                    && !told.contains("parse error at")
                    && (told.contains("0 parse errors") || told.contains("Success")),
                "{told}"
            );
        }
        "systemd" => {
            let mut units: Vec<PathBuf> =
                std::fs::read_dir(folder).unwrap().map(|e| e.unwrap().path()).collect();
            units.retain(|unit| unit.is_file());
            let mut command = Command::new("systemd-analyze");
            let output = command.arg("verify").args(&units).output().unwrap();
            let errors = String::from_utf8_lossy(&output.stderr).into_owned();
            assert_eq!(fine(output, "systemd-analyze") + &errors, "", "{units:?}");
            for unit in units.iter().filter(|unit| unit.extension().is_some_and(|e| e == "mount")) {
                let text = std::fs::read_to_string(unit).unwrap();
                let point = text.lines().find_map(|line| line.strip_prefix("Where=")).unwrap();
                let name = fine(
                    Command::new("systemd-escape")
                        .args(["-p", "--suffix=mount", point])
                        .output()
                        .unwrap(),
                    point,
                );
                assert_eq!(name.trim(), unit.file_name().unwrap().to_str().unwrap());
            }
        }
        _ => {
            let mut command = Command::new("docker-compose");
            command.arg("-f").arg(folder.join("compose.yaml")).args(["config", "--no-interpolate"]);
            let told = fine(command.output().unwrap(), "docker-compose");
            for service in layout.services.iter().filter(|s| s.host == host && s.map.is_some()) {
                assert!(told.contains(&format!("  {}:\n", service.name)), "{told}");
            }
        }
    }
}

/// A filesystem of some sort, mounted where the brief has its pool.
enum Volume {
    Mounted(PathBuf),
    Zfs(PathBuf, Option<ZfsPool>),
}

impl Volume {
    fn new(filesystem: &str, pool: &str, scratch: &Path) -> Self {
        let at = PathBuf::from(format!("/{pool}"));
        let image = scratch.join(format!("{filesystem}.img"));
        std::fs::File::create(&image).unwrap().set_len(160 << 20).unwrap();
        std::fs::create_dir_all(&at).unwrap();
        if filesystem == "zfs" {
            let zfs = ZfsPool::new(pool, &at, &image, scratch);
            return Self::Zfs(at, Some(zfs));
        }
        tool(&format!("mkfs.{filesystem}"), &[&"-q", &"-L", &pool, &image]);
        tool("mount", &[&"-o", &"loop", &image, &at]);
        Self::Mounted(at)
    }
}

impl Drop for Volume {
    fn drop(&mut self) {
        let at = match self {
            Self::Mounted(at) => {
                let _ = Command::new("umount").arg("-l").arg(&*at).status();
                at.clone()
            }
            Self::Zfs(at, pool) => {
                drop(pool.take());
                at.clone()
            }
        };
        let _ = std::fs::remove_dir(at);
    }
}

/// Does something as somebody else.
fn as_account(uid: u32, gid: u32, groups: &str, script: &str) {
    let mut command = Command::new("setpriv");
    command.args([format!("--reuid={uid}"), format!("--regid={gid}")]);
    if groups.is_empty() {
        command.arg("--clear-groups");
    } else {
        command.arg(format!("--groups={groups}"));
    }
    fine(command.args(["sh", "-ec", script]).output().unwrap(), script);
}

#[test]
fn the_script_leaves_exactly_what_the_layout_wants() {
    kernel::private_mounts();
    let scratch = tempfile::tempdir().unwrap();
    kernel::tmpfs(Path::new("/srv"));
    for (n, (filesystem, shell, acls)) in [
        ("ext4", "dash", true),
        ("btrfs", "busybox", true),
        ("ext4", "busybox", false),
        ("zfs", "dash", false),
        ("zfs", "busybox", false),
    ]
    .into_iter()
    .enumerate()
    {
        let folder = scratch.path().join(n.to_string());
        std::fs::create_dir(&folder).unwrap();
        let pool = format!("tarvekpool{}x{n}", std::process::id());
        let brief = example("one-box")
            .replace("pool = \"barn\"", &format!("pool = \"{pool}\""))
            .replace("filesystem = \"btrfs\"", &format!("filesystem = \"{filesystem}\""))
            .replace("containers = \"podman\"", &format!("containers = \"podman\"\nacls = {acls}"));
        let layout = drafted(&folder, &brief);
        let volume = Volume::new(filesystem, &pool, &folder);
        script(&folder, &layout, shell);
        let media = format!("/{pool}/media");
        use_it(&media, &layout, acls, filesystem != "zfs");
        fine(tarvek(&folder, "survey --host weir -o weir.survey"), "survey");
        let told = tarvek(&folder, "check --fail-on risk --survey weir.survey --format json");
        let told: serde_json::Value = serde_json::from_slice(&told.stdout).unwrap();
        // ZFS through FUSE lets only owners link: there, and only there, imports are moved.
        let links = if filesystem == "zfs" { vec!["link/source-protected"] } else { Vec::new() };
        let findings = told["findings"].as_array().unwrap().iter();
        let mut above: Vec<&str> = findings
            .filter(|finding| finding["severity"] != "note")
            .map(|finding| finding["rule"].as_str().unwrap())
            // This machine's own server offers nothing of the site, and its people are others.
            .filter(|rule| {
                let of_this_machine =
                    ["share/not-offered", "layout/differs-from-host", "identity/not-as-declared"];
                !of_this_machine.contains(rule)
            })
            .collect();
        above.dedup();
        assert_eq!(above, links, "{filesystem} {shell} acls={acls}: {told}");
        let board = told["board"].as_array().unwrap();
        let libraries: Vec<_> = board.iter().filter(|row| row["row"] == "library").collect();
        assert_eq!(libraries.len(), 4);
        assert!(libraries.iter().all(|library| library["ready"] == true), "{told}");
        eprintln!(
            "emit: {filesystem} under {shell}, acls = {acls}: as the layout wants it, and ready"
        );
        drop(volume);
        for service in &layout.services {
            let _ = std::fs::remove_dir_all(format!("/srv/{}", service.name));
        }
    }
}

/// Of a folder of which the layout says only what one account may do, the script changes nothing
/// else: owner, mode and what others have stay, and `none` is a denial although a group or everyone
/// may.
#[test]
fn the_script_touches_only_what_is_declared() {
    kernel::private_mounts();
    let scratch = tempfile::tempdir().unwrap();
    let top = scratch.path().join("top");
    std::fs::create_dir(&top).unwrap();
    kernel::tmpfs(&top);
    let films = top.join("films");
    std::fs::create_dir(&films).unwrap();
    tool("chown", &[&"71001:72001", &films]);
    tool("chmod", &[&"2775", &films]);
    tool("setfacl", &[&"-m", &"u:71002:rwx,g:72003:r-x", &films]);
    let name = films.to_str().unwrap();
    let layout = format!(
        "tarvek = 1\nsite = \"x\"\n[host.weir]\nrole = \"storage\"\naccounts = {{ lantern = {{ uid \
         = 840 }}, guest = {{ uid = 71003 }} }}\n\
         [[folder]]\nhost = \"weir\"\npath = {name:?}\nrights = {{ lantern = \"read\", guest \
         = \"none\" }}\n"
    );
    std::fs::write(scratch.path().join("tarvek.toml"), layout).unwrap();
    let script = fine(tarvek(scratch.path(), "emit script --host weir"), "emit");
    std::fs::write(scratch.path().join("weir.sh"), script).unwrap();
    let run = || {
        let mut command = Command::new("sh");
        command.args(["weir.sh", "--yes"]).current_dir(scratch.path());
        fine(command.output().unwrap(), "the script")
    };
    run();
    let acl = String::from_utf8(tool("getfacl", &[&"-n", &"-c", &"-p", &"-E", &films])).unwrap();
    let access: Vec<&str> =
        acl.lines().filter(|l| !l.is_empty() && !l.starts_with("default")).collect();
    let expected = [
        "user::rwx",
        "user:840:r-x",
        "user:71002:rwx",
        "user:71003:---",
        "group::rwx",
        "group:72003:r-x",
        "mask::rwx",
        "other::r-x",
    ];
    assert_eq!(access, expected);
    let stat = String::from_utf8(tool("stat", &[&"-c", &"%a %u:%g", &films])).unwrap();
    assert_eq!(stat.trim(), "2775 71001:72001");
    as_account(840, 840, "", &format!("ls {name}"));
    as_account(71003, 71003, "72001", &format!("! ls {name} 2>/dev/null"));
    assert!(run().contains("everything is as the layout wants it"));
    nix::mount::umount2(&top, nix::mount::MntFlags::MNT_DETACH).unwrap();
}

/// Runs the emitted script: to look, to do, and once more.
fn script(folder: &Path, layout: &Layout, shell: &str) {
    std::fs::write(folder.join("weir.sh"), fine(tarvek(folder, "emit script --host weir"), "emit"))
        .unwrap();
    let path = if shell == "busybox" {
        // BusyBox's own tools, and of others only those that it has not.
        let applets = folder.join("applets");
        std::fs::create_dir(&applets).unwrap();
        tool("busybox", &[&"--install", &"-s", &applets]);
        for program in ["setfacl", "getfacl", "btrfs", "zfs"] {
            let found = fine(Command::new("which").arg(program).output().unwrap(), program);
            std::os::unix::fs::symlink(found.trim(), applets.join(program)).unwrap();
        }
        applets.into_os_string()
    } else {
        std::env::var_os("PATH").unwrap()
    };
    let run = |arguments: &[&str]| {
        let mut command = Command::new("env");
        let shell = if shell == "busybox" { "sh" } else { shell };
        command.arg("-i").arg(format!("PATH={}", path.to_str().unwrap())).arg(shell).arg("weir.sh");
        fine(command.args(arguments).current_dir(folder).output().unwrap(), "the script")
    };
    let media = layout.folders[0].path.to_string();
    let would = run(&[]);
    assert!(would.contains("would do:") && would.contains("run again with --yes"), "{would}");
    assert!(!Path::new(&media).exists(), "it only says what it would do");
    // Nobody is told to make a folder where a dataset comes.
    let twice = would.contains("create") && would.contains(&format!("mkdir -p -- {media}\n"));
    assert!(!twice, "{would}");
    let did = run(&["--yes"]);
    assert!(did.contains("doing:"), "{did}");
    let again = run(&["--yes"]);
    assert!(again.contains("everything is as the layout wants it"), "{again}");
    as_declared(layout);
    // Neither is anything done to what lies in there, nor to a folder that is right.
    std::fs::write(format!("{media}/films/kept"), "x").unwrap();
    std::fs::set_permissions(format!("{media}/films/kept"), PermissionsExt::from_mode(0o640))
        .unwrap();
    std::fs::set_permissions(format!("{media}/music"), PermissionsExt::from_mode(0o700)).unwrap();
    let before = std::fs::metadata(format!("{media}/films/kept")).unwrap();
    assert!(run(&["--yes"]).contains("/music"));
    let after = std::fs::metadata(format!("{media}/films/kept")).unwrap();
    assert_eq!((before.ctime_nsec(), before.mode()), (after.ctime_nsec(), after.mode()));
    std::fs::remove_file(format!("{media}/films/kept")).unwrap();
    as_declared(layout);
}

/// Owner, group, mode and ACL of every declared folder, worked out once more from the layout's
/// words alone.
fn as_declared(layout: &Layout) {
    let host = &layout.hosts[0];
    let uid = |name: &str| host.accounts.iter().find(|a| a.name == name).map_or(0, |a| a.uid);
    let gid = |name: &str| {
        let group = host.groups.iter().find(|group| group.name == name).map(|group| group.gid);
        group.unwrap_or_else(|| {
            host.accounts.iter().find(|a| a.name == name).map_or(0, |a| a.gid.unwrap())
        })
    };
    let rights: BTreeMap<&str, Right> =
        layout.folders[0].rights.iter().map(|(who, right)| (who.raw(), *right)).collect();
    for folder in layout.folders.iter().filter(|folder| folder.host == host.name) {
        let path = folder.path.to_string();
        let meta = std::fs::metadata(&path).unwrap_or_else(|error| panic!("{path}: {error}"));
        let owner = folder.owner.as_ref().unwrap().raw();
        let group = folder.group.as_ref().map_or(owner, Name::raw);
        assert_eq!((meta.uid(), meta.gid()), (uid(owner), gid(group)), "{path}");
        assert_eq!(meta.mode() & 0o7777, u32::from(folder.mode.unwrap()), "{path}");
        let told =
            String::from_utf8(tool("getfacl", &[&"-n", &"-p", &"-c", &"-E", &path])).unwrap();
        let told: Vec<&str> = told.lines().filter(|line| !line.is_empty()).collect();
        let media = folder.path.within(&layout.folders[0].path);
        if rights.is_empty() || !media {
            assert_eq!(told.len(), 3, "{path} has an ACL: {told:?}");
            continue;
        }
        let perm = |right: Right| if right == Right::Read { "r-x" } else { "rwx" };
        let mut access = vec![
            "user::rwx".to_owned(),
            "group::rwx".into(),
            "mask::rwx".into(),
            "other::---".into(),
        ];
        for (who, right) in &rights {
            match who.strip_prefix('@') {
                Some(name) if gid(name) == meta.gid() => {}
                Some(name) => access.push(format!("group:{}:{}", gid(name), perm(*right))),
                None => access.push(format!("user:{}:{}", uid(who), perm(*right))),
            }
        }
        let mut wanted: Vec<String> = access
            .iter()
            .map(|entry| format!("default:{entry}"))
            .chain(access.iter().cloned())
            .collect();
        let mut told: Vec<String> = told.iter().map(ToString::to_string).collect();
        wanted.sort();
        told.sort();
        assert_eq!(told, wanted, "{path}");
    }
}

/// People and services add what they add, each in its own way.
fn use_it(media: &str, layout: &Layout, acls: bool, links: bool) {
    let group = |name: &str| layout.hosts[0].groups.iter().find(|g| g.name == name).unwrap().gid;
    let (people, helpers) =
        (group("household"), if acls { group("helpers") } else { group("household") });
    as_account(
        1101,
        1101,
        &people.to_string(),
        &format!(
            "umask 022; cd {media}; mkdir 'photos/2011'; echo x > 'photos/2011/weir.jpg'; \
             mkdir -p 'music/Low Tide Choir/Harbour Songs'; echo x > 'music/Low Tide Choir/Harbour \
             Songs/01 Slack Water.flac'"
        ),
    );
    // The fetcher finishes a download, the sorter links it into the library.
    as_account(
        841,
        helpers,
        "",
        &format!(
            "umask 002; cd {media}/intake; for k in films series; do mkdir partial/$k; echo x > \
             partial/$k/new.mkv; \
             mv partial/$k/new.mkv done/$k/new.mkv; done"
        ),
    );
    // ZFS through FUSE lets nobody link a file but its owner, other than ZFS on Linux.
    let file = if links { "ln" } else { "mv" };
    as_account(
        842,
        helpers,
        "",
        &format!(
            "umask 002; cd {media}; mkdir 'films/1742 (2019)' 'series/Ferry Nine'; \
             {file} intake/done/films/new.mkv 'films/1742 (2019)/1742 (2019).mkv'; \
             {file} intake/done/series/new.mkv 'series/Ferry Nine/Ferry Nine S01E01.mkv'; rm -f \
             intake/done/films/new.mkv"
        ),
    );
    // And whoever only watches, or serves, can read all of it and change nothing.
    let viewers = group("viewers");
    let (uid, gid, groups) =
        if acls { (1102, 1102, viewers.to_string()) } else { (1102, 1102, String::new()) };
    for (uid, gid, groups) in [(uid, gid, groups), (840, 840, String::new())] {
        as_account(
            uid,
            gid,
            &groups,
            &format!(
                "cd {media}; cat films/*/* series/*/* music/*/*/* photos/*/* > /dev/null; ! touch \
                 films/x 2>/dev/null; ! rm films/*/* 2>/dev/null"
            ),
        );
    }
}
