//! Files that somebody named: regular ones that are read, and new ones in a folder, all of them or
//! none, never outside of it, and never in the place of another.

use std::fs::File;
use std::io::{self, Write};
use std::os::fd::AsRawFd;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Component, Path, PathBuf};

use rustix::fs::{AtFlags, CWD, Mode, OFlags, RenameFlags, ResolveFlags};
use rustix::io::Errno;

/// Why a file is not opened.
#[derive(Debug)]
pub enum NotOpened {
    /// It is a folder.
    Folder,
    /// It is a device, a FIFO or a socket.
    Special,
    Failed(io::Error),
}

impl From<io::Error> for NotOpened {
    fn from(error: io::Error) -> Self {
        Self::Failed(error)
    }
}

/// Opens a regular file for reading, and tells its size. A device may do something when it is
/// opened, and a FIFO waits, so that it is looked at first, and again once it is open.
///
/// # Errors
/// If it is no regular file, or can't be opened.
pub fn open_regular(file: &Path) -> Result<(File, std::fs::Metadata), NotOpened> {
    let kind = |meta: &std::fs::Metadata| match (meta.is_dir(), meta.is_file()) {
        (true, _) => Err(NotOpened::Folder),
        (_, false) => Err(NotOpened::Special),
        _ => Ok(()),
    };
    kind(&std::fs::metadata(file)?)?;
    let open = File::options().read(true).custom_flags(libc::O_NONBLOCK).open(file)?;
    let meta = open.metadata()?;
    kind(&meta)?;
    Ok((open, meta))
}

/// Opens a regular file below a folder for reading; nothing leads out of that folder, neither `..`
/// nor a symlink, and nothing else is opened.
///
/// # Errors
/// As [`open_regular`]; what leads out fails as well (EXDEV of `openat2(2)`).
pub fn open_regular_beneath(
    folder: &Path,
    below: &Path,
) -> Result<(File, std::fs::Metadata), NotOpened> {
    use rustix::fs::{CWD, Mode, OFlags, ResolveFlags};
    let errno = |error: rustix::io::Errno| NotOpened::Failed(error.into());
    let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
    let top = rustix::fs::openat(CWD, folder, flags, Mode::empty()).map_err(errno)?;
    let flags = OFlags::PATH | OFlags::CLOEXEC;
    let resolve = ResolveFlags::BENEATH | ResolveFlags::NO_MAGICLINKS;
    let found = rustix::fs::openat2(&top, below, flags, Mode::empty(), resolve).map_err(errno)?;
    // The very thing that was found.
    open_regular(Path::new(&format!("/proc/self/fd/{}", found.as_raw_fd())))
}

/// A file to write.
#[derive(Clone, Copy, Debug)]
pub struct NewFile<'a> {
    /// Below the folder, with folders of its own where it needs them.
    pub name: &'a Path,
    pub contents: &'a [u8],
    /// Permission bits, of which the umask takes its own.
    pub mode: u32,
}

/// Why nothing was written.
#[derive(Debug)]
pub struct NotWritten {
    /// The file or folder.
    pub path: PathBuf,
    pub error: io::Error,
}

const FOLDER: OFlags = OFlags::DIRECTORY.union(OFlags::CLOEXEC).union(OFlags::RDONLY);
/// Nothing below the folder may lead out of it, and nobody else's symlink anywhere.
const INSIDE: ResolveFlags =
    ResolveFlags::BENEATH.union(ResolveFlags::NO_SYMLINKS).union(ResolveFlags::NO_MAGICLINKS);

/// Writes files into a folder, which is made if it is not there. They are written beside their
/// places first, so that a full disk leaves nothing of them, and whatever was made before an error
/// goes again.
///
/// # Errors
/// The first file that can't be written, or whose name is taken; then there is none of them.
pub fn write_new(folder: &Path, files: &[NewFile]) -> Result<(), NotWritten> {
    let of_folder = |error: io::Error| NotWritten { path: folder.to_owned(), error };
    std::fs::create_dir_all(folder).map_err(of_folder)?;
    let top = rustix::fs::openat(CWD, folder, FOLDER, Mode::empty())
        .map_err(|error| of_folder(error.into()))?;
    let mut new = New { top: &top, made: Vec::new() };
    let outcome = new.all(folder, files);
    if outcome.is_err() {
        new.undo();
    }
    outcome
}

/// Writes a file anew, or for the first time: beside its place, then into it, so that there is
/// always one of the two. A symlink stays, and what it leads to is written.
///
/// # Errors
/// If it can't be written; then it is as it was.
pub fn replace(file: &Path, contents: &[u8]) -> io::Result<()> {
    let place = match std::fs::canonicalize(file) {
        Ok(place) => place,
        Err(error) if error.kind() == io::ErrorKind::NotFound => file.to_owned(),
        Err(error) => return Err(error),
    };
    let name = place.file_name().ok_or(io::ErrorKind::InvalidInput)?.to_string_lossy().into_owned();
    let beside = place.with_file_name(format!(".{name}.tarvek-{}", std::process::id()));
    let mode = std::fs::metadata(&place).ok().map(|meta| meta.permissions());
    let mut open = File::create_new(&beside)?;
    let written = (|| {
        open.write_all(contents)?;
        if let Some(mode) = mode {
            open.set_permissions(mode)?;
        }
        open.sync_all()?;
        std::fs::rename(&beside, &place)
    })();
    if written.is_err() {
        // The error says what went wrong; a file that can't be removed either stays beside it.
        let _ = std::fs::remove_file(&beside);
    }
    written
}

struct New<'a> {
    top: &'a OwnedFd,
    /// What was made, in this order: the folder it is in, its name, and whether it is a folder.
    made: Vec<(OwnedFd, PathBuf, bool)>,
}

impl New<'_> {
    fn all(&mut self, folder: &Path, files: &[NewFile]) -> Result<(), NotWritten> {
        let staging = PathBuf::from(format!(".tarvek-{}", std::process::id()));
        let of = |path: &Path, error: io::Error| NotWritten { path: folder.join(path), error };
        self.folder(self.top.as_fd(), &staging, Mode::RWXU).map_err(|error| of(&staging, error))?;
        let stage = inside(self.top.as_fd(), &staging).map_err(|error| of(&staging, error))?;
        for (n, file) in files.iter().enumerate() {
            self.write(&stage, n, file).map_err(|error| of(file.name, error))?;
        }
        for (n, file) in files.iter().enumerate() {
            self.place(&stage, n, file.name).map_err(|error| of(file.name, error))?;
        }
        rustix::fs::unlinkat(self.top, &staging, AtFlags::REMOVEDIR)
            .map_err(|error| of(&staging, error.into()))
    }

    fn write(&mut self, stage: &OwnedFd, n: usize, file: &NewFile) -> io::Result<()> {
        let name = PathBuf::from(n.to_string());
        let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::CLOEXEC;
        let mode = Mode::from_raw_mode(file.mode & 0o7777);
        let mut open = File::from(rustix::fs::openat(stage, &name, flags, mode)?);
        self.made.push((stage.try_clone()?, name, false));
        open.write_all(file.contents)?;
        // Some filesystems find out only then that there is no room.
        open.sync_all()
    }

    /// Gives a staged file its name.
    fn place(&mut self, stage: &OwnedFd, n: usize, name: &Path) -> io::Result<()> {
        let mut here = self.top.try_clone()?;
        let mut parts = name.components().peekable();
        while let Some(part) = parts.next() {
            let Component::Normal(part) = part else {
                return Err(io::Error::new(
                    io::ErrorKind::InvalidInput,
                    "its name leads out of the folder",
                ));
            };
            let part = Path::new(part);
            if parts.peek().is_some() {
                match self.folder(here.as_fd(), part, Mode::from_raw_mode(0o777)) {
                    Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
                    made => made?,
                }
                here = inside(here.as_fd(), part)?;
                continue;
            }
            let staged = PathBuf::from(n.to_string());
            match rustix::fs::renameat_with(stage, &staged, &here, part, RenameFlags::NOREPLACE) {
                // Not every filesystem can (renameat2(2)); a link never replaces anything.
                Err(Errno::INVAL | Errno::NOSYS) => {
                    rustix::fs::linkat(stage, &staged, &here, part, AtFlags::empty())?;
                    rustix::fs::unlinkat(stage, &staged, AtFlags::empty())?;
                }
                renamed => renamed?,
            }
            self.made.push((here.try_clone()?, part.to_owned(), false));
        }
        Ok(())
    }

    fn folder(&mut self, above: BorrowedFd, name: &Path, mode: Mode) -> io::Result<()> {
        rustix::fs::mkdirat(above, name, mode)?;
        self.made.push((above.try_clone_to_owned()?, name.to_owned(), true));
        Ok(())
    }

    /// Takes back what was made. What can't be taken back stays; the error that led here is told in
    /// any case.
    fn undo(&mut self) {
        while let Some((above, name, folder)) = self.made.pop() {
            let flags = if folder { AtFlags::REMOVEDIR } else { AtFlags::empty() };
            let _ = rustix::fs::unlinkat(above, name, flags);
        }
    }
}

fn inside(above: BorrowedFd, name: &Path) -> io::Result<OwnedFd> {
    Ok(rustix::fs::openat2(above, name, FOLDER, Mode::empty(), INSIDE)?)
}

#[cfg(test)]
mod tests {
    use std::fs;
    use std::os::unix::fs::symlink;

    use super::*;

    fn file<'a>(name: &'a str, contents: &'a str) -> NewFile<'a> {
        NewFile { name: Path::new(name), contents: contents.as_bytes(), mode: 0o600 }
    }

    fn names(folder: &Path) -> Vec<String> {
        let mut names: Vec<String> = fs::read_dir(folder)
            .unwrap()
            .map(|entry| entry.unwrap().file_name().into_string().unwrap())
            .collect();
        names.sort();
        names
    }

    #[test]
    fn all_files_are_written_or_none() {
        let dir = tempfile::tempdir().unwrap();
        let folder = dir.path().join("out");
        write_new(&folder, &[file("a", "1"), file("etc/b.cred", "2")]).unwrap();
        assert_eq!(names(&folder), ["a", "etc"]);
        assert_eq!(fs::read_to_string(folder.join("etc/b.cred")).unwrap(), "2");
        // One is there already; nothing new stays, not even a folder that was made for it.
        let refused = write_new(&folder, &[file("new/x", "1"), file("a", "2"), file("c", "3")]);
        let refused = refused.unwrap_err();
        assert_eq!(
            (refused.error.kind(), refused.path),
            (io::ErrorKind::AlreadyExists, folder.join("a"))
        );
        assert_eq!(names(&folder), ["a", "etc"]);
        assert_eq!(fs::read_to_string(folder.join("a")).unwrap(), "1");
    }

    #[test]
    fn nothing_is_written_outside_of_the_folder() {
        let dir = tempfile::tempdir().unwrap();
        let (folder, other) = (dir.path().join("out"), dir.path().join("other"));
        fs::create_dir_all(&folder).unwrap();
        fs::create_dir(&other).unwrap();
        symlink(&other, folder.join("etc")).unwrap();
        symlink("/nowhere", folder.join("x")).unwrap();
        for name in ["../x", "/abs/x", "etc/b.cred", "etc/../../other/x", "x", "x/y", "etc"] {
            write_new(&folder, &[file("first", "1"), file(name, "2")]).expect_err(name);
            assert_eq!(
                (names(&folder), names(&other)),
                (vec!["etc".into(), "x".into()], vec![]),
                "{name}"
            );
        }
        assert_eq!(names(dir.path()), ["other", "out"]);
    }

    #[test]
    fn a_full_disk_leaves_nothing() {
        // A limit on the size of files is met like a full disk, by the same call.
        let dir = tempfile::tempdir().unwrap();
        let big = vec![0u8; 1 << 20];
        let files = [file("a", "1"), NewFile { name: Path::new("b"), contents: &big, mode: 0o644 }];
        let script =
            "ulimit -f 8; exec \"$0\" --exact files::tests::writes_into_what_is_full --ignored";
        let outcome = std::process::Command::new("sh")
            .args(["-c", script])
            .arg(std::env::current_exe().unwrap())
            .env("TARVEK_FULL", dir.path())
            .output()
            .unwrap();
        assert!(outcome.status.success(), "{}", String::from_utf8_lossy(&outcome.stdout));
        assert_eq!(names(dir.path()), Vec::<String>::new());
        write_new(dir.path(), &files).unwrap();
        assert_eq!(names(dir.path()), ["a", "b"]);
    }

    /// Run by the test above in a process of its own.
    #[test]
    #[ignore = "needs a limit that the test above sets"]
    fn writes_into_what_is_full() {
        let Some(folder) = std::env::var_os("TARVEK_FULL") else { return };
        // Without this the kernel ends the process (setrlimit(2), RLIMIT_FSIZE).
        let ignore = nix::sys::signal::SigHandler::SigIgn;
        #[allow(unsafe_code)] // ignoring a signal runs no code of ours
        unsafe {
            nix::sys::signal::signal(nix::sys::signal::Signal::SIGXFSZ, ignore).unwrap()
        };
        let big = vec![0u8; 1 << 20];
        let files = [file("a", "1"), NewFile { name: Path::new("b"), contents: &big, mode: 0o644 }];
        let refused = write_new(Path::new(&folder), &files).unwrap_err();
        assert_eq!(refused.error.raw_os_error(), Some(27), "{refused:?}");
    }
}
