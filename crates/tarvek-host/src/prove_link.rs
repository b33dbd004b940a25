//! Proofs of links and renames: a real one, under a hidden name that goes at once.
//!
//! The source is never taken away, not even for a moment: what is renamed is a further name of it,
//! or where it can't have one, a twin that is made beside it. A child process that has become the
//! account does it ([`link`], [`rename`]); its parent takes away what a killed child left, and
//! whoever proves in the same folders next what a killed parent left ([`sweep`]).

use std::ffi::{CStr, CString, OsStr};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

use rustix::fs::{AtFlags, CWD, Dir, FileType, Mode, OFlags, RawMode, StatxAttributes, StatxFlags};
use rustix::io::Errno;
use tarvek_core::judge::verdict::Attempt;

use crate::process::start_of;
use crate::project;
use crate::prove::{open_folder, spoken_of_links};

/// What the names of proofs begin with; then the process that made it, and when that was started.
const MARK: &str = ".tarvek-proof-";

/// A name for a proof of this process.
fn own_name(which: char) -> CString {
    let pid = std::process::id();
    let start = start_of(pid).unwrap_or(0);
    CString::new(format!("{MARK}{pid}-{start}-{which}")).expect("digits and letters")
}

/// Whether the process that made a name of a proof is gone; `None` if it is no such name.
fn is_left(name: &[u8]) -> Option<bool> {
    let rest = std::str::from_utf8(name.strip_prefix(MARK.as_bytes())?).ok()?;
    let mut parts = rest.split('-');
    let pid: u32 = parts.next()?.parse().ok()?;
    let start: u64 = parts.next()?.parse().ok()?;
    (matches!(parts.next(), Some("l" | "m" | "n")) && parts.next().is_none())
        .then(|| start_of(pid).ok() != Some(start))
}

fn answer(tried: Result<(), Errno>) -> Attempt {
    match tried {
        Ok(()) => Attempt::Possible,
        Err(error) => match spoken_of_links(error) {
            Some(errno) => Attempt::Failed(errno),
            None => Attempt::Untold(format!("the attempt failed with {error}")),
        },
    }
}

/// Gives a file a further name in a folder, as whoever this process is, and takes it away again
/// (`link(2)`).
pub fn link(source: &Path, folder: &Path) -> Attempt {
    let name = own_name('l');
    let place = folder.join(OsStr::from_bytes(name.to_bytes()));
    // By paths, as others do it: what comes first then comes first here.
    let linked = rustix::fs::linkat(CWD, source, CWD, &place, AtFlags::empty());
    if linked.is_ok() {
        // Should this fail, the parent does it.
        let _ = rustix::fs::unlink(&place);
    }
    answer(linked)
}

/// Moves a further name of a file, or a twin of it, from its folder into another one, as whoever
/// this process is, and takes it away again (`rename(2)`).
pub fn rename(source: &Path, folder: &Path) -> Attempt {
    let (Some(own), Some(file)) = (source.parent(), source.file_name()) else {
        return Attempt::Untold("it has no name that could be moved".to_owned());
    };
    let (from, to) = match (place(own), place(folder)) {
        (Ok(from), Ok(to)) => (from, to),
        (Err(error), _) | (_, Err(error)) => return answer(Err(error)),
    };
    let (here, there) = (own_name('m'), own_name('n'));
    // The way to both folders and the mounts come before any name is looked up: a name that is not
    // there tells of them.
    match rustix::fs::renameat(&from, own_name('m'), &to, &there) {
        Ok(()) | Err(Errno::NOENT) => {}
        Err(error) => return answer(Err(error)),
    }
    let twin = match beside(from.as_fd(), file, &here) {
        Ok(twin) => twin,
        Err(attempt) => return attempt,
    };
    let flags = if twin == Twin::Folder { AtFlags::REMOVEDIR } else { AtFlags::empty() };
    if twin != Twin::Name && !is_of_project(from.as_fd(), file, &here, folder) {
        // Should this fail, the parent does it.
        let _ = rustix::fs::unlinkat(&from, &here, flags);
        let why = "a twin beside it may belong to another project, and so be moved where the \
                   source is not";
        return Attempt::Untold(why.to_owned());
    }
    let moved = rustix::fs::renameat(&from, &here, &to, &there);
    let _ = match moved {
        Ok(()) => rustix::fs::unlinkat(&to, &there, flags),
        Err(_) => rustix::fs::unlinkat(&from, &here, flags),
    };
    answer(moved)
}

/// What stands for the source when it is moved.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Twin {
    /// A further name of it.
    Name,
    /// A file of its own.
    File,
    Folder,
}

/// Puts something beside the source that can be moved in its stead.
fn beside(folder: BorrowedFd, file: &OsStr, name: &CStr) -> Result<Twin, Attempt> {
    let stat =
        rustix::fs::statat(folder, file, AtFlags::SYMLINK_NOFOLLOW).map_err(|e| answer(Err(e)))?;
    let above = rustix::fs::statat(folder, c".", AtFlags::empty()).map_err(|e| answer(Err(e)))?;
    let is_folder = FileType::from_raw_mode(stat.st_mode) == FileType::Directory;
    if !is_folder {
        match rustix::fs::linkat(folder, file, folder, name, AtFlags::empty()) {
            Ok(()) => return Ok(Twin::Name),
            // It can have no further name; a file beside it can still be moved.
            Err(Errno::PERM | Errno::MLINK | Errno::OPNOTSUPP | Errno::NOSYS) => {}
            // Whoever may make no name there may take none away.
            Err(error @ (Errno::ACCESS | Errno::ROFS)) => return Err(answer(Err(error))),
            Err(error) => {
                let why = format!(
                    "a further name of the source beside it fails with {error}, and a twin would \
                     be no like of it"
                );
                return Err(Attempt::Untold(why));
            }
        }
    }
    const STICKY: RawMode = 0o1000;
    let me = rustix::process::geteuid().as_raw();
    if above.st_mode & STICKY != 0 && me != 0 && me != stat.st_uid && me != above.st_uid {
        let why = "in a sticky folder a twin would be one's own, which the source is not";
        return Err(Attempt::Untold(why.to_owned()));
    }
    let made = if is_folder {
        rustix::fs::mkdirat(folder, name, Mode::RWXU).map(|()| Twin::Folder)
    } else {
        let flags = OFlags::CREATE | OFlags::EXCL | OFlags::WRONLY | OFlags::CLOEXEC;
        rustix::fs::openat(folder, name, flags, Mode::RUSR | Mode::WUSR).map(|_| Twin::File)
    };
    made.map_err(|error| answer(Err(error)))
}

/// Whether a twin belongs to the project of its source, as far as that matters: a folder that hands
/// its project on makes the twin one of it, whatever the source is, and takes nothing else in
/// (`xfs_rename`, `ext4_rename`).
fn is_of_project(from: BorrowedFd, file: &OsStr, twin: &CStr, into: &Path) -> bool {
    let source = CString::new(file.as_bytes()).ok().and_then(|name| project::of_name(from, &name));
    match (source, project::of_name(from, twin)) {
        (Some(source), Some(twin)) => source.project.id == twin.project.id,
        // Older kernels tell of folders only.
        _ => {
            let target = open_folder(into).ok();
            let target = target.and_then(|target| project::of_folder(target.as_fd()));
            target.is_none_or(|target| !target.project.inherits)
        }
    }
}

/// A folder as a place to make names in.
fn place(folder: &Path) -> Result<OwnedFd, Errno> {
    let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
    rustix::fs::open(folder, flags, Mode::empty())
}

/// Why a proof in a folder could not be taken back; `None` if it could.
pub fn irrevocable(folder: &Path) -> Option<String> {
    let stat = rustix::fs::statx(CWD, folder, AtFlags::empty(), StatxFlags::BASIC_STATS).ok()?;
    let grows = stat.stx_attributes.contains(StatxAttributes::APPEND);
    grows.then(|| {
        "the folder may only grow (chattr +a): what is made in it to prove would stay".to_owned()
    })
}

/// Takes away what killed proofs left in a folder. What would be the last name of a file that holds
/// something stays, and is named.
pub fn sweep(folder: &Path) -> Vec<String> {
    sweep_if(folder, |name| is_left(name) == Some(true))
}

/// Takes away what one process left in a folder.
pub fn sweep_of(folder: &Path, process: u32) -> Vec<String> {
    let own = format!("{MARK}{process}-");
    sweep_if(folder, |name| name.starts_with(own.as_bytes()) && is_left(name).is_some())
}

fn sweep_if(folder: &Path, goes: impl Fn(&[u8]) -> bool) -> Vec<String> {
    let mut stays = Vec::new();
    let Ok(open) = open_folder(folder) else { return stays };
    let Ok(entries) = Dir::read_from(&open) else { return stays };
    for entry in entries.flatten().filter(|entry| goes(entry.file_name().to_bytes())) {
        let name = entry.file_name();
        let Ok(stat) = rustix::fs::statat(&open, name, AtFlags::SYMLINK_NOFOLLOW) else { continue };
        let gone = match FileType::from_raw_mode(stat.st_mode) {
            FileType::Directory => rustix::fs::unlinkat(&open, name, AtFlags::REMOVEDIR),
            FileType::RegularFile if stat.st_nlink < 2 && stat.st_size > 0 => Err(Errno::NOTEMPTY),
            _ => rustix::fs::unlinkat(&open, name, AtFlags::empty()),
        };
        if gone.is_err() {
            let path = folder.join(OsStr::from_bytes(name.to_bytes()));
            stays.push(tarvek_core::words::text::shown(path.as_os_str().as_bytes()));
        }
    }
    stays
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_proofs_left_is_taken_away() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        std::fs::write(at("film.mkv"), "film").unwrap();
        // No process has such a number.
        std::fs::hard_link(at("film.mkv"), at(".tarvek-proof-4194305-1-l")).unwrap();
        std::fs::write(at(".tarvek-proof-4194305-1-m"), "").unwrap();
        std::fs::create_dir(at(".tarvek-proof-4194305-1-n")).unwrap();
        std::fs::write(at(".tarvek-proof-notes"), "").unwrap();
        std::fs::write(at(".tarvek-proof-4194305-2-l"), "the last name of it").unwrap();
        let own = own_name('l');
        std::fs::write(folder.path().join(OsStr::from_bytes(own.to_bytes())), "").unwrap();
        let stays = sweep(folder.path());
        assert_eq!(stays.len(), 1, "{stays:?}");
        assert!(stays[0].ends_with(".tarvek-proof-4194305-2-l"), "{stays:?}");
        let mut left: Vec<String> = std::fs::read_dir(folder.path())
            .unwrap()
            .map(|entry| entry.unwrap().file_name().into_string().unwrap())
            .collect();
        left.sort();
        let own = own.into_string().unwrap();
        let mut expected = [".tarvek-proof-4194305-2-l", ".tarvek-proof-notes", "film.mkv", &own];
        expected.sort_unstable();
        assert_eq!(left, expected);
        sweep_of(folder.path(), std::process::id());
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 3);
    }

    #[test]
    fn who_has_ended_is_gone_before_its_parent_asks() {
        let mut child = std::process::Command::new("sleep").arg("60").spawn().unwrap();
        let name = format!("{MARK}{}-{}-n", child.id(), start_of(child.id()).unwrap());
        assert_eq!(is_left(name.as_bytes()), Some(false));
        child.kill().unwrap();
        let until = std::time::Instant::now() + std::time::Duration::from_secs(10);
        while is_left(name.as_bytes()) != Some(true) && std::time::Instant::now() < until {
            std::thread::yield_now();
        }
        // It is still there, as a zombie.
        assert!(std::fs::exists(format!("/proc/{}/stat", child.id())).unwrap());
        assert_eq!(is_left(name.as_bytes()), Some(true));
        child.wait().unwrap();
    }

    #[test]
    fn a_proof_leaves_everything_as_it_was() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        std::fs::create_dir(at("done")).unwrap();
        std::fs::create_dir(at("films")).unwrap();
        std::fs::write(at("done/film.mkv"), "film").unwrap();
        assert_eq!(link(&at("done/film.mkv"), &at("films")), Attempt::Possible);
        assert_eq!(rename(&at("done/film.mkv"), &at("films")), Attempt::Possible);
        assert_eq!(rename(&at("done"), &at("films")), Attempt::Possible);
        let names = |name: &str| std::fs::read_dir(at(name)).unwrap().count();
        assert_eq!((names("done"), names("films"), names("")), (1, 0, 2));
    }
}
