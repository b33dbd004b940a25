//! Reading a tree as a view shows it.

pub mod kinds;
pub mod read;
