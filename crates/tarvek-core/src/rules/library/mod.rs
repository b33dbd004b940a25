//! `library/*`: what a scan makes of a root.

pub mod inside_intake;
pub mod loose_files;
pub mod mixed_kinds;
pub mod nothing_found;
pub mod overlap;
pub mod same_title_twice;
pub mod too_deep;
pub mod too_high;
pub mod unrecognised_names;
