//! The oracle lane: what Tarvek predicts, put to the kernel and to standard tools. It needs root,
//! and fails without it.
//!
//! `TARVEK_SEED` repeats a run; `TARVEK_CASES` says how many random cases each area takes.

// Helpers are shared between the areas of this one binary; what a run did is said on its stderr.
#![allow(unreachable_pub, clippy::print_stderr, clippy::print_stdout)]

mod access;
mod adopt;
mod attacks;
mod board;
#[path = "../hostile.rs"]
mod characters;
mod emit;
mod hostile;
mod kernel;
mod link;
mod media;
mod names;
mod newfile;
mod nfs;
mod people;
mod process;
mod random;
mod reclaim;
mod remedy;
mod rounds;
#[path = "../support/rows.rs"]
mod rows;
mod smb;
mod stage;
mod survey;
mod view;
mod waste;
