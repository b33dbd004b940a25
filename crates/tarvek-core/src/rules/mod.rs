//! The rules: a family is a folder, a rule is a file with its text, what makes it fire, and its
//! tests.

pub mod access;
pub mod dataset;
pub mod identity;
pub mod label;
pub mod layout;
pub mod library;
pub mod link;
pub mod mount;
pub mod name;
pub mod path;
pub mod port;
#[cfg(test)]
mod promise;
#[cfg(test)]
mod promises;
pub mod registry;
pub mod share;
pub mod space;
pub mod survey;
