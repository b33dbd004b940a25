//! Needs, judged access_check a route.

pub mod access_check;
pub mod everyone;
pub mod made;
pub mod verdict;
