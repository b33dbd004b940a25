//! The smallest change that gives what is needed.

pub mod effects;
pub mod plan;
pub mod wish;
