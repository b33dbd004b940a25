//! What was seen of a host.

pub mod build;
pub mod classes;
pub mod compare;
pub mod configured;
pub mod host;
pub mod host_report;
pub mod media;
pub mod mounts;
pub mod tree;
