//! `name/*`: names that break on somebody's television.

mod below_root;
pub mod case_collision;
pub mod each;
pub mod not_share_safe;
pub mod not_utf8;
pub mod too_long;
pub mod unicode_twins;
pub mod unseen_characters;
