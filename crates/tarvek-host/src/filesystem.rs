//! Filesystems by what stays the same when they are mounted again. Device numbers do not: they
//! change with a reboot, with loop and USB devices, and with every mount of Btrfs and ZFS.

#![allow(unsafe_code)]

use std::os::fd::{AsFd, BorrowedFd};

use rustix::fs::{CWD, Mode, OFlags, ResolveFlags, StatFs};
use rustix::io::Errno;
use rustix::ioctl::{Getter, Opcode, ioctl, opcode};
use tarvek_core::words::path::AbsPath;

use crate::walk::stat_now;

/// What a filesystem is known by, in words: its kind and its number.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct FilesystemId(String);

impl FilesystemId {
    /// As it is written.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// Whether two are one filesystem, as far as that can be told: of some nothing is known but a
    /// device number that may have changed.
    pub fn may_be(&self, written: &str) -> bool {
        self.0 == written || !is_lasting(&self.0) && !is_lasting(written)
    }
}

fn is_lasting(written: &str) -> bool {
    !written.starts_with(DEVICE)
}

const DEVICE: &str = "device:";

/// How a filesystem keeps its files.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Nature {
    /// On this machine, each file once.
    Plain,
    /// On this machine, and perhaps a second sight of files that lie elsewhere on it: overlays,
    /// FUSE.
    Layered,
    /// On another machine, whose other clients can't be seen from here.
    Network,
}

/// `f_type` of `statfs(2)`, and what Tarvek calls it.
const KINDS: &[(i64, &str, Nature)] = &[
    (EXT, "ext", Nature::Plain),
    (XFS, "xfs", Nature::Plain),
    (BTRFS, "btrfs", Nature::Plain),
    (TMPFS, "tmpfs", Nature::Plain),
    (0x2fc1_2fc1, "zfs", Nature::Plain),
    (0xf2f5_2010, "f2fs", Nature::Plain),
    (0xca45_1a4e, "bcachefs", Nature::Plain),
    (0x4d44, "fat", Nature::Plain),
    (0x2011_bab0, "exfat", Nature::Plain),
    (0x7366_746e, "ntfs", Nature::Plain),
    (0x3153_464a, "jfs", Nature::Plain),
    (0x794c_7630, "overlay", Nature::Layered),
    (0x6573_5546, "fuse", Nature::Layered),
    (0x6969, "nfs", Nature::Network),
    (0xff53_4d42, "smb", Nature::Network),
    (0xfe53_4d42, "smb", Nature::Network),
    (0x0102_1997, "9p", Nature::Network),
    (0x00c3_6400, "ceph", Nature::Network),
];

const EXT: i64 = 0xef53;
const XFS: i64 = 0x5846_5342;
const BTRFS: i64 = 0x9123_683e;
const TMPFS: i64 = 0x0102_1994;

/// Those whose `f_fsid` comes from a UUID or the like; that of others is the device number again.
const NUMBERED: [&str; 8] = ["ext", "btrfs", "tmpfs", "zfs", "f2fs", "bcachefs", "overlay", "jfs"];

/// `struct xfs_fsop_geom_v1` of `xfs/xfs_fs.h`.
#[repr(C)]
#[derive(Clone, Copy)]
struct Geometry {
    before: [u32; 8],
    counts: [u64; 4],
    uuid: [u8; 16],
    after: [u32; 8],
}

/// `XFS_IOC_FSGEOMETRY_V1`.
const GEOMETRY: Opcode = opcode::read::<Geometry>(b'X', 100);

fn kind(stat: &StatFs) -> (&'static str, Nature) {
    let known = KINDS.iter().find(|(magic, ..)| *magic == stat.f_type);
    // What nobody knows may show files of elsewhere.
    known.map_or(("other", Nature::Layered), |(_, name, nature)| (name, *nature))
}

/// The filesystem of an open file or folder; `device` is its `st_dev`, in case there is nothing
/// better.
///
/// # Errors
/// What `fstatfs(2)` says.
pub(crate) fn identity(of: BorrowedFd, device: u64) -> Result<FilesystemId, Errno> {
    let stat = rustix::fs::fstatfs(of)?;
    let (name, _) = kind(&stat);
    if name == "xfs" {
        // SAFETY: the operation's number says that the kernel fills one `Geometry`, and that is
        // what it gets.
        if let Ok(geometry) = unsafe { ioctl(of, Getter::<GEOMETRY, Geometry>::new()) } {
            return Ok(FilesystemId(format!("xfs:{:032x}", u128::from_be_bytes(geometry.uuid))));
        }
    }
    let number = rustix::fs::fstatvfs(of)?.f_fsid;
    if number != 0 && NUMBERED.contains(&name) {
        return Ok(FilesystemId(format!("{name}:{number:016x}")));
    }
    Ok(FilesystemId(format!("{DEVICE}{}:{}", device >> 32, device & 0xffff_ffff)))
}

/// The filesystem that a path of this machine lies on, if it can be asked; no symlink is followed.
pub fn identity_at(path: &AbsPath) -> Option<FilesystemId> {
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let handle = rustix::fs::openat2(
        CWD,
        path.as_bytes(),
        flags,
        Mode::empty(),
        ResolveFlags::NO_SYMLINKS | ResolveFlags::NO_MAGICLINKS,
    )
    .ok()?;
    let device = stat_now(handle.as_fd()).ok()?.device?;
    identity(handle.as_fd(), device).ok()
}

/// How the filesystem of an open file keeps its files.
pub(crate) fn nature(of: BorrowedFd) -> Nature {
    rustix::fs::fstatfs(of).map_or(Nature::Layered, |stat| kind(&stat).1)
}

/// Whether what is told of a file may be older than the file: a program of somebody's own keeps it.
/// An overlay asks below each time.
pub(crate) fn may_be_stale(of: BorrowedFd) -> bool {
    rustix::fs::fstatfs(of)
        .map_or(true, |stat| !matches!(kind(&stat), ("overlay", _) | (_, Nature::Plain)))
}

/// Whether a store through a shared mapping moves the times of the file: where pages are written
/// back, the next store after that is noticed (`page_mkwrite`,
/// Documentation/filesystems/locking.rst). In memory it is not.
pub(crate) fn stamps_mapped_stores(of: BorrowedFd) -> bool {
    rustix::fs::fstatfs(of).is_ok_and(|stat| [EXT, XFS, BTRFS].contains(&stat.f_type))
}

#[cfg(test)]
mod tests {
    use std::os::fd::AsFd;
    use std::os::unix::fs::MetadataExt;

    use super::*;

    #[test]
    fn a_filesystem_is_known_by_one_number_wherever_it_is_asked() {
        let folder = tempfile::tempdir().unwrap();
        let file = tempfile::tempfile_in(folder.path()).unwrap();
        let open = std::fs::File::open(folder.path()).unwrap();
        let device = open.metadata().unwrap().dev();
        let (one, two) = (identity(open.as_fd(), device), identity(file.as_fd(), device));
        assert_eq!(one, two);
        assert!(one.unwrap().may_be(two.unwrap().as_str()));
    }

    #[test]
    fn nothing_is_made_of_device_numbers_that_changed() {
        let of = |text: &str| FilesystemId(text.to_owned());
        assert!(of("device:8:1").may_be("device:8:17"));
        assert!(!of("device:8:1").may_be("ext:00000000000000aa"));
        assert!(!of("ext:00000000000000ab").may_be("ext:00000000000000aa"));
    }
}
