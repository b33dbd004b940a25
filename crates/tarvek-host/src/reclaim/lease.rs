//! Whether anybody can be writing to a file: a read lease (`fcntl(2)`, F_SETLEASE) is given only if
//! nobody has it open for writing, shared mappings included, and tells when somebody asks to.

#![allow(unsafe_code)]

use std::collections::HashSet;
use std::fs::File;
use std::os::fd::{AsFd, AsRawFd};
use std::sync::Once;

use rustix::io::Errno;
use tarvek_core::kernel::entry::Meta;

use crate::contents::Holders;
use crate::filesystem::{Nature, nature};

/// A file that nobody writes to as long as this lives, unless it says otherwise in the end.
#[derive(Debug)]
pub(super) struct NoWriter<'f> {
    file: &'f File,
    /// Whether the kernel gave a lease; else processes were looked through.
    leased: bool,
}

/// Why it can't be said that nobody writes to a file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum WriterFault {
    /// Somebody has it open for writing, or mapped.
    Writing(String),
    /// Nobody can tell.
    Unknown(String),
}

impl WriterFault {
    pub(super) fn into_words(self) -> String {
        match self {
            Self::Writing(why) | Self::Unknown(why) => why,
        }
    }
}

impl<'f> NoWriter<'f> {
    /// Asks the kernel for a lease; where it gives none, looks through all processes.
    pub(super) fn of(file: &'f File, meta: &Meta) -> Result<Self, WriterFault> {
        match set_lease(file, libc::F_RDLCK) {
            Ok(()) => return Ok(Self { file, leased: true }),
            Err(Errno::AGAIN) => {
                let who = holder(meta).map_or_else(|| "a process".to_owned(), |(who, _)| who);
                return Err(WriterFault::Writing(format!("{who} has it open for writing")));
            }
            Err(_) => {}
        }
        if nature(file.as_fd()) == Nature::Network {
            let why = "it lies on a network filesystem, and nobody can tell here whether another \
                       client writes to it: run reclaim on its server";
            return Err(WriterFault::Unknown(why.to_owned()));
        }
        match holder(meta) {
            None => Ok(Self { file, leased: false }),
            Some((who, true)) => Err(WriterFault::Writing(format!("{who} has it open"))),
            Some((why, false)) => Err(WriterFault::Unknown(why)),
        }
    }

    /// Whether nobody has come to write since.
    pub(super) fn still_holds(&self) -> bool {
        // SAFETY: the call takes a descriptor and no memory.
        !self.leased
            || unsafe { libc::fcntl(self.file.as_raw_fd(), libc::F_GETLEASE) } == libc::F_RDLCK
    }
}

impl Drop for NoWriter<'_> {
    fn drop(&mut self) {
        if self.leased {
            // It goes with the descriptor at the latest.
            let _ = set_lease(self.file, libc::F_UNLCK);
        }
    }
}

/// The process that holds a file, or why that can't be told; `None` if none does.
fn holder(meta: &Meta) -> Option<(String, bool)> {
    let id = meta.device.zip(meta.inode)?;
    let holders = Holders::of(&HashSet::from([id]));
    match holders.of_file(id.0, id.1) {
        Some(who) => Some((who.to_owned(), true)),
        None if holders.partial => {
            let why = "nobody but root can tell whether another process writes to it: --undo, then \
                       reclaim as root";
            Some((why.to_owned(), false))
        }
        None => None,
    }
}

fn set_lease(file: &File, kind: libc::c_int) -> Result<(), Errno> {
    static IGNORED: Once = Once::new();
    // Whoever asks to write makes the kernel send this signal, which would end the program;
    // `still_holds` asks instead. SAFETY: ignoring a signal installs no handler.
    IGNORED.call_once(|| _ = unsafe { libc::signal(libc::SIGIO, libc::SIG_IGN) });
    // SAFETY: the call takes a descriptor and two numbers.
    match unsafe { libc::fcntl(file.as_raw_fd(), libc::F_SETLEASE, kind) } {
        0 => Ok(()),
        _ => Err(last_errno()),
    }
}

fn last_errno() -> Errno {
    let error = std::io::Error::last_os_error();
    Errno::from_io_error(&error).unwrap_or(Errno::INVAL)
}

/// What of a file is compared or hashed is nobody's to write to meanwhile.
///
/// # Errors
/// If somebody came to write, in words.
pub(super) fn undisturbed(guards: &[&NoWriter]) -> Result<(), String> {
    match guards.iter().all(|guard| guard.still_holds()) {
        true => Ok(()),
        false => Err("somebody opened it for writing meanwhile".to_owned()),
    }
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use crate::walk;

    use super::*;

    #[test]
    fn nobody_writes_unnoticed() {
        let mut writer = tempfile::NamedTempFile::new().unwrap();
        writer.write_all(b"film").unwrap();
        let file = File::open(writer.path()).unwrap();
        let meta = walk::stat_now(file.as_fd()).unwrap();
        let fault = NoWriter::of(&file, &meta).unwrap_err();
        assert!(matches!(fault, WriterFault::Writing(_)), "{fault:?}");
        let path = writer.into_temp_path();
        let guard = NoWriter::of(&file, &meta).unwrap();
        assert!(guard.still_holds());
        let flags = libc::O_NONBLOCK;
        let asked =
            std::os::unix::fs::OpenOptionsExt::custom_flags(File::options().write(true), flags)
                .open(&path);
        assert!(asked.is_err() && !guard.still_holds(), "whoever asks waits until it is let go");
    }
}
