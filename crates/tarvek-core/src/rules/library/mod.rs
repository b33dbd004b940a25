//! `library/*`: what a scan makes of a root.

pub mod inside_intake;
pub mod nothing_found;
