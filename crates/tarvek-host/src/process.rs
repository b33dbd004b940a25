//! A running process of this machine, as the kernel shows it (`proc(5)`): its mounts, its root, and
//! who it is.

use std::fs::File;
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::path::{Path, PathBuf};
use std::sync::mpsc::{self, RecvTimeoutError};
use std::time::{Duration, Instant};

use nix::sched::{CloneFlags, setns};
use rustix::fs::{CWD, Mode, OFlags, StatVfsMountFlags};
use rustix::io::Errno;
use rustix::thread::{CapabilitySet, CapabilitySets, capabilities, set_capabilities};
use tarvek_core::facts::configured::Configuration;
use tarvek_core::facts::mounts::{MountEntry, MountTable};
use tarvek_core::kernel::subject::{Capabilities, IdMap, IdRange, Subject};
use tarvek_core::words::name::Name;
use tarvek_core::words::options::MountOptions;
use tarvek_core::words::path::AbsPath;
use tarvek_formats::mountinfo;
use tarvek_formats::process::{Running, Status, is_whole, name_of, ranges};

/// A process that is looked at.
#[derive(Debug)]
pub struct Process {
    pub pid: u32,
    /// When it was started, in ticks since the machine was: together with the pid it tells it from
    /// a later one.
    start: u64,
    /// Its root folder.
    root: OwnedFd,
    pub mounts: MountTable,
    pub status: Status,
    /// `None` where it has the namespace of whoever looks.
    pub ids: Option<IdMap>,
}

fn in_proc(pid: u32, name: &str) -> PathBuf {
    Path::new("/proc").join(pid.to_string()).join(name)
}

/// When a process was started; one that has ended and whose parent has not asked for its status yet
/// is none any more (`proc_pid_stat(5)`: fields 3 and 22; the second may have anything in its
/// brackets).
pub(crate) fn start_of(pid: u32) -> io::Result<u64> {
    let stat = std::fs::read_to_string(in_proc(pid, "stat"))?;
    let rest = stat.rsplit_once(')').map_or("", |(_, rest)| rest);
    let mut fields = rest.split_whitespace();
    if matches!(fields.next(), Some("Z" | "X")) {
        return Err(Errno::SRCH.into());
    }
    let start = fields.nth(18).and_then(|start| start.parse().ok());
    start.ok_or_else(|| io::Error::new(io::ErrorKind::InvalidData, "its stat has no start time"))
}

/// How long a look at the root of a process may come no further.
pub(crate) const DEADLINE: Duration = Duration::from_secs(5);

/// Does something that a filesystem in a program of somebody's own may never answer, in a thread of
/// its own, which is left behind if nothing has come of it in time. `advanced` is asked again and
/// again whether it has come any further.
///
/// # Errors
/// If it was given up (ETIMEDOUT).
pub(crate) fn with_deadline<T: Send + 'static>(
    deadline: Duration,
    work: impl FnOnce() -> T + Send + 'static,
    mut advanced: impl FnMut() -> bool,
) -> io::Result<T> {
    let (send, receive) = mpsc::channel();
    // Whoever waits no more does not hear it.
    let thread = std::thread::Builder::new().spawn(move || _ = send.send(work()))?;
    let mut since = Instant::now();
    loop {
        match receive.recv_timeout(Duration::from_millis(20)) {
            Ok(done) => {
                advanced();
                let _ = thread.join();
                return Ok(done);
            }
            Err(RecvTimeoutError::Disconnected) => {
                return Err(io::Error::other("a look at the root of a process failed"));
            }
            Err(RecvTimeoutError::Timeout) => {}
        }
        if advanced() {
            since = Instant::now();
        }
        if since.elapsed() > deadline {
            let why = format!("its root does not answer (given up after {} s)", deadline.as_secs());
            return Err(io::Error::new(io::ErrorKind::TimedOut, why));
        }
    }
}

/// Waits until this process has one thread: one that looked and was joined may take the kernel a
/// moment to be gone.
fn alone() -> io::Result<()> {
    for _ in 0..1000 {
        if std::fs::read_dir("/proc/self/task")?.count() == 1 {
            break;
        }
        std::thread::sleep(Duration::from_millis(1));
    }
    // What the kernel says then holds.
    Ok(())
}

impl Process {
    /// Takes hold of a process.
    ///
    /// # Errors
    /// If there is none, if it ends meanwhile, if it may not be looked at (`ptrace(2)`, access mode
    /// checking), or if its root does not answer.
    pub fn open(pid: u32) -> io::Result<Self> {
        with_deadline(DEADLINE, move || Self::open_unbounded(pid), || false)?
    }

    fn open_unbounded(pid: u32) -> io::Result<Self> {
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

    /// Enters its view: user namespace, mounts and root, for good. Only a process of one thread
    /// can.
    ///
    /// # Errors
    /// What the kernel says (`setns(2)`).
    pub fn enter(&self) -> io::Result<()> {
        let open = |name: &str| File::open(in_proc(self.pid, name));
        let (users, mounts) = (open("ns/user")?, open("ns/mnt")?);
        alone()?;
        self.still_there()?;
        // Its mounts may belong to another user namespace than its own, in which it is nobody.
        setns(mounts, CloneFlags::CLONE_NEWNS)?;
        rustix::process::fchdir(&self.root)?;
        rustix::process::chroot(".")?;
        if self.ids.is_some() {
            setns(users, CloneFlags::CLONE_NEWUSER)?;
        }
        Ok(())
    }

    /// Takes no more capabilities than it has, after having become its account.
    ///
    /// # Errors
    /// What the kernel says (`capset(2)`).
    pub fn take_capabilities(&self) -> io::Result<()> {
        let theirs = CapabilitySet::from_bits_truncate(self.status.capabilities);
        let own = capabilities(None)?;
        let keep = own.effective & theirs;
        let sets = CapabilitySets {
            effective: keep,
            permitted: keep,
            inheritable: own.inheritable & keep,
        };
        Ok(set_capabilities(None, sets)?)
    }

    /// Who it is in the ids of its own namespace; `None` if it has some that this namespace lacks.
    pub fn subject_inside(&self) -> Option<Subject> {
        let Some(ids) = &self.ids else { return Some(self.subject()) };
        let inside = |ranges: &[IdRange], id: u32| {
            ranges.iter().find_map(|range| {
                let offset =
                    id.checked_sub(range.outside).filter(|offset| *offset < range.count)?;
                range.inside.checked_add(offset)
            })
        };
        let gid = |gid: u32| inside(&ids.gids, gid);
        let groups: Option<Vec<u32>> = self.status.groups.iter().map(|id| gid(*id)).collect();
        Some(Subject::new(inside(&ids.uids, self.status.uid)?, gid(self.status.gid)?, groups?))
    }

    /// Whether it has capabilities over files although it is not root inside, which nobody can take
    /// by becoming its account.
    pub fn has_more_than_its_account(&self) -> bool {
        let own = self.subject();
        let root = self.subject_inside().is_some_and(|inside| inside.uid == 0);
        !root && own.capabilities != Capabilities::default()
    }

    /// What the process goes by as a viewpoint: no host of a layout has a colon in its name.
    pub fn name(&self) -> Name {
        format!("process:{}", self.pid).into()
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
            Some(ids) if !is_whole(ids) => ids.bound(subject),
            _ => subject,
        }
    }
}

/// What runs on this machine in mounts of its own.
#[derive(Debug, Default)]
pub struct Services {
    /// Each tree of processes that may be a service of a layout: named after its unit or program,
    /// with what it sees of the host's files.
    pub configuration: Configuration,
    /// Those that have mounts of their own and no media in them.
    pub others: Vec<Name>,
    /// How many processes may not be looked at.
    pub unseen: usize,
}

/// Looks at all processes.
pub fn running() -> Services {
    let (found, unseen) = spaces();
    let host = crate::mounts::own_mounts().unwrap_or_default();
    let (services, others): (Vec<Running>, Vec<Running>) =
        found.into_iter().partition(|running| running.is_service(&host));
    let facts = services.iter().flat_map(|running| running.facts(&host)).collect();
    let others = others.into_iter().map(|running| running.name).collect();
    let configuration = Configuration { facts, ..Configuration::default() };
    Services { configuration, others, unseen }
}

/// One process of each mount namespace other than the own one, and how many processes may not be
/// looked at.
fn spaces() -> (Vec<Running>, usize) {
    let mut unseen = 0;
    let pids = std::fs::read_dir("/proc").into_iter().flatten().flatten();
    let mut pids: Vec<u32> =
        pids.filter_map(|entry| entry.file_name().to_str()?.parse().ok()).collect();
    pids.sort_unstable();
    let mut spaces: Vec<u64> = mount_space("self").into_iter().collect();
    let (mut names, mut all) = (Vec::new(), Vec::new());
    for pid in pids {
        let Some(space) = mount_space(&pid.to_string()) else {
            // A process that ended is none that may not be looked at.
            unseen += usize::from(start_of(pid).is_ok());
            continue;
        };
        // A thread of the kernel runs no program.
        if spaces.contains(&space) || std::fs::read_link(in_proc(pid, "exe")).is_err() {
            continue;
        }
        let Ok(Process { status, mounts, ids, .. }) = Process::open(pid) else { continue };
        spaces.push(space);
        let cgroup = std::fs::read_to_string(in_proc(pid, "cgroup")).unwrap_or_default();
        let name = name_of(&cgroup, &status, pid, &mut names);
        all.push(Running { pid, status, ids, mounts, name });
    }
    (all, unseen)
}

/// The same for a survey, as text: of each process the lines that tell of it, behind the names of
/// their files.
pub(crate) fn document() -> Vec<u8> {
    let mut text = String::new();
    for Running { pid, .. } in spaces().0 {
        text += &format!("# {pid}\n");
        for file in ["cgroup", "status", "uid_map", "gid_map", "mountinfo"] {
            let lines = std::fs::read(in_proc(pid, file)).unwrap_or_default();
            for line in String::from_utf8_lossy(&lines).lines() {
                if file != "status" || STATUS.iter().any(|key| line.starts_with(key)) {
                    text += &format!("{file} {line}\n");
                }
            }
        }
    }
    text.into_bytes()
}

/// What of the status is kept.
const STATUS: [&str; 6] = ["Name:", "Umask:", "Uid:", "Gid:", "Groups:", "CapEff:"];

/// The number of a process's mount namespace.
fn mount_space(pid: &str) -> Option<u64> {
    use std::os::unix::fs::MetadataExt;
    Some(std::fs::metadata(format!("/proc/{pid}/ns/mnt")).ok()?.ino())
}

/// Whether a file and what stands at a path are the same.
fn same(file: &File, path: &Path) -> io::Result<bool> {
    use std::os::unix::fs::MetadataExt;
    let (one, other) = (file.metadata()?, std::fs::metadata(path)?);
    Ok((one.dev(), one.ino()) == (other.dev(), other.ino()))
}

/// A process that changed its root sees no line of the mount that this root is on; its own table
/// begins below (`proc_pid_mountinfo(5)`).
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

/// Which folder of its filesystem a root is: known where this machine has the same folder under the
/// path that the kernel gives it.
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
    fn what_never_answers_is_given_up_and_what_advances_is_not() {
        let deadline = Duration::from_millis(100);
        let slow = || std::thread::sleep(Duration::from_secs(20));
        let started = Instant::now();
        let error = with_deadline(deadline, slow, || false).unwrap_err();
        assert_eq!(error.kind(), io::ErrorKind::TimedOut);
        assert!(started.elapsed() < Duration::from_secs(10));
        let slow = move || std::thread::sleep(deadline * 3);
        assert!(with_deadline(deadline, slow, || true).is_ok());
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
