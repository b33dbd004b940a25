//! What this machine says of itself, as text: the documents of a survey.

use std::collections::{BTreeMap, BTreeSet};
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use rustix::io::Errno;
use tarvek_core::facts::host::Document;
use tarvek_core::facts::mounts::{MountEntry, MountTable};
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::terms::Access;
use tarvek_formats::escape::escape;

/// ZFS properties that rules need.
const ZFS: &str = "type,mountpoint,used,available,quota,refquota,recordsize,compression,atime,xattr,acltype,aclmode,aclinherit,casesensitivity,readonly,usedbysnapshots";

/// Everything this machine has of them; what it lacks is left out.
pub(crate) fn documents(mounts: Option<&MountTable>) -> Vec<Document> {
    let mut all = vec![settings()];
    let mut add = |name: &str, text: Option<Vec<u8>>| {
        all.extend(text.filter(|text| !text.is_empty()).map(|text| Document::new(name, &text)));
    };
    add(
        "selinux",
        std::fs::read("/sys/fs/selinux/enforce").ok().map(|text| {
            if text.starts_with(b"1") { b"enforcing\n".to_vec() } else { b"permissive\n".to_vec() }
        }),
    );
    add("exports", Some(joined(&exports_files())));
    add("smb", output("testparm", ["-s"]).or_else(|| std::fs::read("/etc/samba/smb.conf").ok()));
    add("units", Some(joined(&unit_files())));
    add(
        "zfs",
        output("zfs", ["get", "-H", "-o", "name,property,value", "-t", "filesystem", ZFS])
            .or_else(|| output("zfs", ["get", "-H", "-o", "name,property,value", "all"])),
    );
    add("btrfs", Some(points(mounts, "btrfs").flat_map(btrfs).collect()));
    add("xfs", Some(points(mounts, "xfs").flat_map(xfs).collect()));
    add("beneath", mounts.map(crate::beneath::document));
    add("capacity", output("df", ["-kP"]));
    add("ports", Some(ports()));
    add("processes", Some(crate::process::document()));
    add("subuid", std::fs::read("/etc/subuid").ok());
    add("subgid", std::fs::read("/etc/subgid").ok());
    all
}

/// The newest snapshot of each ZFS dataset that has any, and when it was made, in seconds since
/// 1970 UTC; `None` where that is not told.
pub(crate) fn newest_snapshots() -> BTreeMap<Vec<u8>, Option<i64>> {
    let list = |parsable: &[&str]| {
        let arguments = ["list", "-H", "-t", "snapshot", "-o", "name,creation"];
        output("zfs", arguments.iter().chain(parsable))
    };
    let text = list(&["-p"]).or_else(|| list(&[])).unwrap_or_default();
    let mut newest: BTreeMap<Vec<u8>, Option<i64>> = BTreeMap::new();
    for line in text.split(|b| *b == b'\n') {
        let mut fields = line.split(|b| *b == b'\t');
        let Some(dataset) = fields.next().and_then(|name| name.split(|b| *b == b'@').next()) else {
            continue;
        };
        if dataset.is_empty() {
            continue;
        }
        let made =
            fields.next().and_then(|made| std::str::from_utf8(made).ok()?.trim().parse().ok());
        let known = newest.entry(dataset.to_vec()).or_insert(made);
        *known = known.zip(made).map(|(one, other): (i64, i64)| one.max(other));
    }
    newest
}

/// Accounts and groups as the system's name service knows them; the files alone where it can't be
/// asked.
pub(crate) fn name_service() -> (Vec<u8>, Vec<u8>) {
    let ask = |what: &str| {
        output("getent", [what])
            .unwrap_or_else(|| std::fs::read(format!("/etc/{what}")).unwrap_or_default())
    };
    (ask("passwd"), ask("group"))
}

/// What a standard program prints, if it is there and succeeds. It gets no input and no say in what
/// is run.
fn output(
    program: &str,
    arguments: impl IntoIterator<Item = impl AsRef<std::ffi::OsStr>>,
) -> Option<Vec<u8>> {
    let mut command = Command::new(program);
    command.args(arguments).env("LC_ALL", "C").stdin(Stdio::null()).stderr(Stdio::null());
    let output = command.output().ok()?;
    output.status.success().then_some(output.stdout)
}

/// Settings of the kernel that decide about files.
pub(crate) fn settings() -> Document {
    Document::new("sysctl", &sysctls())
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

/// Where filesystems of a type are mounted, once per filesystem.
fn points<'a>(
    mounts: Option<&'a MountTable>,
    filesystem: &str,
) -> impl Iterator<Item = &'a MountEntry> {
    let mut seen = BTreeSet::new();
    mounts
        .into_iter()
        .flat_map(MountTable::entries)
        .filter(move |entry| entry.filesystem == filesystem)
        .filter(move |entry| seen.insert(entry.device))
}

/// Subvolumes, which of them are read-only, and quota groups where they are on
/// (`btrfs-subvolume(8)`, `btrfs-qgroup(8)`).
fn btrfs(mount: &MountEntry) -> Vec<u8> {
    let point = std::ffi::OsStr::from_bytes(mount.point.as_bytes());
    let name = written(mount);
    let mut text = Vec::new();
    for (what, arguments) in [
        ("", &["subvolume", "list"][..]),
        (" read-only", &["subvolume", "list", "-r"]),
        (" quota", &["qgroup", "show", "-re", "--raw"]),
    ] {
        let arguments = arguments.iter().map(std::ffi::OsStr::new).chain([point]);
        let Some(lines) = output("btrfs", arguments) else { continue };
        text.extend(format!("# {name}{what}\n").into_bytes());
        for line in String::from_utf8_lossy(&lines).lines() {
            text.extend(without_generation(line).into_bytes());
            text.push(b'\n');
        }
    }
    text
}

/// Notes which Btrfs subvolumes on the way to some places are read-only. Anybody can tell that of a
/// folder, where `btrfs-subvolume(8)` tells root only: nothing in one may be written, whoever asks
/// (`btrfs_permission` in the kernel).
pub(crate) fn add_subvolumes<'a>(
    documents: &mut Vec<Document>,
    mounts: &MountTable,
    places: impl Iterator<Item = &'a AbsPath>,
) {
    let mut met = BTreeSet::new();
    let mut lines = String::new();
    for place in places {
        let real = std::fs::canonicalize(OsStr::from_bytes(place.as_bytes())).ok();
        let real = real.and_then(|real| AbsPath::new(real.as_os_str().as_bytes()).ok());
        let mut next = real.or_else(|| Some(place.clone()));
        while let Some(path) = next {
            next = path.parent();
            if !met.insert(path.clone()) {
                continue;
            }
            let on_btrfs = |mount: &&MountEntry| {
                mount.filesystem == "btrfs" && mount.access() == Access::ReadWrite
            };
            let Some(mount) = mounts.at(&path).filter(on_btrfs) else { continue };
            let Some((_, inside)) = mounts.in_filesystem(mount.id, &path) else { continue };
            let Some(kind) = subvolume(&path) else { continue };
            let inside = String::from_utf8_lossy(&inside.as_bytes()[1..]).into_owned();
            lines += &format!("# {}{kind}\nID 256 top level 5 path {inside}\n", written(mount));
        }
    }
    if lines.is_empty() {
        return;
    }
    match documents.iter_mut().find(|document| document.name == "btrfs") {
        Some(document) => document.text += &lines,
        None => documents.push(Document::new("btrfs", lines.as_bytes())),
    }
}

/// What a folder on a writable mount tells of its Btrfs subvolume, as a heading of the document has
/// it: of one that is read-only every folder tells, of another one its top (inode 256).
fn subvolume(path: &AbsPath) -> Option<&'static str> {
    let path = OsStr::from_bytes(path.as_bytes());
    let meta = std::fs::symlink_metadata(path).ok().filter(std::fs::Metadata::is_dir)?;
    let is_read_only = rustix::fs::access(path, rustix::fs::Access::WRITE_OK) == Err(Errno::ROFS);
    match (is_read_only, meta.ino()) {
        (true, _) => Some(" read-only"),
        (false, 256) => Some(""),
        (false, _) => None,
    }
}

/// A mount point as the mount table writes it.
fn written(mount: &MountEntry) -> String {
    String::from_utf8_lossy(&escape(mount.point.as_bytes(), true)).into_owned()
}

/// `ID 256 gen 10 top level 5 path sub` without the generation, which counts every change.
fn without_generation(line: &str) -> String {
    let Some((before, after)) = line.split_once(" gen ") else { return line.to_owned() };
    let rest = after.trim_start_matches(|c: char| c.is_ascii_digit());
    format!("{before}{rest}")
}

/// Blocks used and allowed per user, group and project, where quota is on (`xfs_quota(8)`).
fn xfs(mount: &MountEntry) -> Vec<u8> {
    let point = std::ffi::OsStr::from_bytes(mount.point.as_bytes());
    let arguments = ["-x", "-c", "report -ugp -b -n -N"].map(std::ffi::OsStr::new);
    let Some(lines) = output("xfs_quota", arguments.into_iter().chain([point])) else {
        return Vec::new();
    };
    if lines.is_empty() {
        return lines;
    }
    let mut text = format!("# {} quota\n", written(mount)).into_bytes();
    text.extend(lines);
    text
}

/// Listening sockets, from `/proc/net` (`proc_pid_net(5)`): protocol, port, address in hexadecimal
/// as the kernel prints it, the uid that owns the socket, and the program that holds it, where that
/// may be seen.
fn ports() -> Vec<u8> {
    let programs = socket_programs();
    let mut lines = Vec::new();
    for (protocol, listening) in [("tcp", "0A"), ("tcp6", "0A"), ("udp", "07"), ("udp6", "07")] {
        let text = std::fs::read_to_string(format!("/proc/net/{protocol}")).unwrap_or_default();
        for line in text.lines().skip(1) {
            let fields: Vec<&str> = line.split_whitespace().collect();
            let [_, local, _, state, _, _, _, uid, _, inode, ..] = fields.as_slice() else {
                continue;
            };
            let Some((address, port)) = local.split_once(':').filter(|_| *state == listening)
            else {
                continue;
            };
            let Ok(port) = u16::from_str_radix(port, 16) else { continue };
            let by = programs.get(*inode).map_or("-", String::as_str);
            lines.push(format!("{protocol} {port} {address} uid={uid} by={by}\n"));
        }
    }
    lines.sort();
    lines.dedup();
    lines.concat().into_bytes()
}

/// The program with the lowest process id that holds each socket, by the socket's inode
/// (`proc_pid_fd(5)`).
fn socket_programs() -> BTreeMap<String, String> {
    let mut programs = BTreeMap::new();
    let Ok(processes) = std::fs::read_dir("/proc") else { return programs };
    let mut ids: Vec<u32> =
        processes.filter_map(|entry| entry.ok()?.file_name().to_str()?.parse().ok()).collect();
    ids.sort_unstable();
    for id in ids {
        let Ok(handles) = std::fs::read_dir(format!("/proc/{id}/fd")) else { continue };
        for handle in handles.flatten() {
            let Ok(target) = std::fs::read_link(handle.path()) else { continue };
            let socket =
                target.to_str().and_then(|t| t.strip_prefix("socket:[")?.strip_suffix(']'));
            if let Some(inode) = socket
                && !programs.contains_key(inode)
                && let Ok(name) = std::fs::read_to_string(format!("/proc/{id}/comm"))
            {
                programs.insert(inode.to_owned(), name.trim_end().to_owned());
            }
        }
    }
    programs
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_subvolume_is_told_without_its_generation() {
        let line = "ID 256 gen 10 top level 5 path gen 7/sub";
        assert_eq!(without_generation(line), "ID 256 top level 5 path gen 7/sub");
        assert_eq!(without_generation("0/5 16384 none"), "0/5 16384 none");
    }
}
