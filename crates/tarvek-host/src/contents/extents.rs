//! Which blocks of a file others hold as well. Calls the kernel without a safe wrapper, since none exists.

#![allow(unsafe_code)]

use std::fs::File;

use rustix::io::Errno;
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

/// How many extents of one file are looked at; a file in more pieces is taken as shared for the rest.
const MOST: usize = 1 << 20;

/// What a filesystem tells of the blocks of a file.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct Blocks {
    /// Bytes of blocks that other files or snapshots have as well.
    pub(super) shared: u64,
    /// Whether some are packed, so that they take less than their bytes.
    pub(super) packed: bool,
}

/// Asks the filesystem (`FS_IOC_FIEMAP`, Documentation/filesystems/fiemap.rst); `None` where it does not tell.
pub(super) fn blocks(file: &File) -> Option<Blocks> {
    let mut blocks = Blocks::default();
    let mut map = Map { head: Head::default(), extents: [Extent::default(); COUNT] };
    let (mut start, mut seen) = (0_u64, 0);
    loop {
        map.head = Head { start, length: u64::MAX - start, count: COUNT as u32, ..Head::default() };
        // SAFETY: the kernel reads the head and writes it and at most `count` extents behind it, which is what there is room for.
        match unsafe { ioctl(file, Updater::<FIEMAP, Map>::new(&mut map)) } {
            Ok(()) => {}
            Err(Errno::OPNOTSUPP | Errno::NOTTY | Errno::INVAL) if seen == 0 => return None,
            Err(_) => return None,
        }
        let mapped = (map.head.mapped as usize).min(COUNT);
        for extent in &map.extents[..mapped] {
            if extent.flags & SHARED != 0 {
                blocks.shared += extent.length;
            }
            blocks.packed |= extent.flags & ENCODED != 0;
        }
        seen += mapped;
        let last = map.extents[..mapped].last();
        match last {
            Some(last) if last.flags & LAST == 0 && seen < MOST => {
                start = last.logical.saturating_add(last.length);
            }
            Some(last) if last.flags & LAST == 0 => {
                blocks.shared = u64::MAX;
                return Some(blocks);
            }
            _ => return Some(blocks),
        }
    }
}
