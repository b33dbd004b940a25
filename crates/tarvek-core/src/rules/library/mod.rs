//! `library/*`: what a scan makes of a root.

pub mod nothing_found;
