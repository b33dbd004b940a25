//! The command line of `adopt`.

use std::ffi::OsString;
use std::path::PathBuf;

use clap::Args;

use crate::cli::Format;

#[derive(Debug, Args)]
pub(crate) struct AdoptArgs {
    /// A file, or a folder whose files are taken; HOST says whose it is. Without it a folder's name does, and a file is this
    /// machine's
    #[arg(value_name = "[HOST:]PATH", required_unless_present = "running")]
    pub(crate) paths: Vec<OsString>,
    /// Take what runs on this machine in mounts of its own: containers of any engine, without asking one
    #[arg(long)]
    pub(crate) running: bool,
    /// The layout to write; one that is there is extended, and what stands in it stays
    #[arg(short, long, value_name = "LAYOUT")]
    pub(crate) output: Option<PathBuf>,
    /// How to print what was read
    #[arg(long, value_enum, default_value = "text")]
    pub(crate) format: Format,
}
