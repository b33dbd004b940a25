//! The kernel's check of one request on the permissions of one entry (`path_resolution(7)`,
//! `acl(5)`).

use crate::kernel::acl::{Acl, AclEntry, Tag, perm_text};
use crate::kernel::entry::Meta;
use crate::kernel::nfs4::{self, Nfs4Acl, Settled};
use crate::kernel::object::Object;
use crate::kernel::subject::{Subject, Token};

/// Read permission.
pub const R: u8 = 4;

/// Write permission.
pub const W: u8 = 2;

/// Execute or search permission.
pub const X: u8 = 1;

/// What decided on one object.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Decider {
    Capability(&'static str),
    /// The owner's bits.
    Owner,
    /// An ACL entry for this user.
    NamedUser(u32),
    /// A group's bits or ACL entry, for membership in this group.
    Group(u32),
    /// The bits of everyone else.
    Other,
    /// No x bit is set at all, which even root needs to execute a file.
    NoExecuteBit,
    /// An entry of the NFSv4 ACL, by its place in it.
    Ace(usize),
    /// No entry of the NFSv4 ACL allows all of it.
    NoAce,
}

/// The outcome on one object.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Decision {
    /// Whether all that was asked is granted.
    pub allowed: bool,
    /// What decided.
    pub by: Decider,
    /// The permission that the deciding entry has, mask applied.
    pub perm: u8,
}

/// The kernel's check of `want` (bits [`R`], [`W`], [`X`]) on one object: the class that matches
/// first decides alone; among matching group entries of an ACL one must grant everything; an NFSv4
/// ACL settles bit by bit; capabilities come last, where they hold.
pub fn decide(object: &Object, subject: &Subject, want: u8) -> Decision {
    let meta = &object.meta;
    let plain = match &object.nfs4 {
        Some(acl) => by_nfs4(acl, meta, subject, nfs4_bits(want), want),
        None => match without_capabilities(object, subject, want) {
            // What is read, written or made in a folder the server checks as well; passing through
            // it leaves to the kernel.
            plain if plain.allowed && subject.token != Token::default() => {
                let asked = want & (R | W);
                Decision { allowed: granted_together(object, subject) & asked == asked, ..plain }
            }
            plain => plain,
        },
    };
    if plain.allowed || !subject.rules_over(meta.uid, meta.gid) {
        return plain;
    }
    let caps = subject.capabilities;
    let by = |name| Decision { allowed: true, by: Decider::Capability(name), perm: want };
    let folder = object.is_folder();
    if caps.dac_read_search && (want == R || folder && want & W == 0) {
        return by("CAP_DAC_READ_SEARCH");
    }
    if caps.dac_override {
        if folder || want & X == 0 || meta.mode & 0o111 != 0 {
            return by("CAP_DAC_OVERRIDE");
        }
        return Decision { allowed: false, by: Decider::NoExecuteBit, perm: R | W };
    }
    plain
}

fn without_capabilities(object: &Object, subject: &Subject, want: u8) -> Decision {
    let meta = &object.meta;
    let class = |shift: u16| ((meta.mode >> shift) & 7) as u8;
    let outcome = |by, perm: u8| Decision { allowed: perm & want == want, by, perm };
    if subject.uid == meta.uid {
        return outcome(Decider::Owner, class(6));
    }
    // With an ACL the mode's group bits are its mask, and where they are all zero Linux never looks
    // at the ACL (fs/namei.c, acl_permission_check): members of the owning group get nothing, all
    // others the other bits.
    if let Some(acl) = object.acl.as_deref().filter(|_| class(3) != 0) {
        return by_acl(acl, meta, subject, want);
    }
    if subject.is_in(meta.gid) {
        return outcome(Decider::Group(meta.gid), class(3));
    }
    outcome(Decider::Other, class(0))
}

/// What somebody is granted by all entries that speak of them together, as an SMB server counts it
/// by the SIDs of their token.
pub(crate) fn granted_together(object: &Object, subject: &Subject) -> u8 {
    let acl = object.full_acl();
    let mask = acl.mask();
    let token = subject.token;
    let member = |gid| subject.is_in(gid) && token.without_group != Some(gid);
    let grants = |entry: &AclEntry| match entry.tag {
        Tag::UserObj if subject.uid == object.meta.uid => entry.perm,
        Tag::User(uid) if subject.uid == uid => entry.perm & mask,
        Tag::GroupObj if member(object.meta.gid) => entry.perm & mask,
        Tag::Group(gid) if member(gid) => entry.perm & mask,
        Tag::Other if !token.without_everyone => entry.perm,
        _ => 0,
    };
    acl.entries().iter().fold(0, |all, entry| all | grants(entry))
}

/// The bits of an NFSv4 ACL that a request needs (RFC 8881, section 6.2.1.3.2).
fn nfs4_bits(want: u8) -> u32 {
    [(R, nfs4::READ), (W, nfs4::WRITE), (X, nfs4::EXECUTE)]
        .into_iter()
        .filter(|(bit, _)| want & bit != 0)
        .fold(0, |all, (_, bit)| all | bit)
}

fn by_nfs4(acl: &Nfs4Acl, meta: &Meta, subject: &Subject, bits: u32, want: u8) -> Decision {
    match acl.settle(meta, subject, bits) {
        Settled::Allowed(n) => Decision { allowed: true, by: Decider::Ace(n), perm: want },
        Settled::Denied(n) => Decision { allowed: false, by: Decider::Ace(n), perm: 0 },
        Settled::Open => Decision { allowed: false, by: Decider::NoAce, perm: 0 },
    }
}

fn by_acl(acl: &Acl, meta: &Meta, subject: &Subject, want: u8) -> Decision {
    let mask = acl.mask();
    let mut denied_group = None;
    for entry in acl.entries() {
        let (by, perm) = match entry.tag {
            Tag::User(uid) if uid == subject.uid => (Decider::NamedUser(uid), entry.perm & mask),
            Tag::GroupObj if subject.is_in(meta.gid) => {
                (Decider::Group(meta.gid), entry.perm & mask)
            }
            Tag::Group(gid) if subject.is_in(gid) => (Decider::Group(gid), entry.perm & mask),
            _ => continue,
        };
        let decision = Decision { allowed: perm & want == want, by, perm };
        if decision.allowed || matches!(by, Decider::NamedUser(_)) {
            return decision;
        }
        denied_group.get_or_insert(decision);
    }
    denied_group.unwrap_or_else(|| {
        let perm = acl.perm(Tag::Other).unwrap_or(0);
        Decision { allowed: perm & want == want, by: Decider::Other, perm }
    })
}

impl Decision {
    /// The deciding entry in the notation of `acl(5)`, as `getfacl(1)` shows it, and what the mask
    /// leaves of it: `group::r-x via gid 2100`.
    pub fn entry(&self, object: &Object) -> String {
        let (meta, perm) = (&object.meta, perm_text(self.perm));
        let acl = object.acl.as_deref();
        // What the entry has, and what the mask cuts it to.
        let masked = |tag: Tag, entry: &str, via: &str| {
            let whole = acl.and_then(|acl| acl.perm(tag)).unwrap_or(self.perm);
            let cut = match acl.and_then(|acl| acl.perm(Tag::Mask)) {
                Some(mask) if whole & !mask != 0 => {
                    format!(", which the mask {} cuts to {perm}", perm_text(mask))
                }
                _ => String::new(),
            };
            format!("{entry}{}{via}{cut}", perm_text(whole))
        };
        // Where it is empty, Linux does not look at the entries that it would cut.
        let empty = acl.is_some_and(|acl| acl.perm(Tag::Mask) == Some(0));
        let skipped = if empty { ", since the mask --- leaves all other entries out" } else { "" };
        match self.by {
            Decider::Capability(name) => name.to_owned(),
            Decider::Owner => format!("user::{perm} as the owner, uid {}", meta.uid),
            Decider::NamedUser(uid) => masked(Tag::User(uid), &format!("user:{uid}:"), ""),
            Decider::Group(gid) if gid == meta.gid => {
                masked(Tag::GroupObj, "group::", &format!(" via gid {gid}"))
            }
            Decider::Group(gid) => {
                masked(Tag::Group(gid), &format!("group:{gid}:"), &format!(" via gid {gid}"))
            }
            Decider::Other => format!("other::{perm}{skipped}"),
            Decider::NoExecuteBit => "no execute bit is set".to_owned(),
            Decider::Ace(n) => {
                let entry = object.nfs4.as_ref().and_then(|acl| acl.entries().get(n));
                entry.map(ToString::to_string).unwrap_or_default()
            }
            Decider::NoAce => "no entry of the NFSv4 ACL".to_owned(),
        }
    }
}

#[cfg(test)]
mod tests {
    #[test]
    fn an_entry_is_told_as_it_is_written_and_with_what_the_mask_leaves() {
        let told = |mask: u8, subject: &Subject, want: u8| {
            let mut object = Object::plain(Meta::new(EntryKind::File, 0o640, 1, 2));
            let entry = |tag, perm| AclEntry { tag, perm };
            object.set_acl(Acl::new(vec![
                entry(Tag::UserObj, 6),
                entry(Tag::User(840), 6),
                entry(Tag::GroupObj, 4),
                entry(Tag::Group(2100), 5),
                entry(Tag::Mask, mask),
                entry(Tag::Other, 0),
            ]));
            decide(&object, subject, want).entry(&object)
        };
        let lantern = Subject::new(840, 840, []);
        assert_eq!(told(7, &lantern, W), "user:840:rw-");
        assert_eq!(told(4, &lantern, W), "user:840:rw-, which the mask r-- cuts to r--");
        let member = Subject::new(7, 7, [2100]);
        let cut = "group:2100:r-x via gid 2100, which the mask --x cuts to --x";
        assert_eq!(told(1, &member, R), cut);
        let skipped = "other::---, since the mask --- leaves all other entries out";
        assert_eq!(told(0, &lantern, R), skipped);
    }

    use std::borrow::Cow;

    use super::*;
    use crate::kernel::entry::EntryKind;
    use crate::kernel::subject::Capabilities;

    /// The greatest of `rwx` that is granted bit by bit, and what decides on reading.
    fn summary(object: &Object, subject: &Subject) -> String {
        let granted = [R, W, X].into_iter().filter(|want| decide(object, subject, *want).allowed);
        format!("{} {:?}", perm_text(granted.sum()), decide(object, subject, R).by)
    }

    #[test]
    fn the_class_that_matches_first_decides_alone() {
        let file = |mode| Object::plain(Meta::new(EntryKind::File, mode, 840, 2100));
        let folder = |mode| Object::plain(Meta::new(EntryKind::Folder, mode, 840, 2100));
        let with = |mode, named: &[(Tag, u8)]| {
            let entries = named.iter().map(|&(tag, perm)| AclEntry { tag, perm }).collect();
            Object { acl: Some(Cow::Owned(Acl::new(entries))), ..file(mode) }
        };
        let base = [(Tag::UserObj, 6), (Tag::GroupObj, 4), (Tag::Other, 0)];
        let acl = |mode, more: &[(Tag, u8)]| with(mode, &[&base, more].concat());
        let owner = Subject::new(840, 840, []);
        let member = Subject::new(7, 7, [2100]);
        let other = Subject::new(7, 7, []);
        let root = Subject::new(0, 0, []);
        let bare_root = Subject { capabilities: Capabilities::default(), ..root.clone() };
        for (object, subject, expected) in [
            // The owner is not helped by what others may.
            (file(0o077), &owner, "--- Owner"),
            (file(0o707), &member, "--- Group(2100)"),
            (file(0o604), &other, "r-- Other"),
            (file(0o640), &other, "--- Other"),
            (file(0o600), &root, "rw- Capability(\"CAP_DAC_READ_SEARCH\")"),
            (file(0o700), &root, "rwx Capability(\"CAP_DAC_READ_SEARCH\")"),
            (folder(0o000), &root, "rwx Capability(\"CAP_DAC_READ_SEARCH\")"),
            (file(0o600), &bare_root, "--- Other"),
            // The mask bounds all but the owner and others.
            (acl(0o640, &[(Tag::User(7), 7), (Tag::Mask, 4)]), &other, "r-- NamedUser(7)"),
            (acl(0o670, &[(Tag::User(7), 0), (Tag::Mask, 7)]), &member, "--- NamedUser(7)"),
            // Of several groups one has to grant all of it; and who is in one of them is no other.
            (acl(0o670, &[(Tag::Group(7), 2), (Tag::Mask, 7)]), &member, "rw- Group(2100)"),
            (acl(0o670, &[(Tag::Group(7), 2), (Tag::Mask, 7)]), &other, "-w- Group(7)"),
            // With an empty mask the kernel never looks at the ACL.
            (acl(0o604, &[(Tag::User(7), 0), (Tag::Mask, 0)]), &other, "r-- Other"),
        ] {
            assert_eq!(summary(&object, subject), expected, "{object:?} for {subject}");
        }
    }
}
