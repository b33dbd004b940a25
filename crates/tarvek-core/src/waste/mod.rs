//! What takes space for nothing: copies, copies that should be links, versions, leftovers and
//! hollow folders; what to do about each, and what would really come back.
//!
//! It goes in two steps, because contents and headers are costly to read: [`plan`](plan::plan) says
//! of which files they are needed, and [`found`] judges with what was read of them.

pub mod back;
pub mod copies;
pub mod found;
pub mod group;
pub mod inventory;
pub mod leftovers;
pub mod pattern;
pub mod plan;
pub mod readers;
pub mod versions;
