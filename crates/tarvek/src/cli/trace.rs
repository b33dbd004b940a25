//! The command line of `trace`.

use std::ffi::OsString;

use clap::Args;

use crate::cli::globals::Format;

#[derive(Debug, Args)]
pub(crate) struct TraceArgs {
    /// The path, as the viewpoint sees it; from hosts also smb://SERVER/SHARE/…, nfs://SERVER/… or
    /// file:///…
    #[arg(value_name = "PATH", required_unless_present = "to")]
    pub(crate) path: Option<OsString>,
    /// The viewpoint: service:NAME, host:NAME, client:NAME or process:PID; this machine unless
    /// given
    #[arg(long, value_name = "VIEW")]
    pub(crate) from: Option<String>,
    /// The other way round: every name under which services, hosts and clients know a folder
    #[arg(long, value_name = "HOST:PATH", conflicts_with_all = ["path", "from"])]
    pub(crate) to: Option<OsString>,
    /// How to print the answer
    #[arg(long, value_enum, default_value = "text")]
    pub(crate) format: Format,
}
