//! The command line of `access`, and of the process that it starts.

use std::ffi::OsString;

use clap::Args;
use tarvek_core::judge::verdict::Need;
use tarvek_core::link::verdict::NameOperation;

use crate::cli::globals::Format;
use crate::cli::words::word;

#[derive(Debug, Args)]
pub(crate) struct AccessArgs {
    /// The path, as the viewpoint sees it
    #[arg(value_name = "PATH")]
    pub(crate) path: OsString,
    /// Who: UID, UID:GID, UID:GID,GID…, or an account of the host; whoever runs this unless given
    #[arg(long = "as", value_name = "WHO")]
    pub(crate) subject: Option<String>,
    /// What is needed: read, write, enter, add, remove; the exit code then speaks of all of these.
    /// Without it everything that applies is shown, and the exit code speaks of reading
    #[arg(long, value_delimiter = ',', value_parser = word::<Need>(), value_name = "NEED")]
    pub(crate) need: Vec<Need>,
    /// The viewpoint: service:NAME, host:NAME or client:NAME; this machine unless given
    #[arg(long, value_name = "VIEW")]
    pub(crate) from: Option<String>,
    /// Everything below as well: how much can't be read, and what decides; the exit code speaks of
    /// that too
    #[arg(long)]
    pub(crate) below: bool,
    /// Everyone of the site: each account, service and client with what it may do there. With -v,
    /// the system's own accounts too
    #[arg(long, conflicts_with_all = ["subject", "below", "new_file", "prove"])]
    pub(crate) all: bool,
    /// What a new file and a new folder there will be like, and who can then use them
    #[arg(long, conflicts_with_all = ["below", "prove", "need"])]
    pub(crate) new_file: bool,
    /// With --new-file: the mode that the program asks for, in octal, for a folder with search
    /// added; 666 and 777 unless given
    #[arg(long, value_name = "MODE", requires = "new_file", value_parser = octal)]
    pub(crate) asks: Option<u16>,
    /// With --new-file: the umask of whoever makes it; that of the service, or 022, unless given
    #[arg(long, value_name = "UMASK", requires = "new_file", value_parser = octal)]
    pub(crate) umask: Option<u16>,
    /// Really try, in a process that has become that account; needs root, and leaves nothing behind
    #[arg(long)]
    pub(crate) prove: bool,
    /// How to print the answer
    #[arg(long, value_enum, default_value = "text")]
    pub(crate) format: Format,
}

/// Permission bits in octal.
fn octal(written: &str) -> Result<u16, String> {
    let mode = u16::from_str_radix(written, 8).ok().filter(|mode| *mode <= 0o777);
    mode.ok_or_else(|| "write up to three octal digits: 022, 644".to_owned())
}

/// What `--prove` starts in a process of its own.
#[derive(Debug, Args)]
pub(crate) struct AttemptArgs {
    /// The path
    #[arg(value_name = "PATH")]
    pub(crate) path: OsString,
    /// UID:GID,GID… to become; whoever this is unless given
    #[arg(long = "as", value_name = "WHO")]
    pub(crate) subject: Option<String>,
    /// In the view of this process
    #[arg(long, value_name = "PID")]
    pub(crate) process: Option<u32>,
    /// The folder in which the path is to get another name
    #[arg(long, value_name = "FOLDER", requires = "deed")]
    pub(crate) into: Option<OsString>,
    /// How it is to get it
    #[arg(long, value_delimiter = ',', value_parser = word::<NameOperation>(), value_name = "DEED")]
    pub(crate) deed: Vec<NameOperation>,
    /// What to try
    #[arg(long, value_delimiter = ',', value_parser = word::<Need>(), value_name = "NEED")]
    pub(crate) need: Vec<Need>,
}
