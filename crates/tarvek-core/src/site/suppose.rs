//! The entries of a host as they were seen, or as they would be after changes that have not been
//! made.

use std::collections::HashMap;

use crate::facts::tree::{NodeId, Tree};
use crate::kernel::entry::EntryKind;
use crate::kernel::object::{Edit, Object};
use crate::words::name::Name;

/// A change to entries of one host that has not been made.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Change {
    pub host: Name,
    /// The entry.
    pub at: NodeId,
    /// Whether everything below is changed as well.
    pub below: bool,
    /// What is done.
    pub edit: Edit,
}

/// The entries of one host: as they were seen, or after changes.
#[derive(Clone, Copy, Debug)]
pub struct Objects<'a> {
    /// What was seen.
    pub tree: &'a Tree,
    host: &'a Name,
    changes: &'a [Change],
}

impl<'a> Objects<'a> {
    pub(super) fn new(tree: &'a Tree, host: &'a Name, changes: &'a [Change]) -> Self {
        Self { tree, host, changes }
    }

    /// One of them.
    pub fn of(self, node: NodeId) -> Object<'a> {
        let mut object = self.tree.object(node);
        for change in self.changes.iter().filter(|change| change.host == *self.host) {
            if change.at == node || change.below && self.is_below(node, change.at) {
                // Symlinks have no rights of their own.
                if object.meta.kind != EntryKind::Symlink {
                    change.edit.apply(&mut object);
                }
            }
        }
        object
    }

    /// Tells which entries are alike, for whoever goes through many of them.
    pub fn alikes(self) -> Alikes<'a> {
        let own = self.changes.iter().filter(|change| change.host == *self.host).collect();
        Alikes { objects: self, changes: own, folder: None, inherited: 0 }
    }

    fn is_below(self, node: NodeId, top: NodeId) -> bool {
        let mut here = node;
        while here != Tree::ROOT {
            here = self.tree.parent(here);
            if here == top {
                return true;
            }
        }
        false
    }
}

/// What makes all that decides about access to two entries the same: their class as it was seen,
/// and the changes that are supposed for them.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct AccessClass {
    class: u32,
    changes: u64,
}

/// Entries of a host, told apart by what decides about access to them.
#[derive(Clone, Debug)]
pub struct Alikes<'a> {
    objects: Objects<'a>,
    /// The changes that concern the host.
    changes: Vec<&'a Change>,
    /// The folder that was asked about last, and the changes that all in it have.
    folder: Option<NodeId>,
    inherited: u64,
}

impl Alikes<'_> {
    /// How an entry is; `None` where there are too many changes to be told apart.
    pub fn of(&mut self, node: NodeId) -> Option<AccessClass> {
        let class = self.objects.tree.class_number(node);
        if self.changes.is_empty() {
            return Some(AccessClass { class, changes: 0 });
        }
        if self.changes.len() > u64::BITS as usize {
            return None;
        }
        let mask = |concerns: &dyn Fn(&Change) -> bool| {
            let bits = self.changes.iter().enumerate().filter(|(_, change)| concerns(change));
            bits.fold(0, |all, (n, _)| all | 1 << n)
        };
        let own = mask(&|change| change.at == node);
        if node == Tree::ROOT {
            return Some(AccessClass { class, changes: own });
        }
        let folder = self.objects.tree.parent(node);
        if self.folder != Some(folder) {
            let objects = self.objects;
            self.inherited = mask(&|change| {
                change.below && (folder == change.at || objects.is_below(folder, change.at))
            });
            self.folder = Some(folder);
        }
        Some(AccessClass { class, changes: own | self.inherited })
    }
}

/// What was found out of entries that are alike.
#[derive(Debug)]
pub struct AccessClassCache<'a, T> {
    alikes: Alikes<'a>,
    known: HashMap<AccessClass, T>,
    /// The one that was asked for last: a folder's entries mostly are alike.
    last: Option<(AccessClass, T)>,
}

impl<'a, T: Clone> AccessClassCache<'a, T> {
    /// Nothing is known yet of the entries of a host.
    pub fn new(objects: Objects<'a>) -> Self {
        Self { alikes: objects.alikes(), known: HashMap::new(), last: None }
    }

    /// What holds of an entry; it is found out once of each that is otherwise.
    pub fn of(&mut self, node: NodeId, find: impl Fn(&Object) -> T) -> T {
        let objects = self.alikes.objects;
        let Some(alike) = self.alikes.of(node) else { return find(&objects.of(node)) };
        if let Some((last, known)) = &self.last
            && *last == alike
        {
            return known.clone();
        }
        let known = self.known.entry(alike).or_insert_with(|| find(&objects.of(node))).clone();
        self.last = Some((alike, known.clone()));
        known
    }
}
