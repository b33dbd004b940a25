//! Text in, core types out: the layout file, listings of hosts, and the small tables that hosts
//! keep.
//!
//! A reader never judges; it says what is written, or every [`mistake`] that keeps it from saying
//! so.

pub mod accounts;
pub mod acl;
pub mod brief;
mod check;
pub mod config;
pub mod emit;
pub mod escape;
mod forms;
pub mod fstab;
pub mod guard;
pub mod host_report;
pub mod ignored;
pub mod keyword;
pub mod layout;
mod lines;
pub mod listing;
pub mod mistake;
pub mod mountinfo;
pub mod process;
mod read_toml;
pub mod review;
mod structure;
