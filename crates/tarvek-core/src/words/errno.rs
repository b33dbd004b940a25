//! What a kernel answers when it refuses (`errno(3)`).

use std::fmt;

use super::word::words;

words! {
    /// The errors that speak of paths, access and links.
    pub enum Errno {
        Access = "EACCES",
        Permission = "EPERM",
        ReadOnly = "EROFS",
        NoEntry = "ENOENT",
        NotAFolder = "ENOTDIR",
        Loop = "ELOOP",
        NameTooLong = "ENAMETOOLONG",
        Busy = "EBUSY",
        /// An id that a mount does not map.
        Overflow = "EOVERFLOW",
        /// A program that runs can't be written.
        TextBusy = "ETXTBSY",
        Invalid = "EINVAL",
        Exists = "EEXIST",
        /// Not the same mount, filesystem, subvolume or project.
        CrossDevice = "EXDEV",
        /// As many names as the filesystem takes.
        TooManyLinks = "EMLINK",
        IsAFolder = "EISDIR",
        NotEmpty = "ENOTEMPTY",
    }
}

impl fmt::Display for Errno {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.word())
    }
}
