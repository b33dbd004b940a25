//! The command line of `demo`.

use std::path::PathBuf;

use clap::Args;

#[derive(Debug, Args)]
pub(crate) struct DemoArgs {
    /// The folder to write; made if it is not there
    #[arg(value_name = "DIR", default_value = "kestrel-hollow")]
    pub(crate) folder: PathBuf,
}
