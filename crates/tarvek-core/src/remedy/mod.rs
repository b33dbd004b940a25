//! The smallest change that gives what is needed.

pub mod effects;
pub mod one_mapping;
pub mod plan;
pub mod wish;
