//! The command line of `compare`.

use std::path::PathBuf;

use clap::Args;

use crate::cli::globals::Format;

#[derive(Debug, Args)]
pub(crate) struct CompareArgs {
    /// The earlier survey or listing
    #[arg(value_name = "OLD")]
    pub(crate) old: PathBuf,
    /// The later one
    #[arg(value_name = "NEW")]
    pub(crate) new: PathBuf,
    /// How to print the answer
    #[arg(long, value_enum, default_value = "text")]
    pub(crate) format: Format,
}
