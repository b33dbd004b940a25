//! The entries of a host as they were seen, or as they would be after changes that have not been made.

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
