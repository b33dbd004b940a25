//! The command line of `link`.

use std::ffi::OsString;

use clap::Args;
use tarvek_core::link::verdict::NameOperation;

use crate::cli::globals::Format;
use crate::cli::words::word;

#[derive(Debug, Args)]
pub(crate) struct LinkArgs {
    /// The file, as the viewpoint sees it; a folder is judged for what it holds, but the exit code
    /// speaks of the folder itself, which can't be linked
    #[arg(value_name = "FROM")]
    pub(crate) from: OsString,
    /// The folder that it is to have a name in, or the name itself
    #[arg(value_name = "TO")]
    pub(crate) to: OsString,
    /// Who does it: UID, UID:GID, UID:GID,GID… or the name of an account. Unless given: the account
    /// of a service or process, else whoever runs this
    #[arg(long = "as", value_name = "WHO")]
    pub(crate) subject: Option<String>,
    /// What has to be possible for exit code 0: link, rename, or both
    #[arg(long, value_delimiter = ',', value_parser = word::<NameOperation>(), value_name = "DEED", default_value = "link")]
    pub(crate) need: Vec<NameOperation>,
    /// The viewpoint: service:NAME, host:NAME, client:NAME or process:PID; this machine unless
    /// given
    #[arg(long = "from", value_name = "VIEW")]
    pub(crate) view: Option<String>,
    /// Really try, in a process that has become that account, under a hidden name that goes at
    /// once; to become somebody else needs root
    #[arg(long)]
    pub(crate) prove: bool,
    /// How to print the answer
    #[arg(long, value_enum, default_value = "text")]
    pub(crate) format: Format,
}
