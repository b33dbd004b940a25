//! `link/*`: what a download costs on its way.

pub mod category_mismatch;
pub mod copied_imports;
pub mod different_filesystem;
pub mod different_mount;
pub mod different_quota_tree;
pub mod partial_elsewhere;
pub mod path_disagreement;
pub mod source_protected;
pub mod target_unwritable;
pub mod unsupported;
