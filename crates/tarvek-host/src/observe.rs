//! Facts about this machine, as far as some paths need them.

use std::collections::{BTreeMap, HashMap};
use std::ffi::CString;
use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::sync::atomic::Ordering;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{SystemTime, UNIX_EPOCH};

use rustix::fs::{CWD, Mode, OFlags};
use rustix::io::Errno;
use tarvek_core::facts::build::{NewEntry, TreeBuilder};
use tarvek_core::facts::host::{HostFacts, Root, Source};
use tarvek_core::facts::mounts::MountTable;
use tarvek_core::facts::tree::{Listing, NodeId, Tree};
use tarvek_core::kernel::entry::EntryKind;
use tarvek_core::words::name::Name;
use tarvek_core::words::path::{AbsPath, components};
use tarvek_formats::{accounts, fstab, host_report};

use crate::mounts::own_mounts;
use crate::process::{self, Process};
use crate::sink::{ABOVE, Contents, Earlier, Gaps, Number, Sink};
use crate::walk::{self, MountKind, Setting, Watch};
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

/// Looks at this machine: mounts, accounts, and the given places. Symlinks on the way to a place
/// are noted, and what they lead to is looked at as well.
///
/// # Errors
/// Only what makes the whole look impossible; everything else is a gap in the facts.
pub fn observe(look: &Look) -> io::Result<HostFacts> {
    let (tree, facts) = match look.process {
        None => {
            let tree = TreeSink::default();
            let facts = observe_into(look, &tree, None)?;
            (tree, facts)
        }
        Some(process) => {
            let now = now();
            let (tree, gaps) = scan_with_deadline(look, process)?;
            (tree, facts(look, now, Some(process.mounts.clone()), gaps))
        }
    };
    let builder = tree.0.into_inner().unwrap_or_else(PoisonError::into_inner);
    let tree = builder.expect("a look begins at the root").finish();
    Ok(HostFacts { tree, ..facts })
}

/// As [`observe`], with files and folders put elsewhere: the tree of the facts is empty. `before`:
/// when an earlier look that the sink knows was taken (seconds since 1970 UTC); what has not
/// changed since is not read again.
///
/// # Errors
/// As [`observe`], and what the sink can't take.
pub fn observe_into(look: &Look, sink: &impl Sink, before: Option<i64>) -> io::Result<HostFacts> {
    let now = now();
    let mounts = match look.process {
        Some(process) => Some(process.mounts.clone()),
        None => own_mounts(),
    };
    let gaps = scan(top(look)?, mounts.as_ref(), look.places, look.watch, sink, before)?;
    Ok(facts(look, now, mounts, gaps))
}

/// Seconds since 1970 UTC.
fn now() -> i64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |age| age.as_secs() as i64)
}

/// Files and folders of some places below a folder, put into a sink; what could not be looked at.
fn scan(
    top: OwnedFd,
    mounts: Option<&MountTable>,
    places: &[(AbsPath, Depth)],
    watch: &Watch,
    sink: &impl Sink,
    before: Option<i64>,
) -> io::Result<Gaps> {
    let kinds = MountKinds(mounts);
    let gaps = Gaps::default();
    let mut scout = Scout { root: Sight::root(&top, kinds)?, top, gaps: &gaps, kinds };
    for (path, depth) in places {
        scout.go(path, *depth, 0);
    }
    // Two seconds before that look began, whatever the clock of the filesystem ticks in.
    let sure = before.map(|taken| taken.saturating_sub(2).saturating_mul(1_000_000_000));
    let mounts_of = |mount| kinds.of(mount);
    let setting = Setting { sink, gaps: &gaps, mounts: &mounts_of, watch, sure };
    scout.grow(&setting)?;
    Ok(gaps)
}

/// The same through the root of a process, which may be a filesystem of somebody's own that never
/// answers: in a thread that is left behind then.
fn scan_with_deadline(look: &Look, process: &Process) -> io::Result<(TreeSink, Gaps)> {
    let (top, mounts, places) = (top(look)?, process.mounts.clone(), look.places.to_vec());
    let watch = Arc::new(Watch::default());
    let own = Arc::clone(&watch);
    let scan = move || {
        let tree = TreeSink::default();
        let gaps = scan(top, Some(&mounts), &places, &own, &tree, None)?;
        Ok((tree, gaps))
    };
    let mut told = 0;
    let advanced = || {
        watch.stop.store(look.watch.stop.load(Ordering::Relaxed), Ordering::Relaxed);
        let entries = watch.entries.load(Ordering::Relaxed);
        look.watch.entries.fetch_add(entries - told, Ordering::Relaxed);
        std::mem::replace(&mut told, entries) != entries
    };
    process::with_deadline(process::DEADLINE, scan, advanced)?
}

/// What is known of this machine besides its files.
fn facts(look: &Look, now: i64, mounts: Option<MountTable>, gaps: Gaps) -> HostFacts {
    let uname = rustix::system::uname();
    let kernel =
        format!("{} {}", uname.sysname().to_string_lossy(), uname.release().to_string_lossy());
    let (passwd, group) = system::name_service();
    let (accounts, groups) = accounts::read(&passwd, &group);
    let root = |(path, depth): &(AbsPath, Depth)| Root {
        path: path.clone(),
        deep: *depth == Depth::Everything,
    };
    // Settings of the kernel decide about access wherever it is asked.
    let mut documents =
        if look.documents { system::documents(mounts.as_ref()) } else { vec![system::settings()] };
    if let (None, Some(mounts)) = (look.process, &mounts) {
        let places = look.places.iter().map(|(path, _)| path);
        system::add_subvolumes(&mut documents, mounts, places);
    }
    let told = host_report::read(&documents, mounts.as_ref());
    HostFacts {
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
        tree: Tree::default(),
        digests: HashMap::new(),
        media: HashMap::new(),
        gaps: gaps.into_inner(),
    }
}

/// The root folder of this machine.
///
/// # Errors
/// If it can't be looked at.
pub fn root() -> io::Result<NewEntry> {
    let mounts = own_mounts();
    Ok(Sight::root(&open_path(CWD, b"/")?, MountKinds(mounts.as_ref()))?.entry)
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
            return MountKind {
                enters: true,
                lists_attributes: false,
                projects: false,
                tells_attributes: false,
            };
        };
        MountKind {
            // Kernel filesystems and other machines are only looked at where they are asked for.
            enters: entry.network().is_none() && !is_kernel(&entry.filesystem),
            lists_attributes: attributes::lists_all(entry.filesystem.raw()),
            tells_attributes: entry.filesystem == "xfs",
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
    gaps: &'a Gaps,
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
                    Err(error) => return self.gaps.note(next, walk::why(error)),
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
                Err(error) => return self.gaps.note(next, walk::why(error)),
            }
            here = next;
        }
        let place = self.place(path).expect("the walk came this way");
        place.depth = place.depth.max(depth);
    }

    /// A symlink on the way: what it leads to is a wanted place as well (`path_resolution(7)`: at
    /// most 40 of them).
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

    /// Puts everything into the sink: names and walks where they are wanted, single entries
    /// elsewhere.
    fn grow(self, setting: &Setting<impl Sink>) -> io::Result<()> {
        let Self { root, top, .. } = self;
        let mut earlier = Earlier::default();
        setting.sink.earlier(ABOVE, &mut earlier)?;
        let above = Contents::of([root.entry.clone()], &earlier, Listing::Complete, None);
        let number = setting.sink.fill(ABOVE, &above, &earlier)?[0];
        go_on(setting, root, number, &AbsPath::root(), top)
    }
}

/// Goes on at a place that a scout found.
fn go_on(
    setting: &Setting<impl Sink>,
    place: Sight,
    number: Number,
    path: &AbsPath,
    handle: OwnedFd,
) -> io::Result<()> {
    if place.entry.meta.kind != EntryKind::Folder {
        return Ok(());
    }
    if place.depth == Depth::Everything {
        return walk::walk(handle, number, path, setting);
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
                let names = walk::names_in(readable.as_fd(), setting.mounts);
                entries.extend(names.entries.into_iter().map(|e| (e.name.clone(), e)));
                for (name, why) in names.refused {
                    setting.gaps.note(path.child(&name), why);
                }
                if let Some(why) = names.failed {
                    setting.gaps.note(path.clone(), why);
                    listing = Listing::Failed;
                }
            }
            Err(error) => {
                setting.gaps.note(path.clone(), walk::why(error));
                listing = Listing::Failed;
            }
        }
    }
    entries.extend(place.below.iter().map(|(name, below)| (name.clone(), below.entry.clone())));
    let mut earlier = Earlier::default();
    setting.sink.earlier(number, &mut earlier)?;
    let names: Vec<(Vec<u8>, EntryKind)> =
        entries.iter().map(|(name, entry)| (name.clone(), entry.meta.kind)).collect();
    let project = place.entry.extras.project;
    let contents = Contents::of(entries.into_values(), &earlier, listing, project);
    let numbers = setting.sink.fill(number, &contents, &earlier)?;
    let mut below = place.below;
    let folders =
        names.into_iter().zip(numbers).filter(|((_, kind), _)| *kind == EntryKind::Folder);
    for ((name, _), number) in folders {
        let Some(place_below) = below.remove(&name) else {
            setting.sink.unread(number)?;
            continue;
        };
        match open_path(&handle, &name) {
            Ok(handle) => go_on(setting, place_below, number, &path.child(&name), handle)?,
            Err(error) => {
                setting.gaps.note(path.child(&name), walk::why(error));
                setting.sink.unread(number)?;
            }
        }
    }
    Ok(())
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

/// A look into memory.
#[derive(Default)]
struct TreeSink(Mutex<Option<TreeBuilder>>);

impl Sink for TreeSink {
    fn earlier(&self, _: Number, _: &mut Earlier) -> io::Result<()> {
        Ok(())
    }

    fn fill(&self, folder: Number, seen: &Contents, _: &Earlier) -> io::Result<Vec<Number>> {
        let mut entries: Vec<NewEntry> = seen.new_entries().collect();
        let mut builder = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let Some(builder) = builder.as_mut() else {
            *builder = entries.pop().map(TreeBuilder::new);
            return Ok(vec![Tree::ROOT.0]);
        };
        if let Some(project) = seen.project {
            builder.project(NodeId(folder), project);
        }
        let numbers = builder.fill(NodeId(folder), entries, seen.listing);
        Ok(numbers.into_iter().map(|node| node.0).collect())
    }

    fn same(&self, _: Number, _: &Earlier) {}

    fn unread(&self, _: Number) -> io::Result<()> {
        Ok(())
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
