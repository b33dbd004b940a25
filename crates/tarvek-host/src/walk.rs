//! The walk: every entry below a folder, once, relative to open handles, in parallel.
//!
//! It never follows a symlink, never opens anything but folders, and never leaves its root. Whatever goes wrong with one
//! entry becomes a [`Gap`](tarvek_core::facts::host::Gap); the walk goes on.

use std::ffi::{CStr, CString};
use std::io;
use std::mem::MaybeUninit;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};

use rustix::fs::{AtFlags, Mode, OFlags, RawDir, Statx, StatxAttributes, StatxFlags};
use rustix::io::Errno;
use tarvek_core::facts::build::{Earlier, NewEntry};
use tarvek_core::facts::tree::{Listing, NodeId};
use tarvek_core::kernel::entry::{EntryKind, Flags, Meta, Project};

use crate::attributes::Attributes;
use crate::project;

/// Folders are opened for reading their names, and only if they are folders; a FIFO in their place is never waited for.
const FOLDER: OFlags = OFlags::RDONLY
    .union(OFlags::DIRECTORY)
    .union(OFlags::NOFOLLOW)
    .union(OFlags::CLOEXEC)
    .union(OFlags::NONBLOCK);

/// Where a walk puts what it sees. Folders arrive before what they hold.
pub trait Sink: Sync {
    /// What is known of a folder from an earlier walk.
    fn earlier(&self, folder: NodeId, into: &mut Earlier);

    /// Takes everything seen in one folder, sorted by name, and numbers it in that order. What was known of the folder
    /// before no longer counts.
    ///
    /// # Errors
    /// An error ends the walk.
    fn fill(
        &self,
        folder: NodeId,
        entries: Vec<NewEntry>,
        listing: Listing,
    ) -> io::Result<Vec<NodeId>>;

    /// Notes the project of a folder.
    fn project(&self, folder: NodeId, project: Project);

    /// Notes what could not be seen: the folder, a name in it (empty for the folder itself), and why.
    fn gap(&self, folder: NodeId, name: &[u8], why: String);

    /// What kind of mount an entry lies on.
    fn mount(&self, mount: u64) -> MountKind;
}

/// What a walk has to know of a mount.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct MountKind {
    /// Whether to go below it where it is met on the way.
    pub enters: bool,
    /// Whether its filesystem names all attributes of an entry when asked for their list.
    pub lists_attributes: bool,
    /// Whether files may belong to projects although their folder does not.
    pub projects: bool,
}

/// What a running walk shares with whoever watches it.
#[derive(Debug, Default)]
pub struct Watch {
    /// Entries seen so far.
    pub entries: AtomicU64,
    /// Bytes of contents that were read, or need not be read any more.
    pub bytes: AtomicU64,
    /// Bytes that would have to be read if all of it were needed; 0 where that is not known.
    pub expected: AtomicU64,
    /// Set it to end the walk early.
    pub stop: AtomicBool,
}

struct Job {
    parent: Arc<OwnedFd>,
    name: CString,
    node: NodeId,
    /// The inode is as it was in the earlier walk, so that its names are known.
    unchanged: bool,
}

struct Queue {
    jobs: Vec<Job>,
    /// Jobs taken and not yet done.
    running: usize,
    failed: Option<io::Error>,
}

struct Walk<'a, S> {
    sink: &'a S,
    watch: &'a Watch,
    sure: Option<i64>,
    queue: Mutex<Queue>,
    wake: Condvar,
}

/// Walks everything below an open folder whose number in the sink is `node`.
///
/// If the sink knows an earlier walk, inodes that had not changed by `sure` (nanoseconds since 1970 UTC) are taken as they
/// were then, since an inode's ctime moves with everything else. Later ones may have changed again within one tick of the
/// filesystem's clock.
///
/// # Errors
/// What the sink could not take, or `Interrupted` if it was told to stop.
pub fn walk<S: Sink>(
    folder: OwnedFd,
    node: NodeId,
    sink: &S,
    watch: &Watch,
    sure: Option<i64>,
) -> io::Result<()> {
    raise_handle_limit();
    let threads = std::thread::available_parallelism().map_or(1, |n| n.get());
    let top = Job { parent: Arc::new(folder), name: c".".to_owned(), node, unchanged: false };
    let walk = Walk {
        sink,
        watch,
        sure,
        queue: Mutex::new(Queue { jobs: vec![top], running: 0, failed: None }),
        wake: Condvar::new(),
    };
    std::thread::scope(|scope| {
        for _ in 0..threads {
            scope.spawn(|| walk.work());
        }
    });
    match walk.lock().failed.take() {
        Some(error) => Err(error),
        None if watch.stop.load(Ordering::Relaxed) => Err(io::ErrorKind::Interrupted.into()),
        None => Ok(()),
    }
}

impl<S: Sink> Walk<'_, S> {
    fn lock(&self) -> MutexGuard<'_, Queue> {
        self.queue.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn work(&self) {
        let mounts = |mount| self.sink.mount(mount);
        let mut reader = Reader::new(&mounts, self.sure);
        reader.attributes = Attributes::of_this_thread();
        loop {
            let mut queue = self.lock();
            let job = loop {
                if queue.failed.is_some() || self.watch.stop.load(Ordering::Relaxed) {
                    self.wake.notify_all();
                    return;
                }
                if let Some(job) = queue.jobs.pop() {
                    break job;
                }
                if queue.running == 0 {
                    self.wake.notify_all();
                    return;
                }
                queue = self.wake.wait(queue).unwrap_or_else(PoisonError::into_inner);
            };
            queue.running += 1;
            drop(queue);
            // Whatever goes wrong here may not leave the others waiting for ever.
            let work = AssertUnwindSafe(|| self.folder(job, &mut reader));
            let outcome = catch_unwind(work).unwrap_or_else(|_| {
                Err(io::Error::other("a part of the walk failed in an unforeseen way"))
            });
            let mut queue = self.lock();
            queue.running -= 1;
            match outcome {
                Ok(mut jobs) => queue.jobs.append(&mut jobs),
                Err(error) => queue.failed = Some(error),
            }
            self.wake.notify_all();
        }
    }

    /// Reads one folder into the sink, and returns the folders in it.
    fn folder(&self, job: Job, reader: &mut Reader) -> io::Result<Vec<Job>> {
        if self.sure.is_some() {
            self.sink.earlier(job.node, &mut reader.earlier);
        }
        let handle = match rustix::fs::openat(&job.parent, &job.name, FOLDER, Mode::empty()) {
            Ok(handle) => handle,
            Err(error) => {
                self.sink.gap(job.node, b"", why(error));
                self.sink.fill(job.node, Vec::new(), Listing::Failed)?;
                return Ok(Vec::new());
            }
        };
        let project = project::of_folder(handle.as_fd());
        if let Some(project) = project {
            self.sink.project(job.node, project);
        }
        reader.in_project = project.is_some_and(|p| p.inherits || p.id != 0);
        let listing = match reader.read(handle.as_fd(), job.unchanged) {
            Ok(()) => Listing::Complete,
            Err(error) => {
                self.sink.gap(job.node, b"", why(error));
                Listing::Failed
            }
        };
        let refused = !reader.refused.is_empty();
        for (name, error) in reader.refused.drain(..) {
            self.sink.gap(job.node, &name, why(error));
        }
        self.watch.entries.fetch_add(reader.seen.len() as u64, Ordering::Relaxed);
        let folders = reader.folders();
        let as_before = listing == Listing::Complete && !refused && reader.all_as_before();
        let numbers = if as_before {
            (0..reader.earlier.len()).map(|index| reader.earlier.entry(index).1).collect()
        } else {
            self.sink.fill(job.node, reader.entries(), listing)?
        };
        let parent = Arc::new(handle);
        let mut jobs = Vec::with_capacity(folders.len());
        for Folder { index, name, enters, unchanged } in folders {
            let node = numbers[index];
            if enters {
                jobs.push(Job { parent: Arc::clone(&parent), name, node, unchanged });
            } else if self.sure.is_some() {
                self.sink.fill(node, Vec::new(), Listing::NotListed)?;
            }
        }
        Ok(jobs)
    }
}

/// A folder that was met.
struct Folder {
    index: usize,
    name: CString,
    enters: bool,
    unchanged: bool,
}

/// What was seen of one name.
struct Seen {
    what: What,
    kind: EntryKind,
    /// The mount that is attached exactly there, if one is.
    mount: Option<u64>,
    /// Whether the inode has not changed since the earlier walk.
    unchanged: bool,
}

#[allow(clippy::large_enum_variant)] // boxing each of a million entries costs more than the room
enum What {
    /// Exactly what the earlier walk saw in this place of the folder.
    AsBefore(usize),
    Entry(NewEntry),
}

/// Reads folders, with buffers that are used again.
struct Reader<'a> {
    mounts: &'a dyn Fn(u64) -> MountKind,
    sure: Option<i64>,
    earlier: Earlier,
    seen: Vec<Seen>,
    refused: Vec<(Vec<u8>, Errno)>,
    attributes: Attributes,
    /// The kind of the mount that was met last.
    mount: Option<(u64, MountKind)>,
    in_project: bool,
    dirents: Vec<u8>,
    name: Vec<u8>,
}

impl<'a> Reader<'a> {
    fn new(mounts: &'a dyn Fn(u64) -> MountKind, sure: Option<i64>) -> Self {
        Self {
            mounts,
            sure,
            earlier: Earlier::default(),
            seen: Vec::new(),
            refused: Vec::new(),
            attributes: Attributes::default(),
            mount: None,
            in_project: false,
            dirents: Vec::new(),
            name: Vec::new(),
        }
    }

    /// Reads all names of a folder, and what `statx(2)` says of each, sorted by name. `known`: the folder's inode has not
    /// changed, so that its names need not be read again.
    fn read(&mut self, folder: BorrowedFd, known: bool) -> Result<(), Errno> {
        self.seen.clear();
        self.attributes.enter(folder);
        if known && self.earlier.listing == Listing::Complete {
            self.known_names(folder);
            return Ok(());
        }
        self.dirents.reserve(64 << 10);
        let mut dirents = std::mem::take(&mut self.dirents);
        let outcome = self.names(folder, dirents.spare_capacity_mut());
        self.dirents = dirents;
        self.seen
            .sort_unstable_by(|a, b| a.what.name(&self.earlier).cmp(b.what.name(&self.earlier)));
        outcome
    }

    fn names(&mut self, folder: BorrowedFd, buffer: &mut [MaybeUninit<u8>]) -> Result<(), Errno> {
        let mut names = RawDir::new(folder, buffer);
        while let Some(name) = names.next() {
            let name = name?;
            let name = name.file_name();
            if name == c"." || name == c".." {
                continue;
            }
            self.name(folder, name, self.earlier.find(name.to_bytes()));
        }
        Ok(())
    }

    fn known_names(&mut self, folder: BorrowedFd) {
        let mut buffer = std::mem::take(&mut self.name);
        for index in 0..self.earlier.len() {
            buffer.clear();
            buffer.extend_from_slice(self.earlier.entry(index).0);
            buffer.push(0);
            let name = CStr::from_bytes_with_nul(&buffer).expect("a name from a disk has no NUL");
            self.name(folder, name, Some(index));
        }
        self.name = buffer;
    }

    fn name(&mut self, folder: BorrowedFd, name: &CStr, old: Option<usize>) {
        match self.entry(folder, name, old) {
            Ok(seen) => self.seen.push(seen),
            // It vanished between the two calls; then it is simply not there.
            Err(Errno::NOENT) => {}
            Err(error) => self.refused.push((name.to_bytes().to_vec(), error)),
        }
    }

    fn entry(
        &mut self,
        folder: BorrowedFd,
        name: &CStr,
        old: Option<usize>,
    ) -> Result<Seen, Errno> {
        let (stat, meta) = stat_at(folder, name)?;
        let mount =
            stat.stx_attributes.contains(StatxAttributes::MOUNT_ROOT).then_some(stat.stx_mnt_id);
        let seen = |what, unchanged| Seen { what, kind: meta.kind, mount, unchanged };
        if let Some((sure, index)) = self.sure.zip(old) {
            let then = self.earlier.entry(index).2;
            let unchanged = meta.changed.is_some_and(|changed| changed < sure)
                && (then.kind, then.inode, then.device, then.changed)
                    == (meta.kind, meta.inode, meta.device, meta.changed);
            if unchanged && *then == meta {
                return Ok(seen(What::AsBefore(index), true));
            }
            if unchanged {
                let entry = NewEntry::as_before(name.to_bytes(), meta);
                return Ok(seen(What::Entry(entry), true));
            }
        }
        let mut entry = NewEntry::plain(name.to_bytes(), meta);
        if meta.kind == EntryKind::Symlink {
            // A target that can't be read stays unknown; the entry is there all the same.
            let target = rustix::fs::readlinkat(folder, name, Vec::new());
            entry.target = target.ok().map(|target| target.into_bytes());
        }
        let id = stat.stx_mnt_id;
        let on = match self.mount {
            Some((known, on)) if known == id => on,
            _ => self.mount.insert((id, (self.mounts)(id))).1,
        };
        entry.extras = self.attributes.read(folder, name, meta.kind, id, on.lists_attributes);
        if (self.in_project || on.projects) && meta.kind != EntryKind::Folder {
            entry.extras.project = project::of_name(folder, name);
        }
        Ok(seen(What::Entry(entry), false))
    }

    fn folders(&self) -> Vec<Folder> {
        let folders = self.seen.iter().enumerate().filter(|(_, s)| s.kind == EntryKind::Folder);
        let folder = |(index, seen): (usize, &Seen)| Folder {
            index,
            name: CString::new(seen.what.name(&self.earlier))
                .expect("a name from a disk has no NUL"),
            enters: seen.mount.is_none_or(|mount| (self.mounts)(mount).enters),
            unchanged: seen.unchanged,
        };
        folders.map(folder).collect()
    }

    /// Whether the folder holds what it held, and nothing of it has changed.
    fn all_as_before(&self) -> bool {
        self.earlier.listing == Listing::Complete
            && self.seen.len() == self.earlier.len()
            && self.seen.iter().all(|seen| matches!(seen.what, What::AsBefore(_)))
    }

    /// What was seen; the reader is empty then.
    fn entries(&mut self) -> Vec<NewEntry> {
        let earlier = &self.earlier;
        let entry = |seen: Seen| match seen.what {
            What::Entry(entry) => entry,
            What::AsBefore(index) => {
                let (name, _, meta) = earlier.entry(index);
                NewEntry::as_before(name, *meta)
            }
        };
        self.seen.drain(..).map(entry).collect()
    }
}

impl What {
    fn name<'a>(&'a self, earlier: &'a Earlier) -> &'a [u8] {
        match self {
            Self::AsBefore(index) => earlier.entry(*index).0,
            Self::Entry(entry) => &entry.name,
        }
    }
}

/// What `statx(2)` says of a name in a folder, or of the handle itself for an empty name; never follows a symlink, never triggers an automount.
pub(crate) fn stat_at(folder: BorrowedFd, name: &CStr) -> Result<(Statx, Meta), Errno> {
    let flags = AtFlags::SYMLINK_NOFOLLOW | AtFlags::NO_AUTOMOUNT | AtFlags::EMPTY_PATH;
    let want = StatxFlags::BASIC_STATS | StatxFlags::MNT_ID;
    let stat = rustix::fs::statx(folder, name, flags, want)?;
    Ok((stat, meta(&stat)))
}

/// The mount that an open folder is on (`statx(2)`, STATX_MNT_ID).
pub(crate) fn mount_id(folder: BorrowedFd) -> Result<u64, Errno> {
    let stat = rustix::fs::statx(folder, c"", AtFlags::EMPTY_PATH, StatxFlags::MNT_ID)?;
    Ok(stat.stx_mnt_id)
}

/// One entry, given a handle to its folder.
pub(crate) fn entry_at(
    folder: BorrowedFd,
    name: &CStr,
    mounts: &dyn Fn(u64) -> MountKind,
) -> Result<NewEntry, Errno> {
    let mut reader = Reader::new(mounts, None);
    let seen = reader.entry(folder, name, None)?;
    reader.seen.push(seen);
    let mut entry = reader.entries().swap_remove(0);
    if entry.extras.project.is_none() {
        entry.extras.project = project::of_name(folder, name);
    }
    Ok(entry)
}

/// What one folder holds.
pub(crate) struct Names {
    pub(crate) entries: Vec<NewEntry>,
    /// Names that could not be looked at, and why.
    pub(crate) refused: Vec<(Vec<u8>, String)>,
    /// Why the folder was not read to its end, if it was not.
    pub(crate) failed: Option<String>,
}

/// Reads one folder without going below it.
pub(crate) fn names_in(folder: BorrowedFd, mounts: &dyn Fn(u64) -> MountKind) -> Names {
    let mut reader = Reader::new(mounts, None);
    let failed = reader.read(folder, false).err().map(why);
    let refused = std::mem::take(&mut reader.refused);
    let refused = refused.into_iter().map(|(name, error)| (name, why(error))).collect();
    Names { entries: reader.entries(), refused, failed }
}

fn meta(stat: &Statx) -> Meta {
    let kind = match stat.stx_mode & 0o170000 {
        0o040000 => EntryKind::Folder,
        0o120000 => EntryKind::Symlink,
        0o010000 => EntryKind::Fifo,
        0o140000 => EntryKind::Socket,
        0o060000 => EntryKind::BlockDevice,
        0o020000 => EntryKind::CharDevice,
        _ => EntryKind::File,
    };
    Meta {
        kind,
        mode: stat.stx_mode & 0o7777,
        uid: stat.stx_uid,
        gid: stat.stx_gid,
        size: stat.stx_size,
        // st_blocks counts 512 bytes whatever the block size (stat(2)).
        allocated: Some(stat.stx_blocks * 512),
        inode: Some(stat.stx_ino),
        device: Some(u64::from(stat.stx_dev_major) << 32 | u64::from(stat.stx_dev_minor)),
        links: stat.stx_nlink,
        modified: nanoseconds(stat.stx_mtime),
        changed: Some(nanoseconds(stat.stx_ctime)),
        flags: flags(stat),
    }
}

fn nanoseconds(time: rustix::fs::StatxTimestamp) -> i64 {
    time.tv_sec.saturating_mul(1_000_000_000).saturating_add(time.tv_nsec.into())
}

/// `None` where the filesystem does not say (`stx_attributes_mask`).
fn flags(stat: &Statx) -> Option<Flags> {
    let both = StatxAttributes::IMMUTABLE | StatxAttributes::APPEND;
    let has = |flag| stat.stx_attributes.contains(flag);
    stat.stx_attributes_mask.contains(both).then(|| Flags {
        immutable: has(StatxAttributes::IMMUTABLE),
        append: has(StatxAttributes::APPEND),
    })
}

/// An error in words, with its name.
pub(crate) fn why(error: Errno) -> String {
    let words = io::Error::from(error).to_string();
    let words = words.split(" (os error").next().unwrap_or(&words).to_lowercase();
    match error {
        Errno::ACCESS => format!("{words} (EACCES)"),
        Errno::PERM => format!("{words} (EPERM)"),
        Errno::NOENT => "it vanished while the walk was on its way (ENOENT)".to_owned(),
        Errno::NOTDIR => "it was replaced while the walk was on its way (ENOTDIR)".to_owned(),
        Errno::STALE => format!("{words} (ESTALE)"),
        Errno::IO => format!("{words} (EIO)"),
        error => format!("{words} (errno {})", error.raw_os_error()),
    }
}

/// A deep tree with many pending folders needs a handle for each level.
fn raise_handle_limit() {
    use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
    let limit = getrlimit(Resource::Nofile);
    if limit.current < limit.maximum {
        // Where it can't be raised, the walk runs with what there is.
        let _ =
            setrlimit(Resource::Nofile, Rlimit { current: limit.maximum, maximum: limit.maximum });
    }
}

#[cfg(test)]
mod tests {
    use std::fs;
    use std::path::PathBuf;

    use super::*;

    /// Takes what a walk sees, and spoils the tree while the walk is on its way.
    struct Spoiler {
        top: PathBuf,
        seen: Mutex<(u32, Vec<String>)>,
    }

    impl Sink for Spoiler {
        fn earlier(&self, _: NodeId, _: &mut Earlier) {}

        fn project(&self, _: NodeId, _: Project) {}

        fn fill(&self, _: NodeId, entries: Vec<NewEntry>, _: Listing) -> io::Result<Vec<NodeId>> {
            let mut seen = self.seen.lock().unwrap();
            for entry in &entries {
                let path = self.top.join(String::from_utf8_lossy(&entry.name).into_owned());
                match entry.name.as_slice() {
                    b"vanishes" => fs::remove_dir(path).unwrap(),
                    b"becomes a fifo" => {
                        fs::remove_dir(&path).unwrap();
                        rustix::fs::mknodat(CWD, &path, rustix::fs::FileType::Fifo, Mode::RUSR, 0)
                            .unwrap();
                    }
                    b"becomes a link" => {
                        fs::remove_dir(&path).unwrap();
                        std::os::unix::fs::symlink("/", path).unwrap();
                    }
                    _ => {}
                }
            }
            let first = seen.0;
            seen.0 += entries.len() as u32;
            Ok((first..seen.0).map(NodeId).collect())
        }

        fn gap(&self, _: NodeId, _: &[u8], why: String) {
            self.seen.lock().unwrap().1.push(why);
        }

        fn mount(&self, _: u64) -> MountKind {
            MountKind { enters: true, lists_attributes: false, projects: false }
        }
    }

    use rustix::fs::CWD;

    #[test]
    fn folders_that_vanish_or_change_under_the_walk_are_gaps() {
        let dir = tempfile::tempdir().unwrap();
        for name in ["vanishes", "becomes a fifo", "becomes a link", "stays/deeper"] {
            fs::create_dir_all(dir.path().join(name)).unwrap();
        }
        let spoiler = Spoiler { top: dir.path().to_owned(), seen: Mutex::new((1, Vec::new())) };
        let top =
            rustix::fs::open(dir.path(), OFlags::PATH | OFlags::DIRECTORY, Mode::empty()).unwrap();
        let watch = Watch::default();
        walk(top, NodeId(0), &spoiler, &watch, None).unwrap();
        let (_, gaps) = spoiler.seen.into_inner().unwrap();
        assert_eq!(gaps.len(), 3, "{gaps:?}");
        assert_eq!(watch.entries.load(Ordering::Relaxed), 5);
    }

    #[test]
    fn a_panic_ends_the_walk_with_an_error() {
        let dir = tempfile::tempdir().unwrap();
        for name in ["a/vanishes", "b/c", "d/e"] {
            fs::create_dir_all(dir.path().join(name)).unwrap();
        }
        // The folder that is to vanish is not where this looks for it, so that its unwrap panics.
        let spoiler = Spoiler { top: "/nowhere".into(), seen: Mutex::new((1, Vec::new())) };
        let top =
            rustix::fs::open(dir.path(), OFlags::PATH | OFlags::DIRECTORY, Mode::empty()).unwrap();
        let error = walk(top, NodeId(0), &spoiler, &Watch::default(), None).unwrap_err();
        assert_eq!(error.kind(), io::ErrorKind::Other, "{error}");
    }

    #[test]
    fn a_walk_that_is_told_to_stop_says_so() {
        let top = rustix::fs::open("/", OFlags::PATH | OFlags::DIRECTORY, Mode::empty()).unwrap();
        let watch = Watch { stop: AtomicBool::new(true), ..Watch::default() };
        let sink = Spoiler { top: "/nowhere".into(), seen: Mutex::default() };
        let error = walk(top, NodeId(0), &sink, &watch, None).unwrap_err();
        assert_eq!(error.kind(), io::ErrorKind::Interrupted);
    }
}
