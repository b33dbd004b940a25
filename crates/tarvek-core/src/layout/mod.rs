//! What is declared, in types that can't hold what the reader of the layout refused.

pub mod address;
pub mod adopted;
pub mod edit;
mod field;
pub mod folder;
pub mod host;
pub mod intake;
pub mod mapping;
pub mod mount;
pub mod parts;
pub mod rights;
pub mod service;
pub mod settings;
pub mod share;
pub mod site;
