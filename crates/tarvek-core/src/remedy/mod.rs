//! The smallest change that gives what is needed.

mod effects;
mod plan;
pub mod wish;
