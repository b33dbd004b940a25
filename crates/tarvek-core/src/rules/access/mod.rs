//! `access/*`: what accounts may do with the files, where they need it and where they do not.

mod admission;
pub mod cannot_add;
pub mod cannot_remove;
pub mod entries_unreadable;
mod intakes;
pub mod more_than_needed;
pub mod moved_stays_private;
pub mod not_as_declared;
pub mod not_inherited;
pub mod orphaned_owner;
pub mod per_user_grants;
pub mod root_unreadable;
pub(crate) mod trees;
pub mod world_writable;
