//! Which blocks of a file others hold as well, and who they are. Calls the kernel without a safe
//! wrapper, since none exists.

#![allow(unsafe_code)]

use std::collections::BTreeSet;
use std::fs::File;

use rustix::ioctl::{Opcode, Updater, ioctl, opcode};

/// `struct fiemap_extent` of `linux/fiemap.h`.
#[repr(C)]
#[derive(Clone, Copy, Default)]
struct Extent {
    logical: u64,
    physical: u64,
    length: u64,
    reserved64: [u64; 2],
    flags: u32,
    reserved: [u32; 3],
}

/// `struct fiemap` without its extents.
#[repr(C)]
#[derive(Clone, Copy, Default)]
struct Head {
    start: u64,
    length: u64,
    flags: u32,
    mapped: u32,
    count: u32,
    reserved: u32,
}

/// At a time.
const COUNT: usize = 128;

#[repr(C)]
struct Map {
    head: Head,
    extents: [Extent; COUNT],
}

/// `FS_IOC_FIEMAP`; its number has the size of the head alone.
const FIEMAP: Opcode = opcode::read_write::<Head>(b'f', 11);
const LAST: u32 = 0x1;
const ENCODED: u32 = 0x8;
const SHARED: u32 = 0x2000;

/// How many extents of one file are looked at; a file in more pieces is taken as shared as a whole.
const MOST: usize = 1 << 20;

/// A part of a file that others hold as well: where it lies, and how many bytes it has.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Shared {
    pub(super) physical: u64,
    pub(super) length: u64,
}

/// What a filesystem tells of the blocks of a file.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Blocks {
    /// Parts that other files or snapshots have as well.
    pub(super) shared: Vec<Shared>,
    /// Whether some are packed, so that they take less than their bytes.
    pub(super) packed: bool,
}

/// Asks the filesystem (`FS_IOC_FIEMAP`, Documentation/filesystems/fiemap.rst); nothing is shared
/// where it does not tell.
pub(super) fn blocks(file: &File) -> Blocks {
    let mut blocks = Blocks::default();
    let mut map = Map { head: Head::default(), extents: [Extent::default(); COUNT] };
    let (mut start, mut seen) = (0_u64, 0);
    loop {
        map.head = Head { start, length: u64::MAX - start, count: COUNT as u32, ..Head::default() };
        // SAFETY: the kernel reads the head and writes it and at most `count` extents behind it,
        // which is what there is room for.
        if unsafe { ioctl(file, Updater::<FIEMAP, Map>::new(&mut map)) }.is_err() {
            return blocks;
        }
        let mapped = (map.head.mapped as usize).min(COUNT);
        for extent in &map.extents[..mapped] {
            if extent.flags & SHARED != 0 {
                blocks.shared.push(Shared { physical: extent.physical, length: extent.length });
            }
            blocks.packed |= extent.flags & ENCODED != 0;
        }
        seen += mapped;
        match map.extents[..mapped].last() {
            Some(last) if last.flags & LAST == 0 && seen < MOST => {
                start = last.logical.saturating_add(last.length);
            }
            Some(last) if last.flags & LAST == 0 => {
                blocks.shared = vec![Shared { physical: 0, length: u64::MAX }];
                return blocks;
            }
            _ => return blocks,
        }
    }
}

/// Who has some bytes of a disk: the tree (of Btrfs; 0 elsewhere) and the inode.
pub(super) type Owner = (u64, u64);

/// Everyone who has a shared part of a file; `None` if nobody can tell, or nobody but root and this
/// is somebody else.
pub(super) fn owners(file: &File, part: Shared) -> Option<BTreeSet<Owner>> {
    const BTRFS: i64 = 0x9123_683e;
    const XFS: i64 = 0x5846_5342;
    match rustix::fs::fstatfs(file).ok()?.f_type {
        BTRFS => btrfs_owners(file, part),
        XFS => xfs_owners(file, part),
        _ => None,
    }
}

/// `struct btrfs_ioctl_logical_ino_args` of `linux/btrfs.h`.
#[repr(C)]
struct LogicalIno {
    logical: u64,
    size: u64,
    reserved: [u64; 3],
    flags: u64,
    inodes: u64,
}

/// How many numbers there is room for: three for each who has a part.
const VALUES: usize = 3 * 2048;

/// `struct btrfs_data_container`.
#[repr(C)]
struct Container {
    left: u32,
    missing: u32,
    count: u32,
    missed: u32,
    values: [u64; VALUES],
}

/// `BTRFS_IOC_LOGICAL_INO_V2`.
const LOGICAL_INO: Opcode = opcode::read_write::<LogicalIno>(0x94, 59);
/// Everyone who has any of the extent: it is freed as a whole.
const IGNORE_OFFSET: u64 = 1;

fn btrfs_owners(file: &File, part: Shared) -> Option<BTreeSet<Owner>> {
    let mut container =
        Box::new(Container { left: 0, missing: 0, count: 0, missed: 0, values: [0; VALUES] });
    let mut ask = LogicalIno {
        logical: part.physical,
        size: size_of::<Container>() as u64,
        reserved: [0; 3],
        flags: IGNORE_OFFSET,
        inodes: std::ptr::from_mut(&mut *container) as u64,
    };
    // SAFETY: the kernel writes at most `size` bytes at `inodes`, which is how large the container
    // is, and it lives until after the call.
    unsafe { ioctl(file, Updater::<LOGICAL_INO, LogicalIno>::new(&mut ask)) }.ok()?;
    let count = container.count as usize;
    if container.missed > 0 || count > VALUES || count == 0 {
        return None;
    }
    // Inode, offset, tree.
    Some(container.values[..count].chunks_exact(3).map(|one| (one[2], one[0])).collect())
}

/// `struct btrfs_ioctl_ino_lookup_args`.
#[repr(C)]
struct InoLookup {
    tree: u64,
    object: u64,
    name: [u8; 4080],
}

/// `BTRFS_IOC_INO_LOOKUP`.
const INO_LOOKUP: Opcode = opcode::read_write::<InoLookup>(0x94, 18);
/// `BTRFS_FIRST_FREE_OBJECTID`: the top of any tree, of which everyone may ask.
const TOP: u64 = 256;

/// The tree of Btrfs in which an open file lies; 0 on other filesystems.
pub(super) fn tree_of(file: &File) -> u64 {
    let mut ask = InoLookup { tree: 0, object: TOP, name: [0; 4080] };
    // SAFETY: the kernel reads and writes one such value, which is what it gets.
    match unsafe { ioctl(file, Updater::<INO_LOOKUP, InoLookup>::new(&mut ask)) } {
        Ok(()) => ask.tree,
        Err(_) => 0,
    }
}

/// `struct fsmap` of `linux/fsmap.h`.
#[repr(C)]
#[derive(Clone, Copy, Default)]
struct Fsmap {
    device: u32,
    flags: u32,
    physical: u64,
    owner: u64,
    offset: u64,
    length: u64,
    reserved: [u64; 3],
}

/// `struct fsmap_head` without its records.
#[repr(C)]
#[derive(Clone, Copy, Default)]
struct FsmapHead {
    iflags: u32,
    oflags: u32,
    count: u32,
    entries: u32,
    reserved: [u64; 6],
    keys: [Fsmap; 2],
}

#[repr(C)]
struct FsmapAll {
    head: FsmapHead,
    records: [Fsmap; COUNT],
}

/// `FS_IOC_GETFSMAP`; its number has the size of the head alone.
const GETFSMAP: Opcode = opcode::read_write::<FsmapHead>(b'X', 59);
const ATTRIBUTES: u32 = 0x2;
const SPECIAL_OWNER: u32 = 0x10;

fn xfs_owners(file: &File, part: Shared) -> Option<BTreeSet<Owner>> {
    let device = u32::try_from(rustix::fs::fstat(file).ok()?.st_dev).ok()?;
    let low = Fsmap { device, physical: part.physical, ..Fsmap::default() };
    let high = Fsmap {
        device,
        flags: u32::MAX,
        physical: part.physical.checked_add(part.length)? - 1,
        owner: u64::MAX,
        offset: u64::MAX,
        ..Fsmap::default()
    };
    let head = FsmapHead { count: COUNT as u32, keys: [low, high], ..FsmapHead::default() };
    let mut all = Box::new(FsmapAll { head, records: [Fsmap::default(); COUNT] });
    // SAFETY: the kernel reads the head and writes it and at most `count` records behind it, which
    // is what there is room for.
    unsafe { ioctl(file, Updater::<GETFSMAP, FsmapAll>::new(&mut *all)) }.ok()?;
    let count = all.head.entries as usize;
    if count == 0 || count >= COUNT {
        return None;
    }
    // What only touches the part is told as well.
    let within = |record: &&Fsmap| {
        record.physical < part.physical + part.length
            && record.physical.saturating_add(record.length) > part.physical
            && record.flags & ATTRIBUTES == 0
    };
    let records = all.records[..count].iter().filter(within);
    // Without a reverse map nobody is named.
    records.map(|record| (record.flags & SPECIAL_OWNER == 0).then_some((0, record.owner))).collect()
}
