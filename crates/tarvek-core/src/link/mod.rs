//! Whether a name can be given or moved: `link(2)` and `rename(2)`, as the kernel of whoever does it would answer.

pub mod below;
pub mod ends;
mod filesystem;
pub(crate) mod filing;
pub mod hard;
pub mod intake;
pub mod moved;
pub mod picture;
pub(crate) mod standing;
mod steps;
pub mod verdict;
