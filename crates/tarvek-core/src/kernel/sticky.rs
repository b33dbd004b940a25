//! The sticky bit of folders (`inode(7)`, `__check_sticky` in `fs/namei.c`).

use crate::kernel::entry::{EntryKind, Meta};
use crate::kernel::subject::Subject;

/// The bit.
pub const STICKY: u16 = 0o1000;

/// Whether the sticky bit of a folder keeps somebody from removing or renaming an entry in it: only
/// the entry's owner, the folder's owner, and CAP_FOWNER over the entry's owner and group pass.
pub fn keeps(folder: &Meta, entry: &Meta, subject: &Subject) -> bool {
    let owns = subject.uid == folder.uid || subject.uid == entry.uid;
    let overrides = subject.capabilities.fowner && subject.rules_over(entry.uid, entry.gid);
    folder.mode & STICKY != 0 && !owns && !overrides
}

/// Which setting, and from which value on, keeps somebody from opening an entry that is there with
/// O_CREAT in a sticky folder that others may write, be they root (`fs.protected_regular` and
/// `fs.protected_fifos`, proc_sys_fs(5); `may_create_in_sticky` in `fs/namei.c`).
pub fn protects(folder: &Meta, entry: &Meta, subject: &Subject) -> Option<(&'static str, i64)> {
    let setting = match entry.kind {
        EntryKind::File => "fs.protected_regular",
        EntryKind::Fifo => "fs.protected_fifos",
        _ => return None,
    };
    if folder.mode & STICKY == 0 || entry.uid == folder.uid || entry.uid == subject.uid {
        return None;
    }
    match folder.mode & 0o022 {
        0 => None,
        0o020 => Some((setting, 2)),
        _ => Some((setting, 1)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::kernel::subject::{IdMap, IdRange};

    #[test]
    fn what_others_made_in_a_sticky_folder_is_not_opened_for_creation() {
        let root = Subject::new(0, 0, []);
        for (mode, folder, entry, expected) in [
            (0o1777, 5, 841, Some(("fs.protected_regular", 1))),
            (0o1775, 5, 841, Some(("fs.protected_regular", 2))),
            (0o1755, 5, 841, None),
            (0o0777, 5, 841, None),
            (0o1777, 841, 841, None),
            (0o1777, 5, 0, None),
        ] {
            let folder = Meta::new(EntryKind::Folder, mode, folder, 0);
            let entry = Meta::new(EntryKind::File, 0o666, entry, 0);
            assert_eq!(protects(&folder, &entry, &root), expected, "{folder:?} {entry:?}");
        }
    }

    #[test]
    fn owners_pass_and_a_capability_where_it_holds() {
        let range = IdRange { inside: 0, outside: 100_000, count: 1000 };
        let shifted = IdMap::both(vec![range]).shift(&Subject::new(0, 0, [])).unwrap();
        let (root, other) = (Subject::new(0, 0, []), Subject::new(7, 7, [2200]));
        for (mode, folder, entry, subject, kept) in [
            (0o777, (0, 0), (841, 2200), &other, false),
            (0o1777, (0, 0), (841, 2200), &other, true),
            (0o1777, (7, 0), (841, 2200), &other, false),
            (0o1777, (0, 0), (7, 2200), &other, false),
            (0o1777, (0, 0), (841, 2200), &root, false),
            // Root of a namespace rules over what is mapped into it, owner and group both, and over
            // nothing else.
            (0o1777, (0, 0), (100_841, 100_220), &shifted, false),
            (0o1777, (0, 0), (100_841, 2200), &shifted, true),
            (0o1777, (0, 0), (841, 100_220), &shifted, true),
            (0o1777, (100_000, 0), (841, 2200), &shifted, false),
        ] {
            let folder = Meta::new(EntryKind::Folder, mode, folder.0, folder.1);
            let entry = Meta::new(EntryKind::File, 0o644, entry.0, entry.1);
            assert_eq!(keeps(&folder, &entry, subject), kept, "{folder:?} {entry:?} {subject}");
        }
    }
}
