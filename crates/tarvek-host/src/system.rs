//! What this machine says of itself, as text: the documents of a survey.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use tarvek_core::facts::Document;

/// ZFS properties that rules need.
const ZFS: &str = "type,mountpoint,used,available,quota,refquota,recordsize,compression,atime,xattr,acltype,aclmode,aclinherit,casesensitivity,readonly,usedbysnapshots";

/// Everything this machine has of them; what it lacks is left out.
pub(crate) fn documents() -> Vec<Document> {
    let mut all = Vec::new();
    let mut add = |name: &str, text: Option<Vec<u8>>| {
        all.extend(text.filter(|text| !text.is_empty()).map(|text| Document::new(name, &text)));
    };
    add("sysctl", Some(sysctls()));
    add(
        "selinux",
        std::fs::read("/sys/fs/selinux/enforce").ok().map(|text| {
            if text.starts_with(b"1") { b"enforcing\n".to_vec() } else { b"permissive\n".to_vec() }
        }),
    );
    add("exports", Some(joined(&exports_files())));
    add("smb", output("testparm", &["-s"]).or_else(|| std::fs::read("/etc/samba/smb.conf").ok()));
    add("units", Some(joined(&unit_files())));
    add(
        "zfs",
        output("zfs", &["get", "-H", "-o", "name,property,value", ZFS, "-t", "filesystem"])
            .or_else(|| output("zfs", &["get", "-H", "-o", "name,property,value", "all"])),
    );
    add("capacity", output("df", &["-kP"]));
    add("ports", Some(ports()));
    add("subuid", std::fs::read("/etc/subuid").ok());
    add("subgid", std::fs::read("/etc/subgid").ok());
    all
}

/// Accounts and groups as the system's name service knows them; the files alone where it can't be asked.
pub(crate) fn name_service() -> (Vec<u8>, Vec<u8>) {
    let ask = |what: &str| {
        output("getent", &[what])
            .unwrap_or_else(|| std::fs::read(format!("/etc/{what}")).unwrap_or_default())
    };
    (ask("passwd"), ask("group"))
}

/// What a standard program prints, if it is there and succeeds. It gets no input and no say in what is run.
fn output(program: &str, arguments: &[&str]) -> Option<Vec<u8>> {
    let mut command = Command::new(program);
    command.args(arguments).env("LC_ALL", "C").stdin(Stdio::null()).stderr(Stdio::null());
    let output = command.output().ok()?;
    output.status.success().then_some(output.stdout)
}

fn sysctls() -> Vec<u8> {
    let names = [
        "protected_hardlinks",
        "protected_symlinks",
        "protected_regular",
        "protected_fifos",
        "overflowuid",
        "overflowgid",
    ];
    let mut text = Vec::new();
    for name in names {
        if let Ok(value) = std::fs::read(format!("/proc/sys/fs/{name}")) {
            text.extend(format!("fs.{name} = ").into_bytes());
            text.extend(value);
        }
    }
    text
}

fn exports_files() -> Vec<PathBuf> {
    let mut files = vec![PathBuf::from("/etc/exports")];
    files.extend(files_in("/etc/exports.d", &["exports"]));
    files
}

fn unit_files() -> Vec<PathBuf> {
    let folders = ["/etc/systemd/system", "/run/systemd/system", "/run/systemd/generator"];
    folders.iter().flat_map(|folder| files_in(folder, &["mount", "automount"])).collect()
}

/// Regular files of a folder with certain endings, in order.
fn files_in(folder: &str, endings: &[&str]) -> Vec<PathBuf> {
    let Ok(entries) = std::fs::read_dir(folder) else { return Vec::new() };
    let mut files: Vec<PathBuf> = entries
        .filter_map(|entry| Some(entry.ok()?.path()))
        .filter(|path| path.extension().is_some_and(|e| endings.iter().any(|known| e == *known)))
        .filter(|path| path.is_file())
        .collect();
    files.sort();
    files
}

/// Files one after another, each under a comment with its name.
fn joined(files: &[PathBuf]) -> Vec<u8> {
    let mut text = Vec::new();
    for file in files {
        let Ok(contents) = read_small(file) else { continue };
        text.extend(format!("# {}\n", file.display()).into_bytes());
        text.extend(&contents);
        if !contents.ends_with(b"\n") {
            text.push(b'\n');
        }
    }
    text
}

fn read_small(file: &Path) -> std::io::Result<Vec<u8>> {
    if std::fs::metadata(file)?.len() > 1 << 20 {
        return Err(std::io::ErrorKind::FileTooLarge.into());
    }
    std::fs::read(file)
}

/// Listening sockets, from `/proc/net` (`proc_pid_net(5)`): protocol, port, address in hexadecimal as the kernel prints it, and the uid
/// that owns the socket.
fn ports() -> Vec<u8> {
    let mut lines = Vec::new();
    for (protocol, listening) in [("tcp", "0A"), ("tcp6", "0A"), ("udp", "07"), ("udp6", "07")] {
        let text = std::fs::read_to_string(format!("/proc/net/{protocol}")).unwrap_or_default();
        for line in text.lines().skip(1) {
            let fields: Vec<&str> = line.split_whitespace().collect();
            let (Some(local), Some(state), Some(uid)) =
                (fields.get(1), fields.get(3), fields.get(7))
            else {
                continue;
            };
            let Some((address, port)) = local.split_once(':').filter(|_| *state == listening)
            else {
                continue;
            };
            let Ok(port) = u16::from_str_radix(port, 16) else { continue };
            lines.push(format!("{protocol} {port} {address} uid={uid}\n"));
        }
    }
    lines.sort();
    lines.dedup();
    lines.concat().into_bytes()
}
