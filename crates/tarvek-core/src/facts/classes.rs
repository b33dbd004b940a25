//! What many entries have alike stands once: a million files have a few hundred classes.

use std::collections::HashMap;

use crate::kernel::acl::Acl;
use crate::kernel::entry::{EntryKind, Flags, Meta, Project};
use crate::kernel::nfs4::Nfs4Acl;

/// What few entries have, and many of those alike.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
pub struct Extras {
    /// The access ACL.
    pub acl: Option<Acl>,
    /// A folder's default ACL.
    pub default_acl: Option<Acl>,
    /// The NFSv4 ACL (RFC 8881); where there is one, it decides instead of mode and POSIX ACL.
    pub nfs4_acl: Option<Nfs4Acl>,
    /// The SELinux label.
    pub label: Option<Vec<u8>>,
    /// The project, where somebody could ask for it.
    pub project: Option<Project>,
}

/// What decides about access to an entry, and what many entries have alike.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Class {
    pub kind: EntryKind,
    /// The twelve permission bits.
    pub mode: u16,
    pub uid: u32,
    pub gid: u32,
    /// `st_dev`, where known: `major << 32 | minor`.
    pub device: Option<u64>,
    pub flags: Option<Flags>,
    /// Index of its [`Extras`], [`NONE`] where there is nothing.
    pub extras: u32,
}

/// What stands for no number.
pub const NONE: u32 = u32::MAX;

impl Class {
    /// Of what `stat(2)` said, with the number of the extras.
    pub fn of(meta: &Meta, extras: u32) -> Self {
        let Meta { kind, mode, uid, gid, device, flags, .. } = *meta;
        Self { kind, mode, uid, gid, device, flags, extras }
    }
}

/// The classes of a tree, each under a number of its own.
#[derive(Clone, Debug, Default)]
pub struct Classes {
    classes: Vec<Class>,
    extras: Vec<Extras>,
}

impl Classes {
    /// All of them, in the order of their numbers.
    pub fn classes(&self) -> &[Class] {
        &self.classes
    }

    /// All extras, in the order of their numbers.
    pub fn extras(&self) -> &[Extras] {
        &self.extras
    }

    /// The class of a number.
    pub fn class(&self, number: u32) -> &Class {
        &self.classes[number as usize]
    }

    /// What a class has besides.
    pub fn extras_of(&self, number: u32) -> Option<&Extras> {
        self.extras.get(self.class(number).extras as usize)
    }

    /// Adds a class as the next number, as it comes; `None` if it has extras that are not there.
    pub fn push(&mut self, class: Class) -> Option<()> {
        let known = class.extras == NONE || (class.extras as usize) < self.extras.len();
        known.then(|| self.classes.push(class))
    }

    /// Adds extras as the next number, as they come.
    pub fn push_extras(&mut self, extras: Extras) {
        self.extras.push(extras);
    }

    /// Gives the names in NFSv4 ACLs the numbers that they have on this host; the flag says that a
    /// group is meant.
    pub fn resolve_names(&mut self, number: impl Fn(&str, bool) -> Option<u32>) {
        for acl in self.extras.iter_mut().filter_map(|extras| extras.nfs4_acl.as_mut()) {
            acl.resolve(&number);
        }
    }
}

/// Classes that are still being met, each found again by what it says.
#[derive(Clone, Debug, Default)]
pub struct Known {
    pub all: Classes,
    classes: HashMap<Class, u32>,
    extras: HashMap<Extras, u32>,
    /// The class that was asked for last.
    last: u32,
}

impl From<Classes> for Known {
    fn from(all: Classes) -> Self {
        let classes = all.classes.iter().copied().zip(0..).collect();
        let extras = all.extras.iter().cloned().zip(0..).collect();
        Self { all, classes, extras, last: 0 }
    }
}

impl Known {
    /// The number of a class.
    ///
    /// # Panics
    /// Past 4 294 967 294 of them.
    pub fn class(&mut self, class: Class) -> u32 {
        let all = &mut self.all.classes;
        // The last one is the likeliest: a folder's entries mostly share it.
        if all.get(self.last as usize) != Some(&class) {
            self.last = *self.classes.entry(class).or_insert_with(|| {
                all.push(class);
                number(all.len() - 1)
            });
        }
        self.last
    }

    /// The number of ACLs, label and project; [`NONE`] of nothing.
    ///
    /// # Panics
    /// As [`Known::class`].
    pub fn extras(&mut self, extras: &Extras) -> u32 {
        if *extras == Extras::default() {
            return NONE;
        }
        if let Some(number) = self.extras.get(extras) {
            return *number;
        }
        let next = number(self.all.extras.len());
        self.all.extras.push(extras.clone());
        self.extras.insert(extras.clone(), next);
        next
    }
}

/// A number of so many, where [`NONE`] stands for none.
pub(crate) fn number(count: usize) -> u32 {
    u32::try_from(count).ok().filter(|n| *n != NONE).expect("there are less than 2^32 of them")
}
