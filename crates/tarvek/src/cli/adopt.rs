//! The command line of `adopt`.

use std::ffi::OsString;
use std::path::PathBuf;

use clap::Args;

use crate::cli::globals::Format;

#[derive(Debug, Args)]
pub(crate) struct AdoptArgs {
    /// A file, or a folder whose files are taken; HOST says whose it is. Without it a folder's name
    /// does, and a file is this machine's
    #[arg(value_name = "[HOST:]PATH", required_unless_present = "running")]
    pub(crate) paths: Vec<OsString>,
    /// Take what runs on this machine in mounts of its own: containers of any engine, without
    /// asking one
    #[arg(long)]
    pub(crate) running: bool,
    /// Follow includes and files of variables into this folder as well; else they are followed only
    /// below what is named
    #[arg(long, value_name = "DIR")]
    pub(crate) follow: Vec<PathBuf>,
    /// Fill variables of Compose files from this environment too, but for those that are named like
    /// secrets; what has such a value stays out of the layout
    #[arg(long)]
    pub(crate) environment: bool,
    /// The layout to write; one that is there is extended, and what stands in it stays
    #[arg(short, long, value_name = "LAYOUT")]
    pub(crate) output: Option<PathBuf>,
    /// How to print what was read
    #[arg(long, value_enum, default_value = "text")]
    pub(crate) format: Format,
}
