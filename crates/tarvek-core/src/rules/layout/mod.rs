//! `layout/*`: the shape of the site.

pub mod config_in_media;
pub mod differs_from_host;
pub mod no_backup;
pub mod no_library;
pub mod not_applied;
pub mod on_system_disk;
pub mod outside_share;
pub mod scattered_kinds;
pub mod unknown_reference;
