//! The join of what is declared and what was seen, as it is or as it would be.

pub mod indexed;
pub mod join;
pub mod layer;
mod offered;
pub mod run_as;
pub mod suppose;
