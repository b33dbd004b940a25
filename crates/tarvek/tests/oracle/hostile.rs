//! Layouts full of characters that mean something somewhere: what is emitted of them is put to the
//! programs that it is meant for, and has to hold exactly what the layout says.

use std::collections::BTreeMap;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};

use serde_json::Value;
use tarvek_core::layout::host::Host;
use tarvek_core::layout::mapping::MapSource;
use tarvek_core::layout::site::Layout;
use tarvek_formats::emit::{self, Piece};

use crate::kernel;
use crate::random::{Random, cases};

/// What layouts may hold in a path or a text, and what may not come of it.
const ODD: &[&str] = &[
    " ",
    "#",
    "%",
    "$",
    "`",
    "'",
    "\"",
    "\\",
    ";",
    "&",
    "|",
    "*",
    "?",
    "(",
    ")",
    "[",
    "]",
    "{",
    "}",
    ":",
    ",",
    "=",
    "~",
    "!",
    "<",
    ">",
    "@",
    "-",
    "ö",
    "\u{202e}",
    "\u{200b}",
    "040",
    "\\040",
    "%h",
    "%U",
    "${HOME}",
    "$(touch FORGED)",
    " #x",
    "\\n",
    "/*(rw)",
];

fn path(random: &mut Random) -> String {
    let mut path = String::new();
    for _ in 0..=random.below(2) {
        path += "/p";
        for _ in 0..random.below(4) {
            path += *random.one(ODD);
            if random.rarely(2) {
                path.push('x');
            }
        }
        path += *random.one(&["", "z", "z", "z"]);
    }
    path
}

fn name(random: &mut Random, n: u64) -> String {
    const PLAIN: &[&str] =
        &[" ", "$", "'", "&", "(", ")", "!", "~", "#", "{", "}", "`", "ö", "-", ".", "_"];
    let middle: String = (0..random.below(4)).map(|_| *random.one(PLAIN)).collect();
    format!("n{n}{middle}x").replace("  ", " ").replace("  ", " ")
}

/// A layout with one storage host and one that runs services.
fn layout(random: &mut Random) -> String {
    let text = |text: &str| {
        let escaped: String = text
            .chars()
            .flat_map(|c| if matches!(c, '"' | '\\') { vec!['\\', c] } else { vec![c] })
            .collect();
        format!("\"{escaped}\"")
    };
    let [user, group, share, service] = [1, 2, 3, 4].map(|n| name(random, n));
    let service = if random.rarely(3) { service } else { "lantern".to_owned() };
    let mut out = format!(
        "tarvek = 1\nsite = \"K\"\n[host.granary]\nrole = \"storage\"\naddresses = \
         [\"granary.lan\"]\ngroups = {{ {} = 2100 }}\n\
         [host.granary.accounts]\n{} = {{ uid = 1101, groups = [{}] }}\n[host.millrace]\nrole \
         = \"apps\"\n",
        text(&group),
        text(&user),
        text(&group)
    );
    let shared = path(random);
    out += &format!(
        "[share.{}]\nhost = \"granary\"\npath = {}\nnfs = [{{ clients = \"127.0.0.0/8\" }}]\nsmb = \
         {{ only = [{}, {}] }}\n",
        text(&share),
        text(&shared),
        text(&user),
        text(&format!("@{group}"))
    );
    out += &format!(
        "[[folder]]\nhost = \"granary\"\npath = {}\nowner = {}\nmode = \"0750\"\n",
        text(&path(random)),
        text(&user)
    );
    for n in 0..2 {
        out += &format!(
            "[[mount]]\nhost = \"millrace\"\nfrom = {}\nprotocol = \"nfs\"\nat = {}\noptions \
             = \"ro,x-note{n}\"\n",
            text(&format!("granary.lan:{}", path(random))),
            text(&format!("/m{n}{}", path(random)))
        );
    }
    out += &format!(
        "[service.{}]\nhost = \"millrace\"\nrole = \"serve\"\nruns_as = \"840:840\"\nmap = [{{ \
         from = {}, to = {}, access = \"ro\" }}]\n",
        text(&service),
        text(&path(random)),
        text(&format!("/t{}", path(random)))
    );
    out
}

fn fine(output: Output, about: &str) -> String {
    let (out, err) =
        (String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
    assert!(output.status.success(), "{about}: {out}{err}");
    out.into_owned()
}

fn written(folder: &Path, pieces: &[Piece]) -> Vec<PathBuf> {
    let write = |piece: &Piece| {
        let path = folder.join(&piece.name);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(&path, &piece.text).unwrap();
        path
    };
    pieces.iter().map(write).collect()
}

/// What `exportfs -s` shows of a path.
fn unescaped(text: &str) -> String {
    String::from_utf8(tarvek_formats::escape::unescape(text.as_bytes())).unwrap()
}

fn exports(folder: &Path, layout: &Layout, host: &Host, pieces: &[Piece]) {
    let file = written(folder, pieces).remove(0);
    std::fs::OpenOptions::new().create(true).append(true).open("/etc/exports").unwrap();
    kernel::bind(&file, Path::new("/etc/exports"));
    kernel::tmpfs(Path::new("/srv"));
    for share in layout.shares.iter().filter(|share| share.host == host.name) {
        let path = String::from_utf8(share.path.as_bytes().to_vec()).unwrap();
        std::fs::create_dir_all(&path).unwrap();
        fine(Command::new("exportfs").arg("-r").output().unwrap(), &path);
        let told = fine(Command::new("exportfs").arg("-s").output().unwrap(), &path);
        std::fs::remove_dir_all(format!("/{}", path.split('/').nth(1).unwrap())).unwrap();
        let lines: Vec<&str> = told.lines().collect();
        let [line] = lines[..] else { panic!("{path:?}: {told}") };
        let (shown, clients) = line.rsplit_once("  ").unwrap_or_else(|| panic!("{line}"));
        assert_eq!(unescaped(shown.trim()), path, "{line}");
        assert!(
            clients.starts_with("127.0.0.0/8(")
                && clients.contains(",ro,") | clients.contains("(ro,"),
            "{line}"
        );
    }
    nix::mount::umount("/srv").unwrap();
    nix::mount::umount("/etc/exports").unwrap();
}

fn smb(folder: &Path, layout: &Layout, host: &Host, pieces: &[Piece]) {
    let config = folder.join("smb.conf");
    std::fs::write(&config, format!("[global]\n{}", pieces[0].text)).unwrap();
    for share in layout.shares.iter().filter(|share| share.host == host.name) {
        let ask = |parameter: &str| {
            let mut testparm = Command::new("testparm");
            testparm.arg("-s").arg("--section-name").arg(share.name.raw());
            testparm.arg("--parameter-name").arg(parameter).arg(&config);
            fine(testparm.output().unwrap(), parameter).trim_end_matches('\n').to_owned()
        };
        let path = String::from_utf8(share.path.as_bytes().to_vec()).unwrap();
        // The server takes quotation marks around a value off itself.
        let told = ask("path");
        let inner = told.strip_prefix('"').and_then(|inner| inner.strip_suffix('"'));
        assert_eq!(inner.unwrap_or(&told), path, "{}", pieces[0].text);
        let users = ask("valid users");
        for user in &share.smb.as_ref().unwrap().only {
            assert!(users.contains(user.raw()), "{users}: {user:?}");
        }
    }
    let all =
        fine(Command::new("testparm").args(["-s"]).arg(&config).output().unwrap(), "testparm");
    let sections: Vec<&str> = all.lines().filter(|line| line.starts_with('[')).collect();
    assert_eq!(sections.len(), 2, "{all}");
}

fn fstab(folder: &Path, layout: &Layout, host: &Host, pieces: &[Piece]) {
    let file = written(folder, pieces).remove(0);
    let mut findmnt = Command::new("findmnt");
    findmnt
        .args([
            "--json",
            "--list",
            "--notruncate",
            "-o",
            "SOURCE,TARGET,FSTYPE,OPTIONS",
            "--tab-file",
        ])
        .arg(&file);
    let told: Value = serde_json::from_str(&fine(findmnt.output().unwrap(), "findmnt")).unwrap();
    let told = told["filesystems"].as_array().unwrap();
    let mounts: Vec<_> = layout.mounts.iter().filter(|mount| mount.host == host.name).collect();
    assert_eq!(told.len(), mounts.len(), "{}", pieces[0].text);
    for (told, mount) in told.iter().zip(mounts) {
        assert_eq!(told["source"], layout.source_name(&mount.from).raw());
        assert_eq!(told["target"].as_str().unwrap().as_bytes(), mount.at.as_bytes());
        assert_eq!(told["options"], mount.options.to_string());
    }
}

fn systemd(folder: &Path, layout: &Layout, host: &Host, pieces: &[Piece]) {
    let units = written(folder, pieces);
    // After a colon in an argument it expects another name of the unit.
    let plain: Vec<&PathBuf> =
        units.iter().filter(|unit| !unit.to_string_lossy().contains(':')).collect();
    if plain.is_empty() {
        return;
    }
    let output = Command::new("systemd-analyze").arg("verify").args(&plain).output().unwrap();
    let errors = format!("{}{units:?}", String::from_utf8_lossy(&output.stderr));
    assert_eq!(fine(output, &errors) + &errors, format!("{units:?}"));
    let mounts = layout.mounts.iter().filter(|mount| mount.host == host.name);
    let names: Vec<String> = mounts
        .map(|mount| {
            let point = String::from_utf8(mount.at.as_bytes().to_vec()).unwrap();
            let escape =
                Command::new("systemd-escape").args(["-p", "--suffix=mount", &point]).output();
            fine(escape.unwrap(), &point).trim_end_matches('\n').to_owned()
        })
        .collect();
    for name in names {
        assert!(units.iter().any(|unit| unit.ends_with(&name)), "{name}: {units:?}");
    }
    // No line makes a section of its own.
    let headers =
        pieces.iter().flat_map(|piece| piece.text.lines()).filter(|line| line.starts_with('['));
    assert!(
        headers
            .into_iter()
            .all(|line| matches!(line, "[Unit]" | "[Mount]" | "[Automount]" | "[Install]"))
    );
}

fn compose(folder: &Path, layout: &Layout, host: &Host, pieces: &[Piece]) {
    let file = written(folder, pieces).remove(0);
    // It prints YAML, which the library that it reads YAML with turns into JSON.
    let json = "import json, sys, yaml; json.dump(yaml.safe_load(sys.stdin), sys.stdout)";
    let script = r#"docker-compose -f "$1" config | python3 -c "$2""#;
    let mut compose = Command::new("bash");
    compose.args(["-o", "pipefail", "-c", script, "sh"]).arg(&file).arg(json);
    // Which image it is, the file leaves to a variable.
    let variable = pieces[0].text.split_once("${").unwrap().1.split(':').next().unwrap();
    compose.env(variable, "x").env("HOME", "/forged");
    let told = fine(compose.output().unwrap(), &pieces[0].text);
    let told: Value = serde_json::from_str(&told).unwrap();
    let services = told["services"].as_object().unwrap();
    assert_eq!(services.len(), 1, "{told}");
    let service = layout.services.iter().find(|service| service.host == host.name).unwrap();
    let mount = &services[service.name.raw()]["volumes"][0];
    let MapSource::Folder(from) = &service.maps()[0].source else { panic!() };
    // Compose keeps a dollar sign doubled in what it prints, since it may be read again.
    let plain = |value: &Value| value.as_str().unwrap().replace("$$", "$");
    let clean = |path: &str| Path::new(path).components().collect::<PathBuf>();
    assert_eq!(clean(&plain(&mount["source"])), clean(from.written.raw()), "{}", pieces[0].text);
    assert_eq!(
        clean(&plain(&mount["target"])),
        clean(service.maps()[0].to.written.raw()),
        "{}",
        pieces[0].text
    );
    assert_eq!(mount["read_only"], true);
}

/// Runs a script in which every command writes down how it was called, and returns the calls.
fn called(folder: &Path, pieces: &[Piece]) -> Vec<Vec<String>> {
    let (bin, log, work) = (folder.join("bin"), folder.join("log"), folder.join("work"));
    std::fs::create_dir_all(&bin).unwrap();
    std::fs::create_dir_all(&work).unwrap();
    for name in [
        "groupadd", "useradd", "usermod", "getent", "zfs", "setfacl", "getfacl", "chown", "chgrp",
        "chmod", "mkdir", "stat",
    ] {
        let fails = if matches!(name, "getent" | "zfs" | "stat") { 1 } else { 0 };
        let stub = format!(
            "#!/bin/sh\nprintf '%s\\0' {name} \"$@\" >>\"$LOG\"\nprintf '\\001\\0' >>\"$LOG\"\n\
             exit {fails}\n"
        );
        std::fs::write(bin.join(name), stub).unwrap();
        std::fs::set_permissions(bin.join(name), std::fs::Permissions::from_mode(0o755)).unwrap();
    }
    let script = written(folder, pieces).remove(0);
    for shell in ["dash", "bash"] {
        let _ = std::fs::remove_file(&log);
        let path = format!("{}:/usr/bin:/bin", bin.display());
        let mut sh = Command::new(shell);
        let output = sh
            .arg(&script)
            .arg("--yes")
            .current_dir(&work)
            .env("PATH", path)
            .env("LOG", &log)
            .output()
            .unwrap();
        let told = String::from_utf8_lossy(&output.stderr).into_owned();
        assert!(
            !told.contains("not found") && !told.contains("yntax"),
            "{told}\n{}",
            pieces[0].text
        );
        assert_eq!(std::fs::read_dir(&work).unwrap().count(), 0, "something was made in {work:?}");
    }
    let log = String::from_utf8(std::fs::read(&log).unwrap_or_default()).unwrap();
    let calls = log.split("\u{1}\0").filter(|call| !call.is_empty());
    calls.map(|call| call.trim_end_matches('\0').split('\0').map(str::to_owned).collect()).collect()
}

fn accounts(folder: &Path, _: &Layout, host: &Host, pieces: &[Piece]) {
    let calls = called(folder, pieces);
    for account in &host.accounts {
        let made = calls
            .iter()
            .any(|call| call[0] == "useradd" && call.last().unwrap() == account.name.raw());
        assert!(made, "{calls:?}");
    }
    for group in &host.groups {
        let wanted =
            ["groupadd", "-g", &group.gid.to_string(), group.name.raw()].map(str::to_owned);
        assert!(calls.iter().any(|call| call[..] == wanted), "{calls:?}");
    }
}

fn script(folder: &Path, layout: &Layout, host: &Host, pieces: &[Piece]) {
    let calls = called(folder, pieces);
    for place in layout.folders.iter().filter(|place| place.host == host.name) {
        let path = String::from_utf8(place.path.as_bytes().to_vec()).unwrap();
        let wanted = ["mkdir", "-p", "--", &path].map(str::to_owned);
        assert!(calls.iter().any(|call| call[..] == wanted), "{path:?}: {calls:?}");
    }
}

type Reader = fn(&Path, &Layout, &Host, &[Piece]);
type Writer = fn(&Layout, &Host, &str) -> emit::Emitted;

#[test]
fn emitted_files_hold_exactly_what_the_layout_says() {
    kernel::private_mounts();
    let mut random = Random::from_env("hostile");
    let all: [(&str, &str, Writer, Reader); 7] = [
        ("exports", "granary", emit::exports, exports),
        ("smb", "granary", emit::smb, smb),
        ("accounts", "granary", emit::accounts, accounts),
        ("script", "granary", emit::script, script),
        ("fstab", "millrace", emit::fstab, fstab),
        ("systemd", "millrace", emit::systemd, systemd),
        ("compose", "millrace", emit::compose, compose),
    ];
    let mut told: BTreeMap<&str, (u32, u32)> = BTreeMap::new();
    for case in 0..cases(15) {
        let text = layout(&mut random);
        let layout = match tarvek_formats::layout::read("tarvek.toml", text.as_bytes()) {
            Ok(layout) => layout,
            Err(refused) => panic!("case {case}: {refused}\n{text}"),
        };
        for (what, host, write, read) in all {
            let folder = tempfile::tempdir().unwrap();
            let host = layout.host(&host.into()).unwrap();
            let count = told.entry(what).or_default();
            match write(&layout, host, "tarvek.toml") {
                Ok(pieces) => {
                    read(folder.path(), &layout, host, &pieces);
                    count.0 += 1;
                }
                Err(unsayable) => {
                    assert!(unsayable.origin.line > 0, "{unsayable:?}");
                    count.1 += 1;
                }
            }
        }
    }
    eprintln!("hostile: read back and refused {told:?}");
    for (what, (read, _)) in told {
        assert!(read > 0, "no {what} was read back");
    }
}
