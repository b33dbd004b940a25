//! `mount/*`: what should be mounted, and what is.

pub mod not_mounted;
