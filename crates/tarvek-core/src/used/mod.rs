//! What services use: each root of a library and each folder of an intake, followed and read; the
//! areas that a layout names, and the names that something leads through.

pub mod areas;
pub(crate) mod mapped;
pub mod names_in_use;
pub mod used_path;
