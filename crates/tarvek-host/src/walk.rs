//! The walk: every entry below a folder, once, relative to open handles, in parallel.
//!
//! It never follows a symlink, never opens anything but folders, and never leaves its root. Whatever goes wrong with one
//! entry becomes a [`Gap`]; the walk goes on.

use std::ffi::{CStr, CString};
use std::io;
use std::mem::MaybeUninit;
use std::os::fd::{AsFd, AsRawFd, BorrowedFd, OwnedFd};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};

use rustix::fs::{AtFlags, Mode, OFlags, RawDir, Statx, StatxAttributes, StatxFlags};
use rustix::io::Errno;
use tarvek_core::facts::tree::{EntryKind, Flags, Listing, Lookup, Meta, NewEntry, NodeId, Tree};

use crate::acl;

/// Folders are opened for reading their names, and only if they are folders; a FIFO in their place is never waited for.
const FOLDER: OFlags = OFlags::RDONLY
    .union(OFlags::DIRECTORY)
    .union(OFlags::NOFOLLOW)
    .union(OFlags::CLOEXEC)
    .union(OFlags::NONBLOCK);

/// Where a walk puts what it sees. Folders arrive before what they hold.
pub trait Sink: Sync {
    /// Takes everything seen in one folder, sorted by name, and numbers it in that order.
    ///
    /// # Errors
    /// An error ends the walk.
    fn fill(
        &self,
        folder: NodeId,
        entries: Vec<NewEntry>,
        listing: Listing,
    ) -> io::Result<Vec<NodeId>>;

    /// Notes what could not be seen: the folder, a name in it (empty for the folder itself), and why.
    fn gap(&self, folder: NodeId, name: &[u8], why: String);

    /// Whether to go below a mount that is met on the way.
    fn enters(&self, mount: u64) -> bool;
}

/// What a running walk shares with whoever watches it.
#[derive(Debug, Default)]
pub struct Watch {
    /// Entries seen so far.
    pub entries: AtomicU64,
    /// Set it to end the walk early.
    pub stop: AtomicBool,
}

/// An earlier walk of the same places: what has not changed since need not be read again.
#[derive(Clone, Copy, Debug)]
pub struct Before<'a> {
    /// What it saw.
    pub tree: &'a Tree,
    /// Inodes that changed before this time (nanoseconds since 1970 UTC) were seen as they then were. Later ones may have
    /// changed again within one tick of the filesystem's clock.
    pub sure: i64,
}

impl Before<'_> {
    /// Whether an entry is the inode that was seen then, unchanged: its ctime moves with everything else.
    fn unchanged(&self, old: NodeId, now: &Meta) -> bool {
        let then = self.tree.meta(old);
        now.changed.is_some_and(|changed| changed < self.sure)
            && (then.kind, then.inode, then.device, then.changed)
                == (now.kind, now.inode, now.device, now.changed)
    }
}

struct Job {
    parent: Arc<OwnedFd>,
    name: CString,
    node: NodeId,
    /// The folder in the earlier walk, and whether it is unchanged, so that its names are known.
    old: Option<(NodeId, bool)>,
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
    before: Option<Before<'a>>,
    queue: Mutex<Queue>,
    wake: Condvar,
}

/// Walks everything below an open folder whose number in the sink is `node`; `old` is the same folder in an earlier walk.
///
/// # Errors
/// What the sink could not take, or `Interrupted` if it was told to stop.
pub fn walk<S: Sink>(
    folder: OwnedFd,
    node: NodeId,
    sink: &S,
    watch: &Watch,
    old: Option<(Before, NodeId)>,
) -> io::Result<()> {
    raise_handle_limit();
    let threads = std::thread::available_parallelism().map_or(1, |n| n.get());
    let before = old.map(|(before, _)| before);
    let old = old.map(|(_, old)| (old, false));
    let top = Job { parent: Arc::new(folder), name: c".".to_owned(), node, old };
    let walk = Walk {
        sink,
        watch,
        before,
        queue: Mutex::new(Queue { jobs: vec![top], running: 0, failed: None }),
        wake: Condvar::new(),
    };
    std::thread::scope(|scope| {
        for _ in 1..threads {
            scope.spawn(|| walk.work());
        }
        walk.work();
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
        let mut reader = Reader::default();
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
            let outcome = self.folder(job, &mut reader);
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
        let handle = match rustix::fs::openat(&job.parent, &job.name, FOLDER, Mode::empty()) {
            Ok(handle) => handle,
            Err(error) => {
                self.sink.gap(job.node, b"", why(error));
                self.sink.fill(job.node, Vec::new(), Listing::Failed)?;
                return Ok(Vec::new());
            }
        };
        let outcome = reader.read(handle.as_fd(), self.before.zip(job.old));
        let seen = std::mem::take(&mut reader.seen);
        let listing = match outcome {
            Ok(()) => Listing::Complete,
            Err(error) => {
                self.sink.gap(job.node, b"", why(error));
                Listing::Failed
            }
        };
        for (name, error) in reader.refused.drain(..) {
            self.sink.gap(job.node, &name, why(error));
        }
        self.watch.entries.fetch_add(seen.len() as u64, Ordering::Relaxed);
        let mut folders = Vec::new();
        let mut entries = Vec::with_capacity(seen.len());
        for Seen { entry, mount, old } in seen {
            if entry.meta.kind == EntryKind::Folder && mount.is_none_or(|id| self.sink.enters(id)) {
                folders.push((entries.len(), entry.name.clone(), old));
            }
            entries.push(entry);
        }
        let numbers = self.sink.fill(job.node, entries, listing)?;
        let parent = Arc::new(handle);
        let job = |(index, name, old): (usize, Vec<u8>, Option<(NodeId, bool)>)| Job {
            parent: Arc::clone(&parent),
            name: CString::new(name).expect("a name from a disk has no NUL"),
            node: numbers[index],
            old,
        };
        Ok(folders.into_iter().map(job).collect())
    }
}

/// An entry, and the mount that is attached exactly there, if one is.
struct Seen {
    entry: NewEntry,
    mount: Option<u64>,
    /// The entry in the earlier walk, and whether it is unchanged.
    old: Option<(NodeId, bool)>,
}

/// Reads folders, with buffers that are used again.
#[derive(Default)]
struct Reader {
    seen: Vec<Seen>,
    refused: Vec<(Vec<u8>, Errno)>,
    dirents: Vec<u8>,
    path: Vec<u8>,
    xattr: Vec<u8>,
}

impl Reader {
    /// Reads all names of a folder, and what `statx(2)` says of each, sorted by name.
    fn read(
        &mut self,
        folder: BorrowedFd,
        before: Option<(Before, (NodeId, bool))>,
    ) -> Result<(), Errno> {
        self.seen.clear();
        if let Some((before, (old, true))) = before
            && before.tree.listing(old) == Listing::Complete
        {
            return self.known_names(folder, before, old);
        }
        self.dirents.clear();
        self.dirents.reserve(64 << 10);
        let mut dirents = std::mem::take(&mut self.dirents);
        let before = before.map(|(before, (old, _))| (before, old));
        let outcome = self.names(folder, dirents.spare_capacity_mut(), before);
        self.dirents = dirents;
        self.seen.sort_unstable_by(|a, b| a.entry.name.cmp(&b.entry.name));
        outcome
    }

    fn names(
        &mut self,
        folder: BorrowedFd,
        buffer: &mut [MaybeUninit<u8>],
        before: Option<(Before, NodeId)>,
    ) -> Result<(), Errno> {
        let mut names = RawDir::new(folder, buffer);
        while let Some(name) = names.next() {
            let name = name?;
            let name = name.file_name();
            if name == c"." || name == c".." {
                continue;
            }
            let old = before.and_then(|(before, folder)| {
                match before.tree.lookup(folder, name.to_bytes()) {
                    Lookup::Found(old) => Some((before, old)),
                    _ => None,
                }
            });
            self.name(folder, name, old);
        }
        Ok(())
    }

    /// A folder whose own inode is unchanged has the names that it had.
    fn known_names(
        &mut self,
        folder: BorrowedFd,
        before: Before,
        old: NodeId,
    ) -> Result<(), Errno> {
        for child in before.tree.children(old) {
            let name = CString::new(before.tree.name(child)).expect("it came from a disk");
            self.name(folder, &name, Some((before, child)));
        }
        Ok(())
    }

    fn name(&mut self, folder: BorrowedFd, name: &CStr, old: Option<(Before, NodeId)>) {
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
        old: Option<(Before, NodeId)>,
    ) -> Result<Seen, Errno> {
        let (stat, meta) = stat_at(folder, name)?;
        let attached = stat.stx_attributes.contains(StatxAttributes::MOUNT_ROOT);
        let mount = attached.then_some(stat.stx_mnt_id);
        if let Some((before, old)) = old
            && before.unchanged(old, &meta)
        {
            let tree = before.tree;
            let mut entry = NewEntry::plain(name.to_bytes(), meta);
            entry.target = tree.target(old).map(<[u8]>::to_vec);
            entry.extras = tree.extras(old).cloned().unwrap_or_default();
            return Ok(Seen { entry, mount, old: Some((old, true)) });
        }
        let old = old.map(|(_, old)| (old, false));
        let mut entry = NewEntry::plain(name.to_bytes(), meta);
        match meta.kind {
            EntryKind::Symlink => {
                // A target that can't be read stays unknown; the entry is there all the same.
                let target = rustix::fs::readlinkat(folder, name, Vec::new());
                entry.target = target.ok().map(|target| target.into_bytes());
            }
            EntryKind::Folder | EntryKind::File => {
                let path = self.proc_path(folder, name);
                let mut read = |which| acl::read(&path, which, &mut self.xattr).ok().flatten();
                entry.extras.acl = read(acl::ACCESS);
                if meta.kind == EntryKind::Folder {
                    entry.extras.default_acl = read(acl::DEFAULT);
                }
            }
            _ => {}
        }
        Ok(Seen { entry, mount, old })
    }

    /// `lgetxattr(2)` takes no handle, but a path through `/proc/self/fd` starts at one.
    fn proc_path(&mut self, folder: BorrowedFd, name: &CStr) -> CString {
        self.path.clear();
        self.path.extend_from_slice(format!("/proc/self/fd/{}/", folder.as_raw_fd()).as_bytes());
        self.path.extend_from_slice(name.to_bytes());
        CString::new(self.path.clone()).expect("neither part has a NUL")
    }
}

/// What `statx(2)` says of a name in a folder; never follows a symlink, never triggers an automount.
pub(crate) fn stat_at(folder: BorrowedFd, name: &CStr) -> Result<(Statx, Meta), Errno> {
    let flags = AtFlags::SYMLINK_NOFOLLOW | AtFlags::NO_AUTOMOUNT;
    let want = StatxFlags::BASIC_STATS | StatxFlags::MNT_ID;
    let stat = rustix::fs::statx(folder, name, flags, want)?;
    Ok((stat, meta(&stat)))
}

/// The ACLs of one entry, given a handle to its folder.
pub(crate) fn acls_at(folder: BorrowedFd, name: &CStr, entry: &mut NewEntry) {
    let mut reader = Reader::default();
    if let Ok(seen) = reader.entry(folder, name, None) {
        entry.extras = seen.entry.extras;
        entry.target = seen.entry.target;
    }
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
pub(crate) fn names_in(folder: BorrowedFd) -> Names {
    let mut reader = Reader::default();
    let failed = reader.read(folder, None).err().map(why);
    let refused = reader.refused.into_iter().map(|(name, error)| (name, why(error))).collect();
    let entries = reader.seen.into_iter().map(|seen| seen.entry).collect();
    Names { entries, refused, failed }
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

        fn enters(&self, _: u64) -> bool {
            true
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
    fn a_walk_that_is_told_to_stop_says_so() {
        let top = rustix::fs::open("/", OFlags::PATH | OFlags::DIRECTORY, Mode::empty()).unwrap();
        let watch = Watch { stop: AtomicBool::new(true), ..Watch::default() };
        let sink = Spoiler { top: "/nowhere".into(), seen: Mutex::default() };
        let error = walk(top, NodeId(0), &sink, &watch, None).unwrap_err();
        assert_eq!(error.kind(), io::ErrorKind::Interrupted);
    }
}
