//! Doing what a review says, so that nothing is ever lost.
//!
//! What is taken away is moved into a holding folder on the same mount; what becomes a link is
//! linked there first, and exchanged for what the name had. Each step is written to a journal
//! before it is done. Whatever happens on the way, each name has what it had or what the review
//! says, and what it had is held until it is purged.

mod compare;
mod distinct;
mod entry;
mod journal;
mod keeper;
mod lease;
mod ledger;
mod operation;
mod purge;
mod quarantine;
mod row;
mod run;
mod step;
mod undo;

pub use step::{Operation, ReclaimReport, SiteKnowledge, Step, StepState};

pub use ledger::{Ledger, ReclaimedFromLibrary};
pub use run::{Mode, Request, reclaim};
