//! What a new file or folder will be: owner, group, mode and ACLs, by the folder that it is made in
//! and who makes it.

use std::borrow::Cow;

use crate::kernel::acl::{Acl, Tag};
use crate::kernel::decide::{W, decide, granted_together};
use crate::kernel::entry::{EntryKind, Meta};
use crate::kernel::object::Object;
use crate::kernel::subject::Subject;

/// A setgid folder's bit.
const SETGID: u16 = 0o2000;

/// What a program asks for, and what its surroundings make of it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Making {
    /// A file or a folder.
    pub kind: EntryKind,
    /// The mode that the program asks for: 0666 for files and 0777 for folders with most, 0600 with
    /// `mkstemp(3)`.
    pub asked: u16,
    /// The process's umask.
    pub umask: u16,
    /// Whether the umask is taken off even where the folder has a default ACL: NFS clients do so up
    /// to version 4.1.
    pub umask_always: bool,
    /// Whether the filesystem is mounted with `grpid` (`ext4(5)`, `xfs(5)`).
    pub grpid: bool,
    /// Whether it is an SMB server that makes it.
    pub by_smbd: bool,
}

impl Making {
    /// A file or folder as most programs make them.
    pub fn usual(folder: bool, umask: u16) -> Self {
        let (kind, asked) =
            if folder { (EntryKind::Folder, 0o777) } else { (EntryKind::File, 0o666) };
        Self { kind, asked, umask, umask_always: false, grpid: false, by_smbd: false }
    }
}

/// What `subject` makes in `folder` (`open(2)`, `acl(5)` OBJECT CREATION AND DEFAULT ACLs,
/// `inode_init_owner` in `fs/inode.c`).
pub fn predict<'a>(folder: &Object<'a>, subject: &Subject, making: Making) -> Object<'a> {
    let makes_folder = making.kind == EntryKind::Folder;
    let setgid = folder.meta.mode & SETGID != 0;
    let gid = if setgid || making.grpid { folder.meta.gid } else { subject.gid };
    let default = folder.default_acl.clone();
    let masked = default.is_none() || making.umask_always;
    // mkdir(2) takes the sticky bit as well, and nothing else beyond the permissions.
    let takes = if makes_folder { 0o1777 } else { 0o777 };
    let mut mode = making.asked & takes & if masked { !making.umask } else { 0o7777 };
    let mut acl = None;
    if let Some(default) = &default {
        let (created, left) = created_with(default, mode);
        mode = mode & 0o7000 | left;
        acl = (created.entries().len() > 3).then_some(Cow::Owned(created));
    }
    if makes_folder && setgid && !making.grpid {
        mode |= SETGID;
    }
    let device = folder.meta.device;
    let meta = Meta { device, ..Meta::new(making.kind, mode, subject.uid, gid) };
    let nfs4 = folder.nfs4.as_ref().and_then(|acl| acl.inherited(makes_folder)).map(Cow::Owned);
    let mut made = Object { meta, acl, default_acl: default.filter(|_| makes_folder), nfs4 };
    if making.by_smbd {
        let missing = making.asked & !0o777 & !mode;
        if makes_folder {
            if missing != 0 {
                made.set_mode(mode | making.asked);
            }
        } else if !decide(&made, subject, W).allowed && granted_together(&made, subject) & W == 0 {
            // The server can't store the DOS attributes beside what its maker can't write, and puts
            // them into the mode.
            made.set_mode(making.asked);
        }
    }
    made
}

/// A default ACL and the mode that was asked for become an access ACL and a mode: each cuts the
/// other (`posix_acl_create_masq` in `fs/posix_acl.c`).
fn created_with(default: &Acl, mode: u16) -> (Acl, u16) {
    let mut acl = default.clone();
    let bits = |shift: u16| (mode >> shift & 7) as u8;
    let group = if acl.perm(Tag::Mask).is_some() { Tag::Mask } else { Tag::GroupObj };
    let mut left = 0;
    for (tag, shift) in [(Tag::UserObj, 6), (group, 3), (Tag::Other, 0)] {
        let perm = acl.perm(tag).unwrap_or(0) & bits(shift);
        acl.set(tag, perm);
        left |= u16::from(perm) << shift;
    }
    (acl, left)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::kernel::acl::AclEntry;

    fn folder(mode: u16, default: &[(Tag, u8)]) -> Object<'static> {
        let meta = Meta::new(EntryKind::Folder, mode, 0, 2100);
        let entries = default.iter().map(|&(tag, perm)| AclEntry { tag, perm }).collect();
        let default_acl = (!default.is_empty()).then(|| Cow::Owned(Acl::new(entries)));
        Object { default_acl, ..Object::plain(meta) }
    }

    fn predicted_mode(folder: &Object, making: Making) -> String {
        let made = predict(folder, &Subject::new(840, 841, []), making);
        let acl = made.acl.map(|acl| format!(" {acl}")).unwrap_or_default();
        format!("{:04o} {}:{}{acl}", made.meta.mode, made.meta.uid, made.meta.gid)
    }

    #[test]
    fn setgid_umask_and_default_acls_make_the_new_entry() {
        let plain = folder(0o775, &[]);
        let setgid = folder(0o2775, &[]);
        let default = folder(
            0o2775,
            &[
                (Tag::UserObj, 7),
                (Tag::User(5), 7),
                (Tag::GroupObj, 5),
                (Tag::Mask, 7),
                (Tag::Other, 0),
            ],
        );
        let file = Making::usual(false, 0o022);
        let directory = Making::usual(true, 0o027);
        assert_eq!(predicted_mode(&plain, file), "0644 840:841");
        assert_eq!(predicted_mode(&setgid, file), "0644 840:2100");
        assert_eq!(predicted_mode(&setgid, directory), "2750 840:2100");
        // With grpid the group comes from the folder, and the bit is not handed on.
        assert_eq!(predicted_mode(&plain, Making { grpid: true, ..directory }), "0750 840:2100");
        assert_eq!(predicted_mode(&setgid, Making { grpid: true, ..directory }), "0750 840:2100");
        // A default ACL takes the place of the umask; what was asked for cuts its mask.
        let acl = "user::rw-,user:5:rwx,group::r-x,mask::rw-,other::---";
        assert_eq!(predicted_mode(&default, file), format!("0660 840:2100 {acl}"));
        let private = Making { asked: 0o600, ..file };
        let acl = "user::rw-,user:5:rwx,group::r-x,mask::---,other::---";
        assert_eq!(predicted_mode(&default, private), format!("0600 840:2100 {acl}"));
        let over_old_nfs = Making { umask_always: true, ..file };
        let acl = "user::rw-,user:5:rwx,group::r-x,mask::r--,other::---";
        assert_eq!(predicted_mode(&default, over_old_nfs), format!("0640 840:2100 {acl}"));
    }
}
