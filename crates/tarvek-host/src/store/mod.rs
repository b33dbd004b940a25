//! Surveys: one SQLite file per host. `schema.sql` is the schema, `docs/survey.md` describes it.
//!
//! Everything is written in transactions: a process that is killed leaves what was there before, or
//! a survey that says that it is partial.

mod classes;
mod companions;
pub(crate) mod connection;
pub(crate) mod contents;
mod digests;
mod entries;
pub(crate) mod file;
mod headers;
mod in_part;
mod load;
mod rows;
mod save;
mod shape;
mod stored;

pub use connection::{StoreError, is_survey};

pub use contents::{Added, open_seen};
pub use digests::add_digests;
pub use headers::add_media;
pub use in_part::LazySurvey;
pub use load::load;
pub use save::{Saved, Unsaved, save, survey};
