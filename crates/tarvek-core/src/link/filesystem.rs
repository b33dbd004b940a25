//! What filesystems make of hard links.

use crate::words::name::Name;

/// What a filesystem makes of hard links.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Links {
    /// A file can have so many names.
    UpTo(u32),
    /// As many as anybody makes.
    Any,
    /// None: it has no such operation (EPERM).
    None,
    /// Only trying tells.
    Unknown,
}

/// By its type as mount tables name it. The limits are those of the kernel's own headers
/// (`EXT4_LINK_MAX`, `BTRFS_LINK_MAX`, `XFS_MAXLINK` and so on).
pub(super) fn links(filesystem: &Name) -> Links {
    match filesystem.raw() {
        "ext2" | "ext3" => Links::UpTo(32_000),
        "ext4" => Links::UpTo(65_000),
        "btrfs" | "jfs" => Links::UpTo(65_535),
        "xfs" => Links::UpTo((1 << 31) - 1),
        "ntfs3" => Links::UpTo(4000),
        "tmpfs" | "ramfs" | "zfs" | "fuse.zfs" | "overlay" | "f2fs" | "bcachefs" => Links::Any,
        "vfat" | "msdos" | "exfat" | "fuse.fusefat" | "fuse.exfat" => Links::None,
        _ => Links::Unknown,
    }
}

/// Whether its folders and files lie in subvolumes, each of which has a number of its own
/// (`st_dev`).
pub(super) fn has_subvolumes(filesystem: &Name) -> bool {
    filesystem == "btrfs"
}

/// Whether it gives further names to a file's owner and to root only, whatever the kernel in front
/// of it allows (`zfs_link` of the ZFS that runs in user space).
pub(super) fn links_for_owners_only(filesystem: &Name) -> bool {
    filesystem == "fuse.zfs"
}
