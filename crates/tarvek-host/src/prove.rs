//! Proofs: really trying, as somebody else, without leaving anything behind.
//!
//! A process that becomes another account can't come back, so the attempts are made by a child
//! process ([`attempt`]), and its parent tidies up ([`FolderTimes`]).

use std::ffi::CString;
use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

use nix::unistd::{Gid, Uid, setgroups, setresgid, setresuid};
use rustix::fs::{AtFlags, Mode, OFlags, StatxAttributes, StatxFlags, Timespec, Timestamps};
use rustix::io::Errno;
use tarvek_core::judge::verdict::{Attempt, Need};
use tarvek_core::kernel::subject::Subject;
use tarvek_core::words::errno as words;

/// Becomes an account for good: groups, then gid, then uid, as `login(1)` does it.
///
/// # Errors
/// What the kernel says; only root can become somebody else.
pub fn become_account(subject: &Subject) -> io::Result<()> {
    let groups: Vec<Gid> = subject.groups.iter().copied().map(Gid::from_raw).collect();
    let (uid, gid) = (Uid::from_raw(subject.uid), Gid::from_raw(subject.gid));
    setgroups(&groups)?;
    setresgid(gid, gid, gid)?;
    setresuid(uid, uid, uid)?;
    Ok(())
}

/// Tries one need at a path as whoever this process is.
///
/// Nothing is read, written or removed: a file that is opened for writing is not touched; an entry
/// is added without a name (`O_TMPFILE`), or where the filesystem can't, under a name that goes at
/// once; a removal is asked for in a way that can't succeed, `rmdir(2)` of a file or `unlink(2)` of
/// a folder, which a kernel refuses with ENOTDIR or EISDIR only after it has found everything else
/// in order (`may_delete` in `fs/namei.c`).
pub fn attempt(path: &Path, need: Need) -> Attempt {
    let folder = rustix::fs::stat(path).map(|stat| is_folder(stat.st_mode)).unwrap_or(false);
    let tried = match need {
        Need::Read if folder => enter(path).and_then(|()| list(path)),
        Need::Read => open(path, OFlags::RDONLY),
        Need::Write if folder => add(path),
        Need::Write => open(path, OFlags::WRONLY),
        Need::Enter => enter(path),
        Need::Add => add(path),
        Need::Remove => remove(path),
    };
    match tried {
        Ok(()) => Attempt::Possible,
        Err(error) => match spoken(error) {
            Some(errno) => Attempt::Failed(errno),
            None => Attempt::Untold(format!("the attempt failed with {error}")),
        },
    }
}

/// The errors that speak of access; others say something else.
fn spoken(error: Errno) -> Option<words::Errno> {
    Some(match error {
        Errno::ACCESS => words::Errno::Access,
        Errno::PERM => words::Errno::Permission,
        Errno::ROFS => words::Errno::ReadOnly,
        Errno::NOENT => words::Errno::NoEntry,
        Errno::NOTDIR => words::Errno::NotAFolder,
        Errno::LOOP => words::Errno::Loop,
        Errno::NAMETOOLONG => words::Errno::NameTooLong,
        Errno::INVAL => words::Errno::Invalid,
        Errno::BUSY => words::Errno::Busy,
        Errno::OVERFLOW => words::Errno::Overflow,
        Errno::TXTBSY => words::Errno::TextBusy,
        _ => return None,
    })
}

/// The errors that speak of links and renames as well.
pub(crate) fn spoken_of_links(error: Errno) -> Option<words::Errno> {
    Some(match error {
        Errno::XDEV => words::Errno::CrossDevice,
        Errno::MLINK => words::Errno::TooManyLinks,
        Errno::EXIST => words::Errno::Exists,
        Errno::NOTEMPTY => words::Errno::NotEmpty,
        Errno::ISDIR => words::Errno::IsAFolder,
        // A filesystem that has no such operation is refused so by the kernel before it.
        Errno::NOSYS | Errno::OPNOTSUPP => words::Errno::Permission,
        error => return spoken(error),
    })
}

fn is_folder(mode: u32) -> bool {
    rustix::fs::FileType::from_raw_mode(mode) == rustix::fs::FileType::Directory
}

fn open(path: &Path, how: OFlags) -> Result<(), Errno> {
    // O_NONBLOCK: should a FIFO have taken its place, nothing waits.
    let flags = how | OFlags::NONBLOCK | OFlags::NOCTTY | OFlags::CLOEXEC;
    rustix::fs::open(path, flags, Mode::empty()).map(drop)
}

fn list(path: &Path) -> Result<(), Errno> {
    let folder = rustix::fs::open(
        path,
        OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC,
        Mode::empty(),
    )?;
    rustix::fs::Dir::read_from(folder)?.next().transpose().map(drop)
}

fn enter(path: &Path) -> Result<(), Errno> {
    rustix::fs::stat(path.join(".")).map(drop)
}

fn add(path: &Path) -> Result<(), Errno> {
    let flags = OFlags::TMPFILE | OFlags::WRONLY | OFlags::CLOEXEC;
    match rustix::fs::open(path, flags, Mode::RUSR | Mode::WUSR) {
        // The filesystem has no files without names.
        Err(Errno::OPNOTSUPP | Errno::ISDIR | Errno::INVAL | Errno::NOSYS) => add_by_name(path),
        opened => opened.map(drop),
    }
}

fn add_by_name(path: &Path) -> Result<(), Errno> {
    // From a folder that may only grow, the name would never go again.
    let stat = rustix::fs::statx(rustix::fs::CWD, path, AtFlags::empty(), StatxFlags::BASIC_STATS)?;
    if stat.stx_attributes.contains(StatxAttributes::APPEND) {
        return Err(Errno::OPNOTSUPP);
    }
    let name = path.join(proof_name(std::process::id()));
    let flags = OFlags::CREATE | OFlags::EXCL | OFlags::WRONLY | OFlags::CLOEXEC;
    rustix::fs::open(&name, flags, Mode::RUSR | Mode::WUSR)?;
    // Should this fail, the parent does it.
    let _ = rustix::fs::unlink(&name);
    Ok(())
}

fn proof_name(process: u32) -> String {
    format!(".tarvek-proof-{process}")
}

fn remove(path: &Path) -> Result<(), Errno> {
    let stat = rustix::fs::lstat(path)?;
    let (asked, passed) = if is_folder(stat.st_mode) {
        (rustix::fs::unlink(path), Errno::ISDIR)
    } else {
        (rustix::fs::rmdir(path), Errno::NOTDIR)
    };
    match asked {
        Err(error) if error == passed => Ok(()),
        asked => asked,
    }
}

/// Opens a folder to be read, and nothing else that stands there.
pub(crate) fn open_folder(folder: &Path) -> Result<OwnedFd, Errno> {
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
    rustix::fs::open(folder, flags, Mode::empty())
}

/// What a folder has to be like again after an attempt in it.
#[derive(Debug)]
pub struct FolderTimes {
    folder: OwnedFd,
    accessed: Timespec,
    modified: Timespec,
}

impl FolderTimes {
    /// Remembers a folder's times.
    ///
    /// # Errors
    /// If the folder can't be opened.
    pub fn of(folder: &Path) -> io::Result<Self> {
        let folder = open_folder(folder)?;
        let stat = rustix::fs::fstat(&folder)?;
        let time = |seconds: i64, nanoseconds: u64| Timespec {
            tv_sec: seconds,
            tv_nsec: nanoseconds as _,
        };
        Ok(Self {
            accessed: time(stat.st_atime, stat.st_atime_nsec),
            modified: time(stat.st_mtime, stat.st_mtime_nsec),
            folder,
        })
    }

    /// Takes away what an attempt may have left, and gives the folder its times back.
    ///
    /// # Errors
    /// If a name that was made for the proof stays.
    pub fn restore(self, process: u32) -> io::Result<()> {
        let name = CString::new(proof_name(process)).expect("digits and letters");
        match rustix::fs::unlinkat(&self.folder, &name, AtFlags::empty()) {
            Ok(()) | Err(Errno::NOENT | Errno::ROFS | Errno::NOTDIR) => {}
            Err(error) => return Err(error.into()),
        }
        let stat = rustix::fs::fstat(&self.folder)?;
        if (stat.st_mtime, stat.st_mtime_nsec as i64)
            != (self.modified.tv_sec, self.modified.tv_nsec)
        {
            let times = Timestamps { last_access: self.accessed, last_modification: self.modified };
            rustix::fs::futimens(&self.folder, &times)?;
        }
        Ok(())
    }
}

/// Why a removal can't be tried there; `None` if it can. Filesystems in user space may decide only
/// when it is really done.
pub fn untriable(path: &Path) -> Option<String> {
    let statfs = rustix::fs::statfs(path).ok()?;
    const FUSE: i64 = 0x6573_5546;
    (statfs.f_type as i64 == FUSE).then(|| {
        "a filesystem in user space decides about removals only when they are done".to_owned()
    })
}

/// Whether a path is an entry that may be opened at all.
pub fn may_be_opened(path: &Path) -> bool {
    let mask = StatxFlags::TYPE;
    let stat = rustix::fs::statx(
        rustix::fs::CWD.as_fd(),
        path.as_os_str().as_bytes(),
        AtFlags::empty(),
        mask,
    );
    stat.is_ok_and(|stat| {
        use rustix::fs::FileType;
        let kind = FileType::from_raw_mode(u32::from(stat.stx_mode));
        matches!(kind, FileType::RegularFile | FileType::Directory)
    })
}
