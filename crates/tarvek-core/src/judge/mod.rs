//! Needs, judged along a route.

pub mod along;
pub mod everyone;
pub mod made;
pub mod verdict;
