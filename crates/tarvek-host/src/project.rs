//! Project numbers of inodes. Calls the kernel without a safe wrapper, since none exists.

#![allow(unsafe_code)]

use std::ffi::{CStr, c_uint};
use std::mem::size_of;
use std::os::fd::{AsRawFd, BorrowedFd};

use rustix::ioctl::{Getter, Opcode, ioctl, opcode};
use tarvek_core::kernel::entry::Project;

/// `struct fsxattr` of `linux/fs.h`.
#[repr(C)]
#[derive(Default)]
struct FsXAttr {
    xflags: u32,
    extsize: u32,
    nextents: u32,
    projid: u32,
    cowextsize: u32,
    pad: [u8; 8],
}

/// `struct file_attr` of `linux/fs.h`, in its first size.
#[repr(C)]
#[derive(Default)]
struct FileAttr {
    xflags: u64,
    extsize: u32,
    nextents: u32,
    projid: u32,
    cowextsize: u32,
}

/// `FS_IOC_FSGETXATTR`.
const GET: Opcode = opcode::read::<FsXAttr>(b'X', 31);
/// `FS_XFLAG_PROJINHERIT`.
const INHERITS: u64 = 0x200;
/// The number of `file_getattr(2)`, the same on every architecture; it takes a name, so that files
/// need not be opened.
const FILE_GETATTR: libc::c_long = 468;

/// `FS_XFLAG_HASATTR`, which XFS keeps.
const HAS_ATTRIBUTES: u64 = 0x8000_0000;

/// What a filesystem tells of an inode besides `statx(2)`.
#[derive(Clone, Copy, Debug)]
pub(crate) struct ProjectAttributes {
    pub(crate) project: Project,
    /// Whether it has extended attributes, where the filesystem says so.
    pub(crate) has_attributes: bool,
}

fn attributes_of(id: u32, xflags: u64) -> ProjectAttributes {
    ProjectAttributes {
        project: Project { id, inherits: xflags & INHERITS != 0 },
        has_attributes: xflags & HAS_ATTRIBUTES != 0,
    }
}

/// The project of an open folder, where its filesystem knows such things.
pub(crate) fn of_folder(folder: BorrowedFd) -> Option<ProjectAttributes> {
    // SAFETY: the operation's number says that the kernel fills one `FsXAttr`, and that is what it
    // gets.
    let attributes = unsafe { ioctl(folder, Getter::<GET, FsXAttr>::new()) };
    attributes.ok().map(|a| attributes_of(a.projid, a.xflags.into()))
}

/// The project of a name in a folder, without opening it (Linux 6.17; `None` on older kernels).
pub(crate) fn of_name(folder: BorrowedFd, name: &CStr) -> Option<ProjectAttributes> {
    let mut attributes = FileAttr::default();
    // SAFETY: the name ends with a NUL, and the kernel writes at most the size that it is told,
    // into our own value.
    let outcome = unsafe {
        libc::syscall(
            FILE_GETATTR,
            folder.as_raw_fd(),
            name.as_ptr(),
            &raw mut attributes,
            size_of::<FileAttr>(),
            libc::AT_SYMLINK_NOFOLLOW as c_uint,
        )
    };
    (outcome == 0).then(|| attributes_of(attributes.projid, attributes.xflags))
}
