//! A request on one entry, with everything that is its own: flags, idmapped mounts, permissions,
//! the sticky bit. What comes first here is what a kernel comes to first (`may_open`, `may_create`
//! and `may_delete` in `fs/namei.c`).

use crate::kernel::decide::{Decider, Decision, R, W, X, decide};
use crate::kernel::entry::Flags;
use crate::kernel::nfs4::{self, Settled};
use crate::kernel::object::Object;
use crate::kernel::sticky;
use crate::kernel::subject::Subject;

/// Why a kernel refuses to have an entry read, written or searched.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Denied {
    /// It is immutable (`chattr +i`), which refuses whoever asks.
    Immutable,
    /// It lies on an idmapped mount that does not map its owner or group.
    Barred,
    Permission(Decision),
    /// It may only grow (`chattr +a`).
    Append,
}

/// Whether somebody may have what is wanted of an entry: bits [`R`], [`W`] and [`X`] in one
/// request.
///
/// # Errors
/// The first thing that refuses it.
pub fn may(object: &Object, subject: &Subject, want: u8) -> Result<Decision, Denied> {
    let meta = &object.meta;
    let flags = meta.flags.unwrap_or_default();
    let writes = want & W != 0;
    if writes && flags.immutable {
        return Err(Denied::Immutable);
    }
    if writes && subject.bars_change(meta.uid, meta.gid) {
        return Err(Denied::Barred);
    }
    let decision = decide(object, subject, want);
    if !decision.allowed {
        return Err(Denied::Permission(decision));
    }
    if writes && !object.is_folder() && flags.append {
        return Err(Denied::Append);
    }
    Ok(decision)
}

/// Why a kernel refuses to have a name taken out of its folder.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kept {
    /// The entry lies on an idmapped mount that does not map its owner or group.
    EntryBarred,
    FolderImmutable,
    /// The folder lies on an idmapped mount that does not map its owner or group.
    FolderBarred,
    /// The folder's permissions.
    Permission(Decision),
    /// An entry of an NFSv4 ACL, by its place in it: of the entry itself, or of its folder.
    Ace(AceOn, usize),
    /// The folder's sticky bit.
    Sticky,
    /// The folder may only grow.
    FolderAppend,
    /// The entry's own flags.
    EntryFlags(Flags),
}

/// Whose ACL decides about a removal.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum AceOn {
    Entry,
    Folder,
}

/// What permits a removal.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Permitted {
    /// The folder's permissions, or a capability.
    Folder(Decision),
    /// An entry of an NFSv4 ACL, by its place in it.
    Ace(AceOn, usize),
}

/// Whether somebody may take an entry's name out of its folder. That it is empty, and that nothing
/// is mounted on it, is not asked here.
///
/// # Errors
/// The first thing that refuses it.
pub fn may_remove(entry: &Object, folder: &Object, subject: &Subject) -> Result<Permitted, Kept> {
    let folder_flags = folder.meta.flags.unwrap_or_default();
    if subject.bars_change(entry.meta.uid, entry.meta.gid) {
        return Err(Kept::EntryBarred);
    }
    if folder_flags.immutable {
        return Err(Kept::FolderImmutable);
    }
    if subject.bars_change(folder.meta.uid, folder.meta.gid) {
        return Err(Kept::FolderBarred);
    }
    let permitted = if folder.nfs4.is_some() || entry.nfs4.is_some() {
        by_nfs4(entry, folder, subject)?
    } else {
        Permitted::Folder(by_mode(entry, folder, subject, W | X)?)
    };
    if folder_flags.append {
        return Err(Kept::FolderAppend);
    }
    let flags = entry.meta.flags.unwrap_or_default();
    if flags.immutable || flags.append { Err(Kept::EntryFlags(flags)) } else { Ok(permitted) }
}

/// Write permission on the folder, and the sticky bit.
fn by_mode(entry: &Object, folder: &Object, subject: &Subject, want: u8) -> Result<Decision, Kept> {
    let decision = decide(folder, subject, want);
    if !decision.allowed {
        return Err(Kept::Permission(decision));
    }
    // What may only grow refuses with the same error, and has the better reason.
    let grows = folder.meta.flags.is_some_and(|flags| flags.append);
    if !grows && sticky::keeps(&folder.meta, &entry.meta, subject) {
        return Err(Kept::Sticky);
    }
    Ok(decision)
}

/// DELETE on the entry or DELETE_CHILD on its folder permits it; where neither is spoken of, write
/// permission on the folder does, and the sticky bit counts (RFC 8881, section 6.2.1.3.2).
fn by_nfs4(entry: &Object, folder: &Object, subject: &Subject) -> Result<Permitted, Kept> {
    let settle = |object: &Object, bit| {
        let acl = object.nfs4.as_ref();
        acl.map_or(Settled::Open, |acl| acl.settle(&object.meta, subject, bit))
    };
    let (own, child) = (settle(entry, nfs4::DELETE), settle(folder, nfs4::DELETE_CHILD));
    match (own, child) {
        (Settled::Allowed(n), _) => return Ok(Permitted::Ace(AceOn::Entry, n)),
        (_, Settled::Allowed(n)) => return Ok(Permitted::Ace(AceOn::Folder, n)),
        _ => {}
    }
    let rules = subject.rules_over(folder.meta.uid, folder.meta.gid);
    if subject.capabilities.dac_override && rules {
        let by = Decider::Capability("CAP_DAC_OVERRIDE");
        return Ok(Permitted::Folder(Decision { allowed: true, by, perm: R | W | X }));
    }
    match (own, child) {
        (Settled::Denied(n), _) => Err(Kept::Ace(AceOn::Entry, n)),
        (_, Settled::Denied(n)) => Err(Kept::Ace(AceOn::Folder, n)),
        _ => by_mode(entry, folder, subject, W).map(Permitted::Folder),
    }
}

#[cfg(test)]
mod tests {
    use std::borrow::Cow;

    use super::*;
    use crate::kernel::entry::{EntryKind, Meta};
    use crate::kernel::nfs4::{Ace, AceType, Nfs4Acl, Who};
    use crate::kernel::subject::{IdMap, IdRange};

    fn object(kind: EntryKind, mode: u16, uid: u32, flags: &str) -> Object<'static> {
        let flags = Flags { immutable: flags.contains('i'), append: flags.contains('a') };
        Object::plain(Meta { flags: Some(flags), ..Meta::new(kind, mode, uid, uid) })
    }

    #[test]
    fn flags_come_before_permissions_or_after_them() {
        let (owner, root) = (Subject::new(7, 7, []), Subject::new(0, 0, []));
        let file = |mode, flags| object(EntryKind::File, mode, 7, flags);
        for (object, subject, want, expected) in [
            (file(0o644, ""), &owner, R | W, "ok"),
            (file(0o644, "i"), &owner, R, "ok"),
            (file(0o444, "i"), &owner, W, "immutable"),
            (file(0o644, "i"), &root, W, "immutable"),
            (file(0o444, "a"), &owner, W, "permission"),
            (file(0o644, "a"), &owner, W, "append"),
            (file(0o644, "a"), &root, W, "append"),
            // Into a folder that may only grow something can be put.
            (object(EntryKind::Folder, 0o755, 7, "a"), &owner, W | X, "ok"),
            (object(EntryKind::Folder, 0o755, 7, "i"), &root, W | X, "immutable"),
            (file(0o600, ""), &Subject::new(8, 8, []), R, "permission"),
        ] {
            let came = match may(&object, subject, want) {
                Ok(_) => "ok",
                Err(Denied::Immutable) => "immutable",
                Err(Denied::Barred) => "barred",
                Err(Denied::Permission(_)) => "permission",
                Err(Denied::Append) => "append",
            };
            assert_eq!(came, expected, "{:?} {subject} {want}", object.meta);
        }
    }

    /// Each case: the folder's mode, owner and flags; the entry's owner and flags; who asks; what
    /// comes of it.
    #[test]
    fn a_removal_is_refused_in_the_kernels_order() {
        let range = IdRange { inside: 0, outside: 100_000, count: 1000 };
        let ids = IdMap::both(vec![range]);
        let rootless = ids.shift(&Subject::new(0, 0, [])).unwrap();
        let on_mount = ids.on_idmapped_mount(&Subject::new(0, 0, []));
        let (mine, root) = (Subject::new(7, 7, []), Subject::new(0, 0, []));
        for (folder, entry, subject, expected) in [
            ((0o777, 0, ""), (9, ""), &mine, "ok"),
            ((0o755, 0, ""), (7, ""), &mine, "permission"),
            ((0o1777, 0, ""), (9, ""), &mine, "sticky"),
            ((0o1777, 0, ""), (7, ""), &mine, "ok"),
            ((0o1777, 0, ""), (9, ""), &root, "ok"),
            ((0o1777, 0, ""), (9, ""), &rootless, "sticky"),
            ((0o1777, 0, ""), (100_009, ""), &rootless, "ok"),
            ((0o777, 0, "i"), (7, "i"), &mine, "folder immutable"),
            ((0o755, 0, "a"), (7, "i"), &mine, "permission"),
            ((0o777, 0, "a"), (7, "i"), &mine, "folder append"),
            ((0o1777, 0, "a"), (9, ""), &mine, "folder append"),
            ((0o777, 0, ""), (7, "i"), &root, "flags i"),
            ((0o777, 0, ""), (7, "a"), &mine, "flags a"),
            ((0o777, 5000, "i"), (5000, ""), &on_mount, "entry barred"),
            ((0o777, 5000, "i"), (5, ""), &on_mount, "folder immutable"),
            ((0o777, 5000, ""), (5, ""), &on_mount, "folder barred"),
        ] {
            let above = object(EntryKind::Folder, folder.0, folder.1, folder.2);
            let target = object(EntryKind::File, 0o644, entry.0, entry.1);
            let came = match may_remove(&target, &above, subject) {
                Ok(_) => "ok".to_owned(),
                Err(Kept::EntryBarred) => "entry barred".to_owned(),
                Err(Kept::FolderImmutable) => "folder immutable".to_owned(),
                Err(Kept::FolderBarred) => "folder barred".to_owned(),
                Err(Kept::Permission(_)) => "permission".to_owned(),
                Err(Kept::Ace(of, n)) => format!("{of:?} {n}"),
                Err(Kept::Sticky) => "sticky".to_owned(),
                Err(Kept::FolderAppend) => "folder append".to_owned(),
                Err(Kept::EntryFlags(flags)) => format!("flags {}", flags.letters()),
            };
            assert_eq!(came, expected, "{folder:?} {entry:?} {subject}");
        }
    }

    #[test]
    fn nfsv4_acls_settle_a_removal_before_the_sticky_bit() {
        use AceType::{Allow, Deny};
        let acl = |entries: &[(AceType, u32, u32)]| {
            let ace = |&(kind, uid, mask): &(AceType, u32, u32)| Ace {
                kind,
                flags: 0,
                mask,
                who: Who::Uid(uid),
            };
            Some(Cow::Owned(Nfs4Acl::new(entries.iter().map(ace).collect())))
        };
        let rootless = IdMap::both(vec![IdRange { inside: 0, outside: 7, count: 1 }]);
        let rootless = rootless.shift(&Subject::new(0, 0, [])).unwrap();
        let mine = Subject::new(7, 7, []);
        let (delete, child, write) = (nfs4::DELETE, nfs4::DELETE_CHILD, nfs4::WRITE);
        for (own, above, subject, expected) in [
            (vec![(Allow, 7, delete)], vec![], &mine, Ok(Permitted::Ace(AceOn::Entry, 0))),
            (
                vec![(Deny, 7, delete)],
                vec![(Deny, 8, child), (Allow, 7, child)],
                &mine,
                Ok(Permitted::Ace(AceOn::Folder, 1)),
            ),
            (vec![(Deny, 7, delete)], vec![], &mine, Err(Kept::Ace(AceOn::Entry, 0))),
            (vec![], vec![(Deny, 7, child)], &mine, Err(Kept::Ace(AceOn::Folder, 0))),
            // Nothing is said of deleting: write permission, and then the sticky bit, whatever
            // namespace root is of.
            (vec![], vec![(Allow, 7, write)], &mine, Err(Kept::Sticky)),
            (vec![], vec![(Allow, 7, write)], &rootless, Err(Kept::Sticky)),
        ] {
            let entry = Object { nfs4: acl(&own), ..object(EntryKind::File, 0o644, 9, "") };
            let folder = Object { nfs4: acl(&above), ..object(EntryKind::Folder, 0o1777, 0, "") };
            assert_eq!(may_remove(&entry, &folder, subject), expected, "{own:?} {above:?}");
        }
    }
}
