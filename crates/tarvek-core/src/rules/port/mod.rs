//! `port/*`: what services publish.

pub mod in_use;
pub mod taken_twice;
