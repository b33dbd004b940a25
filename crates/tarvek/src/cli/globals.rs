//! Options that several commands have.

use std::path::PathBuf;

use clap::{Args, ValueEnum};

/// Options of every command.
#[derive(Clone, Debug, Args)]
#[command(next_help_heading = "Options of every command")]
pub(crate) struct Globals {
    /// The layout; tarvek.toml here or in a folder above unless given
    #[arg(long, global = true, value_name = "FILE")]
    pub(crate) layout: Option<PathBuf>,
    /// What was seen of a host: a survey or listing; may be given for several hosts. Without it,
    /// files named HOST.survey or HOST.listing beside the layout are used
    #[arg(long, global = true, value_name = "FILE")]
    pub(crate) survey: Vec<PathBuf>,
    /// The host of the layout that is this machine, if it goes by another name
    #[arg(long, global = true, value_name = "NAME")]
    pub(crate) this_host: Option<String>,
    /// Whether to use colour
    #[arg(long, global = true, value_enum, value_name = "WHEN", default_value = "auto")]
    pub(crate) color: When,
    /// Say only what matters most
    #[arg(short, long, global = true, conflicts_with = "verbose")]
    pub(crate) quiet: bool,
    /// Say more
    #[arg(short, long, global = true)]
    pub(crate) verbose: bool,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum When {
    Auto,
    Always,
    Never,
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub(crate) enum Format {
    #[default]
    Text,
    Json,
}
