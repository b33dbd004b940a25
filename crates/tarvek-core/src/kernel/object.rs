//! An entry with all that decides about access to it, and what edits make of it.

use std::borrow::Cow;

use crate::kernel::acl::{Acl, AclEntry, Tag};
use crate::kernel::entry::{Flags, Meta};
use crate::kernel::nfs4::{Ace, FILE_INHERIT, FOLDER_INHERIT, Nfs4Acl};

/// What a kernel looks at when somebody asks for an entry.
#[derive(Clone, Debug)]
pub struct Object<'a> {
    /// Owner, mode and flags.
    pub meta: Meta,
    /// The access ACL, where there is one that says more than the mode.
    pub acl: Option<Cow<'a, Acl>>,
    /// A folder's default ACL.
    pub default_acl: Option<Cow<'a, Acl>>,
    /// The NFSv4 ACL; where there is one, it decides.
    pub nfs4: Option<Cow<'a, Nfs4Acl>>,
}

impl<'a> Object<'a> {
    /// With a mode, and no ACL.
    pub fn plain(meta: Meta) -> Self {
        Self { meta, acl: None, default_acl: None, nfs4: None }
    }

    /// Whether it is a folder.
    pub fn is_folder(&self) -> bool {
        self.meta.is_folder()
    }

    /// The whole access ACL: the three entries that the mode stands for, if there is no other
    /// (`acl(5)`).
    pub fn full_acl(&self) -> Acl {
        if let Some(acl) = &self.acl {
            return acl.clone().into_owned();
        }
        let bits = |shift: u16| (self.meta.mode >> shift & 7) as u8;
        let entry = |tag, shift| AclEntry { tag, perm: bits(shift) };
        Acl::new(vec![entry(Tag::UserObj, 6), entry(Tag::GroupObj, 3), entry(Tag::Other, 0)])
    }

    /// Puts an access ACL in place; the mode follows it (`acl(5)`, CORRESPONDENCE BETWEEN ACL
    /// ENTRIES AND FILE PERMISSION BITS).
    pub fn set_acl(&mut self, acl: Acl) {
        let perm = |tag| u16::from(acl.perm(tag).unwrap_or(0));
        let group = acl.perm(Tag::Mask).map_or_else(|| perm(Tag::GroupObj), u16::from);
        self.meta.mode =
            self.meta.mode & !0o777 | perm(Tag::UserObj) << 6 | group << 3 | perm(Tag::Other);
        self.acl = (acl.entries().len() > 3).then_some(Cow::Owned(acl));
    }

    /// Sets its permission bits as `chmod(2)` does: with an ACL, the group's bits are the mask.
    pub fn set_mode(&mut self, mode: u16) {
        self.meta.mode = mode;
        let bits = |shift: u16| (mode >> shift & 7) as u8;
        if let Some(acl) = &mut self.acl {
            let acl = acl.to_mut();
            acl.set(Tag::UserObj, bits(6));
            let group = if acl.perm(Tag::Mask).is_some() { Tag::Mask } else { Tag::GroupObj };
            acl.set(group, bits(3));
            acl.set(Tag::Other, bits(0));
        }
    }
}

/// A permission to be given, where `x` may be meant only for what can be searched or executed
/// already, as `X` in `setfacl(1)` and `chmod(1)`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Grant {
    /// r=4, w=2, x=1.
    pub perm: u8,
    /// `x` only on folders, and on files that somebody may execute.
    pub conditional_x: bool,
}

impl Grant {
    /// Exactly these.
    pub fn exactly(perm: u8) -> Self {
        Self { perm, conditional_x: false }
    }

    /// For a whole tree.
    pub fn below(perm: u8) -> Self {
        Self { perm, conditional_x: true }
    }

    fn on(self, object: &Object) -> u8 {
        let executable =
            object.is_folder() || object.full_acl().entries().iter().any(|e| e.perm & 1 != 0);
        if self.conditional_x && !executable { self.perm & !1 } else { self.perm }
    }

    /// As `setfacl(1)` writes it: `rX`.
    pub fn text(self) -> String {
        let x = if self.conditional_x { 'X' } else { 'x' };
        let letters = [(4, 'r'), (2, 'w'), (1, x)];
        letters.iter().filter(|(bit, _)| self.perm & bit != 0).map(|(_, letter)| letter).collect()
    }
}

/// What a change does to an entry.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Edit {
    /// Says what a user or group is granted, whatever it was before (`setfacl -m`).
    Entry {
        /// The user or group.
        tag: Tag,
        /// What it gets.
        grant: Grant,
        /// A mask to be set with it; without one it is worked out again from all entries, as
        /// `setfacl(1)` does.
        mask: Option<u8>,
        /// Whether a folder's default ACL gets the same.
        inherit: bool,
    },
    /// Says what a user or group is granted of what will be made in a folder (`setfacl -m d:…`).
    Inherited { tag: Tag, grant: Grant },
    /// Puts an entry in front of an NFSv4 ACL (`nfs4_setfacl -a`).
    Ace {
        /// The entry, with its inheritance.
        entry: Ace,
    },
    /// Adds permission bits for one class (`chmod u+rX`): 6 for the owner, 3 for the group, 0 for
    /// others.
    Class {
        /// How far the class's bits are shifted.
        shift: u16,
        /// What it gets.
        grant: Grant,
    },
    /// Takes bits of the mode away (`chmod -t`).
    Without(u16),
    /// Takes writing from others, but in sticky folders (`chmod o-w`).
    NotByOthers,
    /// Clears the immutable and append-only flags (`chattr -ia`).
    NoFlags,
}

impl Edit {
    /// Makes the change on an entry.
    pub fn apply(&self, object: &mut Object) {
        match self {
            Self::Entry { tag, grant, mask, inherit } => {
                let perm = grant.on(object);
                let mut acl = object.full_acl();
                acl.modify(*tag, perm, *mask);
                if *inherit && object.is_folder() {
                    let mut default = match &object.default_acl {
                        Some(default) => default.clone().into_owned(),
                        None => base_of(&object.full_acl()),
                    };
                    default.modify(*tag, perm, *mask);
                    object.default_acl = Some(Cow::Owned(default));
                }
                object.set_acl(acl);
            }
            Self::Inherited { tag, grant } => {
                let perm = grant.on(object);
                let default = object.default_acl.as_ref().map(|acl| acl.clone().into_owned());
                let mut default = default.unwrap_or_else(|| base_of(&object.full_acl()));
                default.modify(*tag, perm, None);
                object.default_acl = Some(Cow::Owned(default));
            }
            Self::Ace { entry } => {
                let mut entry = entry.clone();
                if !object.is_folder() {
                    entry.flags &= !(FILE_INHERIT | FOLDER_INHERIT);
                }
                if let Some(acl) = &object.nfs4 {
                    object.nfs4 = Some(Cow::Owned(acl.with_first(entry)));
                }
            }
            Self::Class { shift, grant } => {
                object.set_mode(object.meta.mode | u16::from(grant.on(object)) << shift);
            }
            Self::Without(bits) => object.meta.mode &= !bits,
            Self::NotByOthers => {
                let is_sticky = object.is_folder() && object.meta.mode & 0o1000 != 0;
                if !is_sticky {
                    object.set_mode(object.meta.mode & !0o002);
                }
            }
            Self::NoFlags => object.meta.flags = object.meta.flags.map(|_| Flags::default()),
        }
    }
}

/// What a new default ACL starts from (`setfacl(1)`): the access ACL's three entries.
fn base_of(acl: &Acl) -> Acl {
    let of = |tag| acl.entries().iter().copied().find(|entry| entry.tag == tag);
    Acl::new([Tag::UserObj, Tag::GroupObj, Tag::Other].into_iter().filter_map(of).collect())
}
