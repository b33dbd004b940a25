//! Facts about this machine, as far as some paths need them.

use std::collections::{BTreeMap, HashMap};
use std::ffi::CString;
use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{SystemTime, UNIX_EPOCH};

use rustix::fs::{CWD, Mode, OFlags};
use rustix::io::Errno;
use tarvek_core::facts::build::{Earlier, NewEntry, Renewal, TreeBuilder};
use tarvek_core::facts::host::{Gap, HostFacts, Root, Source};
use tarvek_core::facts::mounts::MountTable;
use tarvek_core::facts::tree::{Listing, NodeId, Tree};
use tarvek_core::kernel::entry::{EntryKind, Project};
use tarvek_core::words::name::Name;
use tarvek_core::words::path::{AbsPath, components};
use tarvek_formats::{accounts, fstab, mountinfo, told};

use crate::process::Process;
use crate::walk::{self, MountKind, Sink, Watch};
use crate::{attributes, system};

/// How much of a place is to be seen.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Depth {
    /// The entry itself.
    Entry,
    Names,
    /// Everything below.
    Everything,
}

/// The name of this machine.
pub fn host_name() -> Name {
    rustix::system::uname().nodename().to_string_lossy().as_ref().into()
}

/// The effective uid of this process.
pub fn own_uid() -> u32 {
    rustix::process::geteuid().as_raw()
}

/// The effective gid and the supplementary groups of this process.
pub fn own_groups() -> (u32, Vec<u32>) {
    let groups = rustix::process::getgroups().unwrap_or_default();
    let own = rustix::process::getegid().as_raw();
    (own, groups.into_iter().map(|gid| gid.as_raw()).collect())
}

/// What to look at, and how.
#[derive(Debug)]
pub struct Look<'a> {
    pub places: &'a [(AbsPath, Depth)],
    /// Whether to read what the host says of itself as well: exports, units, datasets, ports, …
    pub documents: bool,
    /// In whose view paths are; that of whoever looks, unless it is somebody else's.
    pub process: Option<&'a Process>,
    /// Who watches.
    pub watch: &'a Watch,
}

/// Looks at this machine: mounts, accounts, and the given places. Symlinks on the way to a place are noted, and what they
/// lead to is looked at as well.
///
/// # Errors
/// Only what makes the whole look impossible; everything else is a gap in the facts.
pub fn observe(look: &Look) -> io::Result<HostFacts> {
    Ok(look_again(look, None)?.0)
}

/// As [`observe`], on top of an earlier look: what has not changed since is not read again. Also tells what differs.
///
/// # Errors
/// As [`observe`].
pub fn renew(look: &Look, before: HostFacts) -> io::Result<(HostFacts, Renewal)> {
    look_again(look, Some(before))
}

fn look_again(look: &Look, before: Option<HostFacts>) -> io::Result<(HostFacts, Renewal)> {
    let now = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |age| age.as_secs() as i64);
    let uname = rustix::system::uname();
    let kernel =
        format!("{} {}", uname.sysname().to_string_lossy(), uname.release().to_string_lossy());
    let mounts = match look.process {
        Some(process) => Some(process.mounts.clone()),
        None => own_mounts(),
    };
    let (passwd, group) = system::name_service();
    let (accounts, groups) = accounts::read(&passwd, &group);
    let kinds = MountKinds(mounts.as_ref());
    let top = top(look)?;
    let mut scout = Scout { root: Sight::root(&top, kinds)?, top, gaps: Vec::new(), kinds };
    for (path, depth) in look.places {
        scout.go(path, *depth, 0);
    }
    let (tree, gaps, renewal) = scout.grow(look, before)?;
    let root = |(path, depth): &(AbsPath, Depth)| Root {
        path: path.clone(),
        deep: *depth == Depth::Everything,
    };
    // Settings of the kernel decide about access wherever it is asked.
    let documents =
        if look.documents { system::documents(mounts.as_ref()) } else { vec![system::settings()] };
    let told = told::read(&documents, mounts.as_ref());
    let facts = HostFacts {
        name: look.process.map_or_else(host_name, Process::name),
        source: Source::Live,
        taken: now,
        taken_by: Some(own_uid()),
        kernel: Some(kernel.into()),
        mounts,
        fstab: fstab::read(&std::fs::read("/etc/fstab").unwrap_or_default()),
        accounts,
        groups,
        told,
        documents,
        roots: look.places.iter().map(root).collect(),
        complete: true,
        tree,
        digests: HashMap::new(),
        media: HashMap::new(),
        gaps,
    };
    Ok((facts, renewal))
}

/// The mounts of this thread, which may have some of its own.
pub fn own_mounts() -> Option<MountTable> {
    let table = std::fs::read("/proc/thread-self/mountinfo");
    let table = table.or_else(|_| std::fs::read("/proc/self/mountinfo")).ok()?;
    mountinfo::read(&table).ok()
}

/// Where the paths of a look begin.
fn top(look: &Look) -> io::Result<OwnedFd> {
    match look.process {
        Some(process) => Ok(process.root().try_clone_to_owned()?),
        None => Ok(open_path(CWD, b"/")?),
    }
}

/// What the mount table tells of a mount.
#[derive(Clone, Copy)]
struct MountKinds<'a>(Option<&'a MountTable>);

impl MountKinds<'_> {
    fn of(self, mount: u64) -> MountKind {
        let entry = self.0.and_then(|table| table.entry(mount));
        let Some(entry) = entry else {
            return MountKind { enters: true, lists_attributes: false, projects: false };
        };
        MountKind {
            // Kernel filesystems and other machines are only looked at where they are asked for.
            enters: entry.network().is_none() && !is_kernel(&entry.filesystem),
            lists_attributes: attributes::lists_all(entry.filesystem.raw()),
            // XFS keeps projects whether quota is on or not.
            projects: entry.filesystem == "xfs"
                || ["prjquota", "pquota"].iter().any(|quota| entry.super_options.has(quota)),
        }
    }
}

/// A place on the way to what is wanted.
struct Sight {
    entry: NewEntry,
    depth: Depth,
    below: BTreeMap<Vec<u8>, Sight>,
}

impl Sight {
    fn root(top: &OwnedFd, kinds: MountKinds) -> io::Result<Self> {
        let entry = NewEntry { name: Vec::new(), ..look(top, b".", kinds)? };
        Ok(Self { entry, depth: Depth::Entry, below: BTreeMap::new() })
    }
}

/// Goes to the wanted places by name, before anything is walked.
struct Scout<'a> {
    root: Sight,
    /// Where paths begin.
    top: OwnedFd,
    gaps: Vec<Gap>,
    kinds: MountKinds<'a>,
}

impl Scout<'_> {
    fn go(&mut self, path: &AbsPath, depth: Depth, turns: u32) {
        let Ok(mut handle) = open_path(&self.top, b".") else { return };
        let mut here = AbsPath::root();
        let parts: Vec<&[u8]> = path.components().collect();
        for (n, part) in parts.iter().enumerate() {
            let next = here.child(part);
            let kinds = self.kinds;
            let place = self.place(&here).expect("the walk came this way");
            if !place.below.contains_key(*part) {
                match look(&handle, part, kinds) {
                    Ok(entry) => {
                        let found = Sight { entry, depth: Depth::Entry, below: BTreeMap::new() };
                        place.below.insert(part.to_vec(), found);
                    }
                    Err(Errno::NOENT) => {
                        // Its neighbours may tell what was meant.
                        place.depth = place.depth.max(Depth::Names);
                        return;
                    }
                    Err(Errno::NOTDIR) => return,
                    Err(error) => return self.gap(&next, walk::why(error)),
                }
            }
            let entry = &place.below[*part].entry;
            match entry.meta.kind {
                EntryKind::Folder => {}
                EntryKind::Symlink => {
                    let target = entry.target.clone();
                    let rest = parts[n + 1..].join(&b"/"[..]);
                    return self.follow(&here, target, &rest, depth, turns);
                }
                _ => return,
            }
            match open_path(&handle, part) {
                Ok(next) => handle = next,
                Err(error) => return self.gap(&next, walk::why(error)),
            }
            here = next;
        }
        let place = self.place(path).expect("the walk came this way");
        place.depth = place.depth.max(depth);
    }

    /// A symlink on the way: what it leads to is a wanted place as well (`path_resolution(7)`: at most 40 of them).
    fn follow(
        &mut self,
        folder: &AbsPath,
        target: Option<Vec<u8>>,
        rest: &[u8],
        depth: Depth,
        turns: u32,
    ) {
        let Some(target) = target.filter(|_| turns < 40) else { return };
        let mut path = if target.starts_with(b"/") { AbsPath::root() } else { folder.clone() };
        for part in components(&target).chain(components(rest)) {
            if part == b".." {
                path = path.parent().unwrap_or(path);
            } else {
                path.push(part);
            }
        }
        self.go(&path, depth, turns + 1);
    }

    fn place(&mut self, path: &AbsPath) -> Option<&mut Sight> {
        path.components().try_fold(&mut self.root, |place, part| place.below.get_mut(part))
    }

    fn gap(&mut self, path: &AbsPath, why: String) {
        let gap = Gap { path: path.clone(), why: why.into() };
        if !self.gaps.contains(&gap) {
            self.gaps.push(gap);
        }
    }

    /// Makes the tree: names and walks where they are wanted, single entries elsewhere.
    fn grow(self, look: &Look, before: Option<HostFacts>) -> io::Result<(Tree, Vec<Gap>, Renewal)> {
        let Self { root, top, gaps, kinds } = self;
        // Two seconds before that look began, whatever the clock of the filesystem ticks in.
        let sure = before.as_ref().map(|facts| (facts.taken - 2) * 1_000_000_000);
        let builder = match before {
            Some(facts) => {
                let mut builder = TreeBuilder::renew(facts.tree);
                builder.amend(Tree::ROOT, root.entry.clone());
                builder
            }
            None => TreeBuilder::new(root.entry.clone()),
        };
        let sink = TreeSink { state: Mutex::new((builder, gaps)), kinds };
        let mut grower = Grower { sink, look, sure };
        grower.place(root, Tree::ROOT, top)?;
        let (builder, gaps) =
            grower.sink.state.into_inner().unwrap_or_else(PoisonError::into_inner);
        let (tree, renewal) = builder.finish_renewed();
        Ok((tree, gaps, renewal))
    }
}

struct Grower<'a> {
    sink: TreeSink<'a>,
    look: &'a Look<'a>,
    sure: Option<i64>,
}

impl Grower<'_> {
    fn place(&mut self, place: Sight, node: NodeId, handle: OwnedFd) -> io::Result<()> {
        if place.entry.meta.kind != EntryKind::Folder {
            return Ok(());
        }
        if place.depth == Depth::Everything {
            return walk::walk(handle, node, &self.sink, self.look.watch, self.sure);
        }
        let mut listing = Listing::NotListed;
        let mut entries: BTreeMap<Vec<u8>, NewEntry> = BTreeMap::new();
        if place.depth == Depth::Names {
            listing = Listing::Complete;
            match rustix::fs::openat(
                &handle,
                c".",
                OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC,
                Mode::empty(),
            ) {
                Ok(readable) => {
                    let names =
                        walk::names_in(readable.as_fd(), &|mount| self.sink.kinds.of(mount));
                    entries.extend(names.entries.into_iter().map(|e| (e.name.clone(), e)));
                    for (name, why) in names.refused {
                        self.sink.gap(node, &name, why);
                    }
                    if let Some(why) = names.failed {
                        self.sink.gap(node, b"", why);
                        listing = Listing::Failed;
                    }
                }
                Err(error) => {
                    self.sink.gap(node, b"", walk::why(error));
                    listing = Listing::Failed;
                }
            }
        }
        entries.extend(place.below.iter().map(|(name, below)| (name.clone(), below.entry.clone())));
        let names: Vec<Vec<u8>> = entries.keys().cloned().collect();
        let numbers = self.sink.fill(node, entries.into_values().collect(), listing)?;
        let mut below = place.below;
        for (name, number) in names.iter().zip(numbers) {
            let Some(place) = below.remove(name).filter(|p| p.entry.meta.kind == EntryKind::Folder)
            else {
                continue;
            };
            match open_path(&handle, name) {
                Ok(handle) => self.place(place, number, handle)?,
                Err(error) => self.sink.gap(number, b"", walk::why(error)),
            }
        }
        Ok(())
    }
}

fn c_name(name: &[u8]) -> CString {
    CString::new(name).expect("a path has no NUL")
}

/// Opens a folder as a place to start from, which needs no right to read it.
fn open_path(folder: impl AsFd, name: &[u8]) -> Result<OwnedFd, Errno> {
    let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    rustix::fs::openat(folder, c_name(name).as_c_str(), flags, Mode::empty())
}

fn look(folder: impl AsFd, name: &[u8], kinds: MountKinds) -> Result<NewEntry, Errno> {
    walk::entry_at(folder.as_fd(), &c_name(name), &|mount| kinds.of(mount))
}

/// A walk into memory.
struct TreeSink<'a> {
    state: Mutex<(TreeBuilder, Vec<Gap>)>,
    kinds: MountKinds<'a>,
}

impl TreeSink<'_> {
    fn state(&self) -> MutexGuard<'_, (TreeBuilder, Vec<Gap>)> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Sink for TreeSink<'_> {
    fn earlier(&self, folder: NodeId, into: &mut Earlier) {
        self.state().0.earlier(folder, into);
    }

    fn fill(
        &self,
        folder: NodeId,
        entries: Vec<NewEntry>,
        listing: Listing,
    ) -> io::Result<Vec<NodeId>> {
        Ok(self.state().0.fill(folder, entries, listing))
    }

    fn project(&self, folder: NodeId, project: Project) {
        self.state().0.project(folder, project);
    }

    fn gap(&self, folder: NodeId, name: &[u8], why: String) {
        let mut state = self.state();
        let mut path = state.0.tree().path(folder);
        if !name.is_empty() {
            path.push(name);
        }
        state.1.push(Gap { path, why: why.into() });
    }

    fn mount(&self, mount: u64) -> MountKind {
        self.kinds.of(mount)
    }
}

/// Filesystems that show the kernel's state and hold no files.
fn is_kernel(filesystem: &Name) -> bool {
    matches!(
        filesystem.raw(),
        "proc"
            | "sysfs"
            | "devtmpfs"
            | "devpts"
            | "cgroup"
            | "cgroup2"
            | "debugfs"
            | "tracefs"
            | "securityfs"
            | "configfs"
            | "bpf"
            | "pstore"
            | "mqueue"
            | "hugetlbfs"
            | "autofs"
            | "efivarfs"
            | "fusectl"
            | "binfmt_misc"
            | "rpc_pipefs"
            | "nfsd"
    )
}
