//! Doing what a review says, so that nothing is ever lost.
//!
//! What is taken away is moved into a holding folder on the same mount; what becomes a link is linked there first, and its name is
//! exchanged for the new one. Each step is written to a journal before it is done. Whatever happens on the way, each name has what it
//! had or what the review says, and what it had is held until it is purged.

mod act;
mod compare;
mod held;
mod journal;
mod ledger;
mod purge;
mod run;
mod undo;

pub use act::Readers;
pub use ledger::{Ledger, Taken};
pub use run::{Mode, reclaim};

use tarvek_core::words::path::AbsPath;

/// How far a step is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum State {
    Planned,
    Done,
    Refused,
    Undone,
}

impl State {
    /// As it is written.
    pub fn word(self) -> &'static str {
        match self {
            Self::Planned => "planned",
            Self::Done => "done",
            Self::Refused => "refused",
            Self::Undone => "undone",
        }
    }
}

/// What a step does.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Deed {
    Drop,
    Link,
    Purge,
    /// Its group is not to be shown again.
    Ignore,
}

impl Deed {
    /// As it is written.
    pub fn word(self) -> &'static str {
        match self {
            Self::Drop => "drop",
            Self::Link => "link",
            Self::Purge => "purge",
            Self::Ignore => "ignore",
        }
    }
}

/// One step, and what came of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Step {
    pub path: Vec<u8>,
    pub deed: Deed,
    /// Bytes that come back by it, at once or once it is purged.
    pub frees: u64,
    pub state: State,
    /// Whether it was done by an earlier run.
    pub before: bool,
    /// Why not, or what else there is to say.
    pub why: Option<String>,
}

/// What came of a review.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Report {
    pub steps: Vec<Step>,
    /// Bytes that came back.
    pub freed: u64,
    /// Bytes that are held now.
    pub held: u64,
    /// The holding folders.
    pub folders: Vec<AbsPath>,
    /// Whether it was broken off.
    pub stopped: bool,
}

impl Report {
    /// Refuses to remember a group.
    pub fn refuse_ignore(&mut self, path: &[u8], why: &str) {
        self.refuse(path, Deed::Ignore, why);
    }

    fn refuse(&mut self, path: &[u8], deed: Deed, why: impl Into<String>) {
        let (path, why) = (path.to_vec(), Some(why.into()));
        self.steps.push(Step { path, deed, frees: 0, state: State::Refused, before: false, why });
    }
}
