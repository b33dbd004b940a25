//! What services use: each root of a library and each folder of an intake, followed and read; and
//! the areas that a layout names.

pub mod areas;
pub mod used_path;
