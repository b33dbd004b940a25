//! Why the contents of a file are not known.

use rustix::io::Errno;
use tarvek_core::words::name::Name;
use thiserror::Error;

use crate::walk::why;

/// Why the contents of a file are not known.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum ContentFault {
    #[error("it is no regular file")]
    NotRegular,
    /// Its inode is not as it was seen any more.
    #[error("it has changed since it was surveyed")]
    Outdated,
    #[error("it changed while it was read")]
    Changed,
    #[error("it was cut off while it was read, or can't be read")]
    CutOff,
    /// Somebody asked to stop: nothing is wrong with the file.
    #[error("interrupted")]
    Stopped,
    /// It can't be opened (`openat2(2)`).
    #[error("{}", why(*.0))]
    Unopened(Errno),
    /// What the system says of reading it (`pread(2)`).
    #[error("{0}")]
    Unread(String),
}

impl From<std::io::Error> for ContentFault {
    fn from(error: std::io::Error) -> Self {
        match error.kind() {
            std::io::ErrorKind::UnexpectedEof => Self::Changed,
            _ => Self::Unread(error.to_string()),
        }
    }
}

impl From<ContentFault> for Name {
    fn from(fault: ContentFault) -> Self {
        fault.to_string().into()
    }
}
