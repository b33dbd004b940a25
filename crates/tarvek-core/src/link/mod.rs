//! Whether a name can be given or moved: `link(2)` and `rename(2)`, as the kernel of whoever does
//! it would answer.

pub mod below;
mod filesystem;
pub(crate) mod filing;
pub mod hard;
pub mod intake;
pub mod link_paths;
pub(crate) mod mount_placement;
pub mod moved;
pub mod picture;
mod steps;
pub mod verdict;
