//! What a scan would make of the names that it finds.

pub mod filed;
pub mod key;
pub mod names_below;
pub mod numbers;
pub mod reading;
pub mod renames;
pub mod share_names;
mod tags;
pub mod titles;
mod tokens;
