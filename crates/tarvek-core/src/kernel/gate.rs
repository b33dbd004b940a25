//! The check that an SMB client makes by itself (`mount.cifs(8)`).

use std::sync::Arc;

use crate::kernel::decide::{Decision, decide};
use crate::kernel::entry::Meta;
use crate::kernel::object::Object;
use crate::kernel::subject::Subject;
use crate::words::options::MountOptions;
use crate::words::place::Place;
use crate::words::terms::Os;

/// The check that a client makes by itself at an SMB mount: the server's owners are not known there, so that all entries
/// have one owner, group and mode.
#[derive(Clone, Debug, PartialEq)]
pub struct Gate {
    /// The mount point, on the client.
    pub at: Place,
    /// Who asks there.
    pub subject: Subject,
    uid: u32,
    gid: u32,
    file_mode: u16,
    folder_mode: u16,
}

impl Gate {
    /// The check of a mount, from its options; `None` with `noperm`, and on systems that know no such check.
    pub fn of_mount(
        at: Place,
        os: Os,
        options: &MountOptions,
        subject: &Subject,
    ) -> Option<Arc<Self>> {
        if os != Os::Linux || options.has("noperm") {
            return None;
        }
        let number = |key| options.value(key).and_then(|value| value.parse().ok());
        let mode = |key| options.value(key).and_then(|value| u16::from_str_radix(value, 8).ok());
        Some(Arc::new(Self {
            at,
            subject: subject.clone(),
            uid: number("uid").unwrap_or(0),
            gid: number("gid").unwrap_or(0),
            file_mode: mode("file_mode").unwrap_or(0o755) & 0o7777,
            folder_mode: mode("dir_mode").unwrap_or(0o755) & 0o7777,
        }))
    }

    /// Whether it lets its subject have what is wanted of an entry of the server.
    pub fn decide(&self, seen: &Meta, want: u8) -> Decision {
        decide(&Object::plain(self.meta(seen)), &self.subject, want)
    }

    /// What the client shows of an entry of the server.
    fn meta(&self, seen: &Meta) -> Meta {
        let mode = if seen.is_folder() { self.folder_mode } else { self.file_mode };
        Meta { mode, uid: self.uid, gid: self.gid, flags: None, ..*seen }
    }

    /// The options that decide for a file or folder.
    pub fn text(&self, folder: bool) -> String {
        let (key, mode) =
            if folder { ("dir_mode", self.folder_mode) } else { ("file_mode", self.file_mode) };
        format!("uid={},gid={},{key}={mode:04o}", self.uid, self.gid)
    }
}
