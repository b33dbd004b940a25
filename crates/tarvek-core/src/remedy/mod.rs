//! The smallest change that gives what is needed.

pub mod access_request;
pub(crate) mod apply_on_host;
pub mod effects;
pub mod offer;
pub mod one_mapping;
pub mod plan;
pub(crate) mod rights;
pub mod verified_fix;
