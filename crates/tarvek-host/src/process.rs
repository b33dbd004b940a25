//! A running process of this machine, as the kernel shows it (`proc(5)`): its mounts, its root, and who it is.

use std::fs::File;
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::path::{Path, PathBuf};

use rustix::fs::{CWD, Mode, OFlags, StatVfsMountFlags};
use tarvek_core::facts::configured::{Configuration, Configured, Fact, MappingFact, ServiceFact};
use tarvek_core::facts::mounts::{MountEntry, MountTable};
use tarvek_core::kernel::subject::{Capabilities, IdMap, IdRange, Subject};
use tarvek_core::words::name::Name;
use tarvek_core::words::options::MountOptions;
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::spot::Spot;
use tarvek_formats::mountinfo;

/// The whole range of ids: a namespace that has it is as good as none.
const ALL: u32 = u32::MAX;

/// A process that is looked at.
#[derive(Debug)]
pub struct Process {
    pub pid: u32,
    /// When it was started, in ticks since the machine was: together with the pid it tells it from a later one.
    start: u64,
    /// Its root folder.
    root: OwnedFd,
    pub mounts: MountTable,
    pub status: Status,
    /// `None` where it has the namespace of whoever looks.
    pub ids: Option<IdMap>,
}

/// Who a process is, in ids of whoever looks.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Status {
    /// The ids that decide about files (`Uid`, `Gid`: the fourth).
    pub uid: u32,
    pub gid: u32,
    pub groups: Vec<u32>,
    /// Effective capabilities, a bit each (`capabilities(7)`).
    pub capabilities: u64,
    pub umask: Option<u16>,
    /// The program's name.
    pub name: String,
    pub parent: u32,
}

impl Status {
    /// Reads `/proc/PID/status`; `None` if a line that is needed is missing.
    pub fn read(text: &str) -> Option<Self> {
        let line = |key: &str| {
            let line = text.lines().find_map(|line| line.strip_prefix(key)?.strip_prefix(':'));
            line.map(str::trim)
        };
        let fourth = |key: &str| line(key)?.split_whitespace().nth(3)?.parse().ok();
        let groups = line("Groups")?.split_whitespace().map(str::parse).collect::<Result<_, _>>();
        Some(Self {
            uid: fourth("Uid")?,
            gid: fourth("Gid")?,
            groups: groups.ok()?,
            capabilities: u64::from_str_radix(line("CapEff")?, 16).ok()?,
            umask: line("Umask").and_then(|umask| u16::from_str_radix(umask, 8).ok()),
            name: line("Name").unwrap_or_default().to_owned(),
            parent: line("PPid").and_then(|parent| parent.parse().ok()).unwrap_or(0),
        })
    }
}

/// Reads `/proc/PID/uid_map` or `gid_map`.
fn ranges(text: &str) -> Vec<IdRange> {
    let range = |line: &str| {
        let mut numbers = line.split_whitespace().map(str::parse);
        let mut next = || numbers.next()?.ok();
        Some(IdRange { inside: next()?, outside: next()?, count: next()? })
    };
    text.lines().filter_map(range).collect()
}

fn in_proc(pid: u32, name: &str) -> PathBuf {
    Path::new("/proc").join(pid.to_string()).join(name)
}

/// When a process was started: the field is the 22nd, and the second may have anything in its brackets.
fn start_of(pid: u32) -> io::Result<u64> {
    let stat = std::fs::read_to_string(in_proc(pid, "stat"))?;
    let rest = stat.rsplit_once(')').map_or("", |(_, rest)| rest);
    let start = rest.split_whitespace().nth(19).and_then(|start| start.parse().ok());
    start.ok_or_else(|| io::Error::new(io::ErrorKind::InvalidData, "its stat has no start time"))
}

impl Process {
    /// Takes hold of a process.
    ///
    /// # Errors
    /// If there is none, if it ends meanwhile, or if it may not be looked at (`ptrace(2)`, access mode checking).
    pub fn open(pid: u32) -> io::Result<Self> {
        let start = start_of(pid)?;
        let read = |name: &str| std::fs::read_to_string(in_proc(pid, name));
        let invalid = |what: &str| io::Error::new(io::ErrorKind::InvalidData, what.to_owned());
        let status =
            Status::read(&read("status")?).ok_or_else(|| invalid("its status lacks ids"))?;
        let root = rustix::fs::openat(
            CWD,
            in_proc(pid, "root").as_path(),
            OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC,
            Mode::empty(),
        )?;
        let table = std::fs::read(in_proc(pid, "mountinfo"))?;
        let table = mountinfo::read(&table)
            .map_err(|(line, why)| invalid(&format!("its mount table, line {line}: {why}")))?;
        let mounts = with_root(table, root.as_fd(), pid)?;
        let ids = match File::open(in_proc(pid, "ns/user"))
            .and_then(|theirs| same(&theirs, Path::new("/proc/self/ns/user")))?
        {
            true => None,
            false => {
                Some(IdMap { uids: ranges(&read("uid_map")?), gids: ranges(&read("gid_map")?) })
            }
        };
        let process = Self { pid, start, root, mounts, status, ids };
        process.still_there()?;
        Ok(process)
    }

    /// Whether it is still the process that was opened.
    ///
    /// # Errors
    /// If it ended, or another has its number by now.
    pub fn still_there(&self) -> io::Result<()> {
        match start_of(self.pid) {
            Ok(start) if start == self.start => Ok(()),
            Err(error) if error.kind() != io::ErrorKind::NotFound => Err(error),
            _ => Err(io::Error::new(io::ErrorKind::NotFound, "it ended while it was looked at")),
        }
    }

    /// Its root folder.
    pub(crate) fn root(&self) -> BorrowedFd<'_> {
        self.root.as_fd()
    }

    /// What the process goes by as a viewpoint: no host of a layout has a colon in its name.
    pub fn name(&self) -> Name {
        name_of(self.pid)
    }

    /// Who it is.
    pub fn subject(&self) -> Subject {
        let has = |bit: u32| self.status.capabilities >> bit & 1 == 1;
        let capabilities =
            Capabilities { dac_override: has(1), dac_read_search: has(2), fowner: has(3) };
        let subject = Subject {
            capabilities,
            ..Subject::new(self.status.uid, self.status.gid, self.status.groups.iter().copied())
        };
        match &self.ids {
            Some(ids) if !whole(ids) => ids.bound(subject),
            _ => subject,
        }
    }
}

/// Mounts of a container that its engine makes for itself, and that hold no media.
const OF_ENGINES: [&[u8]; 3] = [b"/etc/resolv.conf", b"/etc/hostname", b"/etc/hosts"];

/// Filesystems that the kernel makes up.
const MADE_UP: [&str; 12] = [
    "proc",
    "sysfs",
    "devtmpfs",
    "devpts",
    "cgroup",
    "cgroup2",
    "mqueue",
    "securityfs",
    "debugfs",
    "tracefs",
    "configfs",
    "bpf",
];

/// What runs on this machine in mounts of its own, each tree of processes as a service: named after its unit or program, with what it
/// sees of the host's files. Also how many processes may not be looked at.
pub fn running() -> (Configuration, usize) {
    let mut found = Configuration::default();
    let mut unseen = 0;
    let host = crate::observe::own_mounts().unwrap_or_default();
    let pids = std::fs::read_dir("/proc").into_iter().flatten().flatten();
    let mut pids: Vec<u32> =
        pids.filter_map(|entry| entry.file_name().to_str()?.parse().ok()).collect();
    pids.sort_unstable();
    let mut spaces: Vec<u64> = mount_space("self").into_iter().collect();
    let mut names: Vec<String> = Vec::new();
    for pid in pids {
        let Some(space) = mount_space(&pid.to_string()) else {
            // A process that ended is none that may not be looked at.
            unseen += usize::from(start_of(pid).is_ok());
            continue;
        };
        if spaces.contains(&space) {
            continue;
        }
        // A thread of the kernel runs no program.
        if std::fs::read_link(in_proc(pid, "exe")).is_err() {
            continue;
        }
        let Ok(process) = Process::open(pid) else { continue };
        spaces.push(space);
        let mut name = unit_of(pid).unwrap_or_else(|| process.status.name.clone());
        if names.contains(&name) {
            name = format!("{name}-{pid}");
        }
        names.push(name.clone());
        process.tell(&name.as_str().into(), &host, &mut found);
    }
    (found, unseen)
}

/// The number of a process's mount namespace.
fn mount_space(pid: &str) -> Option<u64> {
    use std::os::unix::fs::MetadataExt;
    Some(std::fs::metadata(format!("/proc/{pid}/ns/mnt")).ok()?.ino())
}

/// What a process's cgroup calls it: the unit, or what an engine named its scope after.
fn unit_of(pid: u32) -> Option<String> {
    let text = std::fs::read_to_string(in_proc(pid, "cgroup")).ok()?;
    let paths = text.lines().filter_map(|line| line.splitn(3, ':').nth(2));
    // An engine may put folders of its own below that of the unit.
    let is_unit = |part: &&str| part.ends_with(".service") || part.ends_with(".scope");
    let unit = { paths }.find_map(|path| path.rsplit('/').find(is_unit))?;
    let name = unit.rsplit_once('.').map_or(unit, |(name, _)| name);
    // The first digits of a long hexadecimal number say as much.
    let is_hex = |tail: &&str| tail.len() >= 32 && tail.bytes().all(|b| b.is_ascii_hexdigit());
    Some(match name.rsplit('-').next().filter(is_hex) {
        Some(tail) => format!("{}{}", &name[..name.len() - tail.len()], &tail[..12]),
        None => name.to_owned(),
    })
}

impl Process {
    /// Tells what it sees of its host, and who it is.
    fn tell(&self, name: &Name, host: &MountTable, found: &mut Configuration) {
        let file = |name: &str| Spot { file: format!("/proc/{}/{name}", self.pid).into(), line: 1 };
        let userns = self.ids.as_ref().map(|ids| {
            let list = |mark: &str, ranges: &[IdRange]| -> Vec<String> {
                let range = |r: &IdRange| format!("{mark}{}:{}:{}", r.inside, r.outside, r.count);
                ranges.iter().map(range).collect()
            };
            [list("u:", &ids.uids), list("g:", &ids.gids)].concat().join(",").into()
        });
        // The layout has ids as the inside knows them.
        let inside = |ranges: Option<&Vec<IdRange>>, id: u32| match ranges {
            None => Some(id),
            Some(ranges) => ranges.iter().find_map(|range| {
                let offset =
                    id.checked_sub(range.outside).filter(|offset| *offset < range.count)?;
                Some(range.inside + offset)
            }),
        };
        let uids = self.ids.as_ref().map(|ids| &ids.uids);
        let gids = self.ids.as_ref().map(|ids| &ids.gids);
        let groups = self.status.groups.iter().filter_map(|gid| inside(gids, *gid));
        let service = ServiceFact {
            name: name.clone(),
            uid: inside(uids, self.status.uid),
            gid: inside(gids, self.status.gid),
            umask: self.status.umask,
            groups: groups.map(|gid| gid.to_string().into()).collect(),
            userns,
            ..ServiceFact::default()
        };
        found.facts.push(Configured { fact: Fact::Service(service), spot: file("status") });
        for (n, entry) in self.mounts.entries().iter().enumerate() {
            let at = entry.point.as_bytes();
            let below = [&b"/dev"[..], b"/proc", b"/sys"].iter().any(|top| {
                at.strip_prefix(*top).is_some_and(|rest| rest.is_empty() || rest.starts_with(b"/"))
            });
            if below || OF_ENGINES.contains(&at) || MADE_UP.contains(&entry.filesystem.raw()) {
                continue;
            }
            // What no mount of the host shows is the container's own.
            let Some(from) = host.shows(entry, &entry.point, |_, _| true) else { continue };
            let fact = MappingFact {
                service: name.clone(),
                from: from.as_bytes().to_vec(),
                to: at.to_vec(),
                access: entry.access(),
                label: None,
                propagation: None,
                idmap: entry.has("idmapped"),
            };
            let spot = Spot { line: u32::try_from(n + 1).unwrap_or(u32::MAX), ..file("mountinfo") };
            found.facts.push(Configured { fact: Fact::Mapping(fact), spot });
        }
    }
}

/// What a process goes by as a viewpoint.
pub fn name_of(pid: u32) -> Name {
    format!("process:{pid}").into()
}

fn whole(ids: &IdMap) -> bool {
    let all = [IdRange { inside: 0, outside: 0, count: ALL }];
    ids.uids == all && ids.gids == all
}

/// Whether a file and what stands at a path are the same.
fn same(file: &File, path: &Path) -> io::Result<bool> {
    use std::os::unix::fs::MetadataExt;
    let (one, other) = (file.metadata()?, std::fs::metadata(path)?);
    Ok((one.dev(), one.ino()) == (other.dev(), other.ino()))
}

/// A process that changed its root sees no line of the mount that this root is on; its own table begins below (`proc_pid_mountinfo(5)`).
fn with_root(table: MountTable, root: BorrowedFd, pid: u32) -> io::Result<MountTable> {
    let id = crate::walk::mount_id(root)?;
    if table.entry(id).is_some() {
        return Ok(table.rooted_at(id));
    }
    let own = std::fs::read("/proc/thread-self/mountinfo").unwrap_or_default();
    let own = mountinfo::read(&own).unwrap_or_default();
    let flags = rustix::fs::fstatvfs(root)?.f_flag;
    let stat = rustix::fs::fstat(root)?;
    let access = if flags.contains(StatVfsMountFlags::RDONLY) { "ro" } else { "rw" };
    let known = own.entry(id);
    let device = (rustix::fs::major(stat.st_dev), rustix::fs::minor(stat.st_dev));
    let entry = MountEntry {
        id,
        parent: id,
        device: known.map_or(device, |entry| entry.device),
        root: folder_of(root, &own, pid).unwrap_or_else(|| b"?".to_vec()),
        point: AbsPath::root(),
        options: MountOptions::read(access),
        propagation: Vec::new(),
        filesystem: known.map_or_else(|| "unknown".into(), |entry| entry.filesystem.clone()),
        source: known.map_or_else(Vec::new, |entry| entry.source.clone()),
        super_options: known
            .map_or_else(MountOptions::default, |entry| entry.super_options.clone()),
    };
    // Mounts below it hang on it, whatever number their parent has in the whole table.
    let mut entries = vec![entry];
    let numbers: Vec<u64> = table.entries().iter().map(|entry| entry.id).collect();
    entries.extend(table.entries().iter().cloned().map(|mut entry| {
        if !numbers.contains(&entry.parent) {
            entry.parent = id;
        }
        entry
    }));
    Ok(MountTable::new(entries).rooted_at(id))
}

/// Which folder of its filesystem a root is: known where this machine has the same folder under the path that the kernel gives it.
fn folder_of(root: BorrowedFd, own: &MountTable, pid: u32) -> Option<Vec<u8>> {
    use std::os::unix::ffi::OsStrExt;
    use std::os::unix::fs::MetadataExt;
    let link = std::fs::read_link(in_proc(pid, "root")).ok()?;
    let (here, there) = (std::fs::metadata(&link).ok()?, rustix::fs::fstat(root).ok()?);
    if (here.dev(), here.ino()) != (there.st_dev, there.st_ino) {
        return None;
    }
    let path = AbsPath::new(link.as_os_str().as_bytes()).ok()?;
    let mount = own.at(&path)?;
    let folder = AbsPath::new(&mount.root).ok()?.join(path.below(&mount.point)?);
    Some(folder.as_bytes().to_vec())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_fourth_id_decides() {
        let text = "Name:\tlantern\nUmask:\t0027\nPPid:\t7\nUid:\t1\t2\t3\t840\nGid:\t5\t6\t7\t841\nGroups:\t10 20 \nCapEff:\t000000000000000a\n";
        let status = Status::read(text).unwrap();
        assert_eq!((status.uid, status.gid, status.umask), (840, 841, Some(0o27)));
        assert_eq!((status.groups, status.capabilities), (vec![10, 20], 10));
        assert_eq!(Status::read("Uid:\t1\t2\t3\n"), None);
        assert_eq!(ranges("         0     100000      65536\nx\n").len(), 1);
    }

    #[test]
    fn this_process_is_there_and_another_is_not() {
        let own = Process::open(std::process::id()).unwrap();
        assert_eq!(own.name().raw(), format!("process:{}", std::process::id()));
        assert!(own.ids.is_none() && own.mounts.root().is_some());
        own.still_there().unwrap();
        assert!(Process::open(4_194_305).is_err());
    }
}
