//! The check that an SMB client makes by itself (`mount.cifs(8)`).

use std::sync::Arc;

use crate::kernel::decide::{Decision, decide};
use crate::kernel::entry::Meta;
use crate::kernel::object::Object;
use crate::kernel::subject::Subject;
use crate::words::options::MountOptions;
use crate::words::place::Place;
use crate::words::terms::Os;

/// The check that a client makes by itself at an SMB mount: the server's owners are not known
/// there, so that all entries have one owner, group and mode.
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
    /// The check of a mount, from its options; `None` with `noperm`, and on systems that know no
    /// such check.
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::kernel::decide::{R, W, X};
    use crate::kernel::entry::EntryKind;
    use crate::words::path::AbsPath;

    #[test]
    fn a_client_checks_what_its_mount_shows_and_not_what_the_server_has() {
        let gate = |os, options: &str, uid| {
            let at = Place::new("millrace", AbsPath::root());
            Gate::of_mount(at, os, &MountOptions::read(options), &Subject::new(uid, uid, []))
        };
        let file = Meta::new(EntryKind::File, 0o600, 0, 0);
        let folder = Meta::new(EntryKind::Folder, 0o777, 0, 0);
        let may = |gate: &Gate, meta: &Meta| {
            [R, W, X].map(|want| gate.decide(meta, want).allowed).map(u8::from)
        };
        for (options, uid, of_file, of_folder) in [
            ("rw", 840, [1, 0, 1], [1, 0, 1]),
            ("uid=840", 840, [1, 1, 1], [1, 1, 1]),
            ("uid=840,file_mode=0600,dir_mode=0500", 840, [1, 1, 0], [1, 0, 1]),
            ("uid=840,file_mode=0600,dir_mode=0700", 7, [0, 0, 0], [0, 0, 0]),
            ("gid=7,file_mode=0640,dir_mode=0710", 7, [1, 0, 0], [0, 0, 1]),
        ] {
            let gate = gate(Os::Linux, options, uid).unwrap();
            assert_eq!((may(&gate, &file), may(&gate, &folder)), (of_file, of_folder), "{options}");
        }
        let text = gate(Os::Linux, "uid=840,dir_mode=0700", 7).unwrap().text(true);
        assert_eq!(text, "uid=840,gid=0,dir_mode=0700");
        assert!(gate(Os::Linux, "noperm", 7).is_none() && gate(Os::Windows, "rw", 7).is_none());
    }
}
