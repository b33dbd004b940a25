//! The command line of `trace`.

use std::ffi::OsString;

use clap::Args;

use crate::cli::Format;

#[derive(Debug, Args)]
pub(crate) struct TraceArgs {
    /// The path, as the viewpoint sees it
    #[arg(value_name = "PATH")]
    pub(crate) path: OsString,
    /// The viewpoint: service:NAME, host:NAME or client:NAME; this machine unless given
    #[arg(long, value_name = "VIEW")]
    pub(crate) from: Option<String>,
    /// How to print the answer
    #[arg(long, value_enum, default_value = "text")]
    pub(crate) format: Format,
}
