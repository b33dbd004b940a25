//! POSIX access control lists (`acl(5)`).

use std::fmt;

/// Whom an entry speaks of.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Tag {
    /// The owner.
    UserObj,
    /// A named user.
    User(u32),
    /// The owning group.
    GroupObj,
    /// A named group.
    Group(u32),
    /// The most that named entries and the owning group get.
    Mask,
    /// Everyone else.
    Other,
}

/// One entry; `perm` holds r=4, w=2, x=1.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct AclEntry {
    /// Whom it speaks of.
    pub tag: Tag,
    /// What it grants.
    pub perm: u8,
}

/// An access or default ACL. Entries stand in the order of [`Tag`].
#[derive(Clone, Debug, PartialEq, Eq, Hash, Default)]
pub struct Acl {
    entries: Vec<AclEntry>,
}

impl Acl {
    /// From its entries, in any order.
    pub fn new(mut entries: Vec<AclEntry>) -> Self {
        entries.sort();
        Self { entries }
    }

    /// The entries in their order.
    pub fn entries(&self) -> &[AclEntry] {
        &self.entries
    }

    /// The permission of a tag, if it has an entry.
    pub fn perm(&self, tag: Tag) -> Option<u8> {
        self.entries.iter().find(|entry| entry.tag == tag).map(|entry| entry.perm)
    }

    /// Sets the permission of an entry that is there, or adds one.
    pub fn set(&mut self, tag: Tag, perm: u8) {
        match self.entries.iter_mut().find(|entry| entry.tag == tag) {
            Some(entry) => entry.perm = perm,
            None => {
                self.entries.push(AclEntry { tag, perm });
                self.entries.sort();
            }
        }
    }

    /// Sets an entry, or adds one, as `setfacl -m` does: the mask becomes the one that is given,
    /// else the union of all entries that it cuts.
    pub fn modify(&mut self, tag: Tag, perm: u8, mask: Option<u8>) {
        self.set(tag, perm);
        let named = |tag| matches!(tag, Tag::User(_) | Tag::Group(_));
        if !self.entries.iter().any(|entry| named(entry.tag) || entry.tag == Tag::Mask) {
            return;
        }
        let cut = |tag| named(tag) || tag == Tag::GroupObj;
        let union = self.entries.iter().filter(|e| cut(e.tag)).fold(0, |all, e| all | e.perm);
        self.set(Tag::Mask, mask.unwrap_or(union));
    }

    /// The mask; without one nothing is cut.
    pub fn mask(&self) -> u8 {
        self.perm(Tag::Mask).unwrap_or(7)
    }
}

impl fmt::Display for Acl {
    /// One line, entries separated by commas, with numbers: `user::rwx,user:840:r-x,…`
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (n, entry) in self.entries.iter().enumerate() {
            write!(f, "{}{entry}", if n == 0 { "" } else { "," })?;
        }
        Ok(())
    }
}

impl fmt::Display for AclEntry {
    /// As `getfacl -n` writes it: `user:840:r-x`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let perm = perm_text(self.perm);
        match self.tag {
            Tag::UserObj => write!(f, "user::{perm}"),
            Tag::User(uid) => write!(f, "user:{uid}:{perm}"),
            Tag::GroupObj => write!(f, "group::{perm}"),
            Tag::Group(gid) => write!(f, "group:{gid}:{perm}"),
            Tag::Mask => write!(f, "mask::{perm}"),
            Tag::Other => write!(f, "other::{perm}"),
        }
    }
}

/// `rwx`, `r-x`, …
pub fn perm_text(perm: u8) -> String {
    [(4, 'r'), (2, 'w'), (1, 'x')]
        .map(|(bit, c)| if perm & bit != 0 { c } else { '-' })
        .iter()
        .collect()
}
