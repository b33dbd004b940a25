//! The command lines of `waste` and `reclaim`.

use std::ffi::OsString;
use std::path::PathBuf;

use clap::{Args, ValueEnum};
use tarvek_core::waste::group::Waste;
use tarvek_core::words::text::size;

use crate::cli::globals::Format;
use crate::cli::words::word;

#[derive(Debug, Args)]
pub(crate) struct WasteArgs {
    /// Folders of this machine; without any, the libraries and intakes of the layout, or all that
    /// the given surveys hold
    #[arg(value_name = "DIR")]
    pub(crate) folders: Vec<OsString>,
    /// Write what is suggested into a file for review (CSV), which `reclaim` takes
    #[arg(long, value_name = "FILE")]
    pub(crate) review: Option<PathBuf>,
    /// Keep what was read in this file, so that no unchanged file is read twice
    #[arg(long, value_name = "FILE")]
    pub(crate) cache: Option<PathBuf>,
    /// Where ignored groups are kept; beside the layout unless given
    #[arg(long, value_name = "FILE")]
    pub(crate) ignored: Option<PathBuf>,
    /// Show ignored groups as well
    #[arg(long)]
    pub(crate) show_ignored: bool,
    /// Only this kind: copy, unlinked, version, leftover, hollow; may be given several times
    #[arg(long, value_name = "KIND", value_parser = word::<Waste>(), value_delimiter = ',')]
    pub(crate) kind: Vec<Waste>,
    /// Only what is in this library or intake
    #[arg(long, value_name = "NAME")]
    pub(crate) library: Vec<String>,
    /// Only groups with a file of at least this size, such as 100M
    #[arg(long, value_name = "SIZE", value_parser = at_least)]
    pub(crate) at_least: Option<u64>,
    /// Only groups with a file below this folder
    #[arg(long, value_name = "PATH")]
    pub(crate) below: Option<OsString>,
    /// How to print the answer
    #[arg(long, value_enum, default_value = "text")]
    pub(crate) format: TableFormat,
}

/// Ways to print a table.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum TableFormat {
    Text,
    Json,
    Csv,
}

#[derive(Debug, Args)]
pub(crate) struct ReclaimArgs {
    /// The review that `waste --review` wrote, with its decisions: keep, drop, link, ignore
    #[arg(value_name = "FILE", required_unless_present = "total")]
    pub(crate) review: Option<PathBuf>,
    /// Do it; without this the steps are only shown
    #[arg(long)]
    pub(crate) yes: bool,
    /// Put back what was taken away
    #[arg(long, conflicts_with_all = ["resume", "purge", "total"])]
    pub(crate) undo: bool,
    /// Finish what was broken off
    #[arg(long, conflicts_with_all = ["purge", "total"])]
    pub(crate) resume: bool,
    /// Delete what is held, if what was kept is still there; only this gives bytes back
    #[arg(long, conflicts_with = "total")]
    pub(crate) purge: bool,
    /// Make links also where somebody gains or loses rights by it; without this they are refused,
    /// with who that is
    #[arg(long, conflicts_with_all = ["undo", "purge", "total"])]
    pub(crate) accept_rights: bool,
    /// What was taken back so far, per library
    #[arg(long)]
    pub(crate) total: bool,
    /// Where ignored groups are kept; beside the layout unless given
    #[arg(long, value_name = "FILE")]
    pub(crate) ignored: Option<PathBuf>,
    /// How to print the answer
    #[arg(long, value_enum, default_value = "text")]
    pub(crate) format: Format,
}

fn at_least(written: &str) -> Result<u64, String> {
    size(written).ok_or_else(|| "write a number of bytes, or one with a unit: 700M, 2G".to_owned())
}
