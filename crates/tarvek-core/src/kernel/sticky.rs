//! The sticky bit of folders (`inode(7)`, `__check_sticky` in `fs/namei.c`).

use crate::kernel::entry::Meta;
use crate::kernel::subject::Subject;

/// The bit.
pub const STICKY: u16 = 0o1000;

/// Whether the sticky bit of a folder keeps somebody from removing or renaming an entry in it: only the entry's owner, the
/// folder's owner, and CAP_FOWNER over the entry's owner and group pass.
pub fn keeps(folder: &Meta, entry: &Meta, subject: &Subject) -> bool {
    let owns = subject.uid == folder.uid || subject.uid == entry.uid;
    let overrides = subject.capabilities.fowner && subject.rules_over(entry.uid, entry.gid);
    folder.mode & STICKY != 0 && !owns && !overrides
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::kernel::entry::EntryKind;
    use crate::kernel::subject::{IdMap, IdRange};

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
            // Root of a namespace rules over what is mapped into it, owner and group both, and over nothing else.
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
