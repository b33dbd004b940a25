//! The live machine: what this host is and what lies on it. Nothing here judges. The only files
//! that are ever written are surveys, and new files in a folder, where somebody named one.

mod attributes;
mod beneath;
pub mod content_fault;
pub mod contents;
pub mod files;
pub mod filesystem;
pub mod media;
mod mounts;
pub mod observe;
pub mod process;
mod project;
pub mod prove;
pub mod prove_link;
pub mod reclaim;
pub mod sink;
pub mod store;
mod system;
pub mod walk;
