//! The walk: every entry below a folder, once, relative to open handles, in parallel.
//!
//! It never follows a symlink, never opens anything but folders, and never leaves its root.
//! Whatever goes wrong with one entry becomes a [`Gap`](tarvek_core::facts::host::Gap); the walk
//! goes on.

use std::ffi::{CStr, CString};
use std::io;
use std::ops::Range;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};

use rustix::fs::{AtFlags, Mode, OFlags, RawDir, Statx, StatxAttributes, StatxFlags};
use rustix::io::Errno;
use tarvek_core::facts::build::NewEntry;
use tarvek_core::facts::tree::Listing;
use tarvek_core::kernel::entry::{EntryKind, Flags, Meta};
use tarvek_core::words::path::AbsPath;

use crate::attributes::Attributes;
use crate::project;
use crate::sink::{Contents, Earlier, Gaps, Number, Sink};

/// Folders are opened for reading their names, and only if they are folders; a FIFO in their place
/// is never waited for.
const FOLDER: OFlags = OFlags::RDONLY
    .union(OFlags::DIRECTORY)
    .union(OFlags::NOFOLLOW)
    .union(OFlags::CLOEXEC)
    .union(OFlags::NONBLOCK);

/// What a walk has to know of a mount.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct MountKind {
    /// Whether to go below it where it is met on the way.
    pub enters: bool,
    /// Whether its filesystem names all attributes of an entry when asked for their list.
    pub lists_attributes: bool,
    /// Whether files may belong to projects although their folder does not.
    pub projects: bool,
    /// Whether what tells the project of an entry tells as well whether it has any attributes.
    pub tells_attributes: bool,
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
    number: Number,
    /// Its name stands here as well.
    at: Arc<Step>,
    /// The inode is as it was in the earlier walk, so that its names are known.
    unchanged: bool,
}

/// A folder on the way, by its name.
struct Step {
    above: Option<Arc<Step>>,
    name: CString,
}

impl Step {
    /// Its path, given that of the folder that the walk began in.
    fn path(&self, top: &AbsPath) -> AbsPath {
        let names = std::iter::successors(Some(self), |step| step.above.as_deref());
        let mut names: Vec<&[u8]> = names.map(|step| step.name.to_bytes()).collect();
        // The first is the walk's own beginning.
        names.pop();
        let mut path = top.clone();
        names.into_iter().rev().for_each(|name| path.push(name));
        path
    }
}

impl Drop for Step {
    /// One after the other: a chain may be longer than the stack is deep.
    fn drop(&mut self) {
        let mut above = self.above.take();
        while let Some(mut step) = above.and_then(Arc::into_inner) {
            above = step.above.take();
        }
    }
}

struct Queue {
    jobs: Vec<Job>,
    /// Threads that have a job, and may bring more.
    running: usize,
    failed: Option<io::Error>,
}

/// What a walk needs of whoever has it done.
pub struct Setting<'a, S> {
    pub sink: &'a S,
    pub gaps: &'a Gaps,
    /// What kind of mount an entry lies on.
    pub mounts: &'a (dyn Fn(u64) -> MountKind + Sync),
    pub watch: &'a Watch,
    /// Inodes that had not changed by then (nanoseconds since 1970 UTC) are as the sink's earlier
    /// walk saw them, since an inode's ctime moves with everything else. Later ones may have
    /// changed again within one tick of the filesystem's clock.
    pub sure: Option<i64>,
}

struct Walk<'a, S> {
    setting: &'a Setting<'a, S>,
    top: &'a AbsPath,
    queue: Mutex<Queue>,
    wake: Condvar,
    /// Whether anything failed, so that nobody need go on.
    failed: AtomicBool,
}

/// Walks everything below an open folder with its number in the sink and its path.
///
/// # Errors
/// What the sink could not take, or `Interrupted` if it was told to stop.
pub fn walk<S: Sink>(
    folder: OwnedFd,
    number: Number,
    top: &AbsPath,
    setting: &Setting<S>,
) -> io::Result<()> {
    raise_handle_limit();
    let threads = std::thread::available_parallelism().map_or(1, |n| n.get());
    let at = Arc::new(Step { above: None, name: c".".to_owned() });
    let first = Job { parent: Arc::new(folder), number, at, unchanged: false };
    let walk = Walk {
        setting,
        top,
        queue: Mutex::new(Queue { jobs: vec![first], running: threads, failed: None }),
        wake: Condvar::new(),
        failed: AtomicBool::new(false),
    };
    std::thread::scope(|scope| {
        for _ in 0..threads {
            scope.spawn(|| walk.work());
        }
    });
    match walk.lock().failed.take() {
        Some(error) => Err(error),
        None if setting.watch.stop.load(Ordering::Relaxed) => {
            Err(io::ErrorKind::Interrupted.into())
        }
        None => Ok(()),
    }
}

impl<S: Sink> Walk<'_, S> {
    fn lock(&self) -> MutexGuard<'_, Queue> {
        self.queue.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn work(&self) {
        let mut reader = Reader::new(self.setting.mounts, self.setting.sure);
        reader.attributes = Attributes::of_this_thread();
        let mut own = None;
        while let Some(job) = self.next(own) {
            // Whatever goes wrong here may not leave the others waiting for ever.
            let work = AssertUnwindSafe(|| self.folder(job, &mut reader));
            let outcome = catch_unwind(work).unwrap_or_else(|_| {
                Err(io::Error::other("a part of the walk failed in an unforeseen way"))
            });
            let mut jobs = outcome.unwrap_or_else(|error| {
                self.lock().failed.get_or_insert(error);
                self.failed.store(true, Ordering::Relaxed);
                Vec::new()
            });
            // Whoever brings folders goes on with the last of them: a chain of folders asks nobody.
            own = jobs.pop();
            if !jobs.is_empty() {
                self.lock().jobs.append(&mut jobs);
                self.wake.notify_all();
            }
        }
    }

    fn is_over(&self) -> bool {
        self.failed.load(Ordering::Relaxed) || self.setting.watch.stop.load(Ordering::Relaxed)
    }

    /// What a thread does next: the job that it has, or else one that others have left. `None`:
    /// there is no more.
    fn next(&self, own: Option<Job>) -> Option<Job> {
        if own.is_some() && !self.is_over() {
            return own;
        }
        let mut queue = self.lock();
        queue.running -= 1;
        loop {
            let job = queue.jobs.pop().filter(|_| !self.is_over());
            if job.is_some() {
                queue.running += 1;
                return job;
            }
            if queue.running == 0 || self.is_over() {
                self.wake.notify_all();
                return None;
            }
            queue = self.wake.wait(queue).unwrap_or_else(PoisonError::into_inner);
        }
    }

    /// Reads one folder into the sink, and returns the folders in it.
    fn folder(&self, job: Job, reader: &mut Reader) -> io::Result<Vec<Job>> {
        let Setting { sink, gaps, watch, .. } = *self.setting;
        sink.earlier(job.number, &mut reader.earlier)?;
        let handle = match rustix::fs::openat(&job.parent, &job.at.name, FOLDER, Mode::empty()) {
            Ok(handle) => handle,
            Err(error) => {
                gaps.note(job.at.path(self.top), why(error));
                reader.seen.clear();
                reader.seen.listing = Listing::Failed;
                sink.fill(job.number, &reader.seen, &reader.earlier)?;
                return Ok(Vec::new());
            }
        };
        let project = project::of_folder(handle.as_fd());
        let project = project.map(|told| told.project);
        reader.in_project = project.is_some_and(|p| p.inherits || p.id != 0);
        let listing = match reader.read(handle.as_fd(), job.unchanged) {
            Ok(()) => Listing::Complete,
            Err(error) => {
                gaps.note(job.at.path(self.top), why(error));
                Listing::Failed
            }
        };
        let refused = !reader.refused.is_empty();
        for (name, error) in reader.refused.drain(..) {
            gaps.note(job.at.path(self.top).child(&name), why(error));
        }
        watch.entries.fetch_add(reader.seen.entries.len() as u64, Ordering::Relaxed);
        (reader.seen.listing, reader.seen.project) = (listing, project);
        let as_before = listing == Listing::Complete
            && !refused
            && project == reader.earlier.project
            && reader.all_as_before();
        let numbers = if as_before {
            sink.same(job.number, &reader.earlier);
            Vec::new()
        } else {
            sink.fill(job.number, &reader.seen, &reader.earlier)?
        };
        let parent = Arc::new(handle);
        let mut jobs = Vec::with_capacity(reader.folders.len());
        for Folder { index, name, mount, unchanged } in reader.folders.drain(..) {
            let number = match numbers.get(index) {
                Some(number) => *number,
                None => reader.earlier.folder(index).expect("a folder has a number"),
            };
            if mount.is_none_or(|mount| (self.setting.mounts)(mount).enters) {
                let at = Arc::new(Step { above: Some(Arc::clone(&job.at)), name });
                jobs.push(Job { parent: Arc::clone(&parent), number, at, unchanged });
            } else {
                sink.unread(number)?;
            }
        }
        Ok(jobs)
    }
}

/// A folder that was met.
struct Folder {
    index: usize,
    name: CString,
    /// The mount that is attached exactly there, if one is.
    mount: Option<u64>,
    /// Whether the inode has not changed since the earlier walk.
    unchanged: bool,
}

/// Reads folders, with buffers that are used again.
struct Reader<'a> {
    mounts: &'a dyn Fn(u64) -> MountKind,
    sure: Option<i64>,
    earlier: Earlier,
    seen: Contents,
    folders: Vec<Folder>,
    /// How many entries are exactly what the earlier walk saw.
    as_before: usize,
    refused: Vec<(Vec<u8>, Errno)>,
    attributes: Attributes,
    /// The kind of the mount that was met last.
    mount: Option<(u64, MountKind)>,
    in_project: bool,
    dirents: Vec<u8>,
    /// Names with a NUL behind each, and where they stand.
    names: Vec<u8>,
    ranges: Vec<Range<usize>>,
}

impl<'a> Reader<'a> {
    fn new(mounts: &'a dyn Fn(u64) -> MountKind, sure: Option<i64>) -> Self {
        Self {
            mounts,
            sure,
            earlier: Earlier::default(),
            seen: Contents::default(),
            folders: Vec::new(),
            as_before: 0,
            refused: Vec::new(),
            attributes: Attributes::default(),
            mount: None,
            in_project: false,
            dirents: Vec::new(),
            names: Vec::new(),
            ranges: Vec::new(),
        }
    }

    /// Reads all names of a folder, and what `statx(2)` says of each, sorted by name. `known`: the
    /// folder's inode has not changed, so that its names need not be read again.
    fn read(&mut self, folder: BorrowedFd, known: bool) -> Result<(), Errno> {
        self.seen.clear();
        self.folders.clear();
        self.as_before = 0;
        self.attributes.enter(folder);
        let outcome = self.names(folder, known && self.earlier.listing == Listing::Complete);
        let (names, ranges) = (std::mem::take(&mut self.names), std::mem::take(&mut self.ranges));
        // Both stand in the order of their names.
        let mut before = 0;
        for range in &ranges {
            let name = CStr::from_bytes_with_nul(&names[range.clone()]);
            let name = name.expect("every name has its NUL, and no other");
            let bytes = name.to_bytes();
            while before < self.earlier.len() && self.earlier.name(before) < bytes {
                before += 1;
            }
            let there = before < self.earlier.len() && self.earlier.name(before) == bytes;
            match self.entry(folder, name, there.then_some(before)) {
                // It vanished between the two calls; then it is simply not there.
                Ok(()) | Err(Errno::NOENT) => {}
                Err(error) => self.refused.push((bytes.to_vec(), error)),
            }
        }
        (self.names, self.ranges) = (names, ranges);
        outcome
    }

    /// Puts the names of a folder in place, sorted.
    fn names(&mut self, folder: BorrowedFd, known: bool) -> Result<(), Errno> {
        let Self { names, ranges, dirents, earlier, .. } = self;
        names.clear();
        ranges.clear();
        let mut put = |name: &[u8]| {
            let start = names.len();
            names.extend_from_slice(name);
            names.push(0);
            ranges.push(start..names.len());
        };
        if known {
            (0..earlier.len()).for_each(|index| put(earlier.name(index)));
            return Ok(());
        }
        dirents.reserve(64 << 10);
        let mut read = RawDir::new(folder, dirents.spare_capacity_mut());
        let outcome = loop {
            match read.next() {
                None => break Ok(()),
                Some(Err(error)) => break Err(error),
                Some(Ok(entry)) => match entry.file_name().to_bytes() {
                    b"." | b".." => {}
                    name => put(name),
                },
            }
        };
        // The NUL stands before every other byte, so that it changes nothing.
        ranges.sort_unstable_by(|a, b| names[a.clone()].cmp(&names[b.clone()]));
        outcome
    }

    fn entry(
        &mut self,
        folder: BorrowedFd,
        name: &CStr,
        before: Option<usize>,
    ) -> Result<(), Errno> {
        let (stat, meta) = stat_at(folder, name)?;
        let mut unchanged = false;
        if let Some((sure, index)) = self.sure.zip(before) {
            let then = &self.earlier.entry(index).meta;
            unchanged = meta.changed.is_some_and(|changed| changed < sure)
                && (then.kind, then.inode, then.device, then.changed)
                    == (meta.kind, meta.inode, meta.device, meta.changed);
            self.as_before += usize::from(unchanged && *then == meta);
        }
        if meta.is_folder() {
            let attached = stat.stx_attributes.contains(StatxAttributes::MOUNT_ROOT);
            self.folders.push(Folder {
                index: self.seen.entries.len(),
                name: name.to_owned(),
                mount: attached.then_some(stat.stx_mnt_id),
                unchanged,
            });
        }
        if unchanged {
            self.seen.push(name.to_bytes(), meta).before(before, true);
            return Ok(());
        }
        let id = stat.stx_mnt_id;
        let on = match self.mount {
            Some((known, on)) if known == id => on,
            _ => self.mount.insert((id, (self.mounts)(id))).1,
        };
        let mut told = None;
        if (self.in_project || on.projects) && meta.kind != EntryKind::Folder {
            told = project::of_name(folder, name);
        }
        let mut extras = match told {
            // Its filesystem says that there is none.
            Some(told) if on.tells_attributes && !told.has_attributes => None,
            _ => self.attributes.read(folder, name, meta.kind, id, on.lists_attributes),
        };
        if let Some(told) = told {
            Arc::make_mut(extras.get_or_insert_default()).project = Some(told.project);
        }
        // A target that can't be read stays unknown; the entry is there all the same.
        let target = (meta.kind == EntryKind::Symlink)
            .then(|| rustix::fs::readlinkat(folder, name, Vec::new()).ok())
            .flatten();
        let found = self.seen.push(name.to_bytes(), meta).before(before, false);
        found.extras = extras;
        if let Some(target) = target {
            self.seen.target(target.to_bytes());
        }
        Ok(())
    }

    /// Whether the folder holds what it held, and nothing of it has changed.
    fn all_as_before(&self) -> bool {
        self.earlier.listing == Listing::Complete
            && self.seen.entries.len() == self.earlier.len()
            && self.as_before == self.earlier.len()
    }
}

/// What `statx(2)` says of a name in a folder, or of the handle itself for an empty name; never
/// follows a symlink, never triggers an automount.
pub(crate) fn stat_at(folder: BorrowedFd, name: &CStr) -> Result<(Statx, Meta), Errno> {
    let flags = AtFlags::SYMLINK_NOFOLLOW | AtFlags::NO_AUTOMOUNT | AtFlags::EMPTY_PATH;
    let want = StatxFlags::BASIC_STATS | StatxFlags::MNT_ID;
    let stat = rustix::fs::statx(folder, name, flags, want)?;
    Ok((stat, meta(&stat)))
}

/// What `statx(2)` says of an open handle, asked of whoever keeps the file and not of a cache
/// (AT_STATX_FORCE_SYNC).
pub(crate) fn stat_now(handle: BorrowedFd) -> Result<Meta, Errno> {
    let flags = AtFlags::EMPTY_PATH | AtFlags::STATX_FORCE_SYNC;
    rustix::fs::statx(handle, c"", flags, StatxFlags::BASIC_STATS).map(|stat| meta(&stat))
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
    reader.entry(folder, name, None)?;
    let mut entry = reader.seen.new_entries().next().expect("it was put there");
    if entry.extras.project.is_none() {
        entry.extras.project = project::of_name(folder, name).map(|told| told.project);
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
    Names { entries: reader.seen.new_entries().collect(), refused, failed }
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
    use std::os::unix::ffi::OsStrExt;
    use std::path::{Path, PathBuf};

    use tarvek_core::facts::host::Gap;

    use super::*;

    /// Takes what a walk sees, and spoils the tree while the walk is on its way.
    struct Spoiler {
        top: PathBuf,
        seen: Mutex<u32>,
    }

    impl Sink for Spoiler {
        fn earlier(&self, _: Number, _: &mut Earlier) -> io::Result<()> {
            Ok(())
        }

        fn same(&self, _: Number, _: &Earlier) {}

        fn unread(&self, _: Number) -> io::Result<()> {
            Ok(())
        }

        fn fill(&self, _: Number, seen: &Contents, _: &Earlier) -> io::Result<Vec<Number>> {
            let mut count = self.seen.lock().unwrap();
            for entry in seen.new_entries() {
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
            let first = *count;
            *count += seen.entries.len() as u32;
            Ok((first..*count).collect())
        }
    }

    /// Walks a folder into a spoiler of another one, and tells what could not be seen.
    fn walked(top: &Path, spoils: &Path, watch: &Watch) -> (io::Result<()>, Vec<Gap>) {
        let sink = Spoiler { top: spoils.to_owned(), seen: Mutex::new(1) };
        let gaps = Gaps::default();
        let mounts = |_| MountKind {
            enters: true,
            lists_attributes: false,
            projects: false,
            tells_attributes: false,
        };
        let setting = Setting { sink: &sink, gaps: &gaps, mounts: &mounts, watch, sure: None };
        let folder =
            rustix::fs::open(top, OFlags::PATH | OFlags::DIRECTORY, Mode::empty()).unwrap();
        let path = AbsPath::new(top.as_os_str().as_bytes()).unwrap();
        (walk(folder, 0, &path, &setting), gaps.into_inner())
    }

    use rustix::fs::CWD;

    #[test]
    fn folders_that_vanish_or_change_under_the_walk_are_gaps() {
        let dir = tempfile::tempdir().unwrap();
        for name in ["vanishes", "becomes a fifo", "becomes a link", "stays/deeper"] {
            fs::create_dir_all(dir.path().join(name)).unwrap();
        }
        let watch = Watch::default();
        let (outcome, gaps) = walked(dir.path(), dir.path(), &watch);
        outcome.unwrap();
        let mut names: Vec<&[u8]> = gaps.iter().map(|gap| gap.path.name().unwrap()).collect();
        names.sort();
        assert_eq!(names, [&b"becomes a fifo"[..], b"becomes a link", b"vanishes"], "{gaps:?}");
        assert!(gaps.iter().all(|gap| {
            gap.path.parent().unwrap().as_bytes() == dir.path().as_os_str().as_bytes()
        }));
        assert_eq!(watch.entries.load(Ordering::Relaxed), 5);
    }

    #[test]
    fn a_panic_ends_the_walk_with_an_error() {
        let dir = tempfile::tempdir().unwrap();
        for name in ["a/vanishes", "b/c", "d/e"] {
            fs::create_dir_all(dir.path().join(name)).unwrap();
        }
        // The folder that is to vanish is not where this looks for it, so that its unwrap panics.
        let (outcome, _) = walked(dir.path(), Path::new("/nowhere"), &Watch::default());
        let error = outcome.unwrap_err();
        assert_eq!(error.kind(), io::ErrorKind::Other, "{error}");
    }

    #[test]
    fn a_walk_that_is_told_to_stop_says_so() {
        let watch = Watch { stop: AtomicBool::new(true), ..Watch::default() };
        let error = walked(Path::new("/"), Path::new("/nowhere"), &watch).0.unwrap_err();
        assert_eq!(error.kind(), io::ErrorKind::Interrupted);
    }
}
