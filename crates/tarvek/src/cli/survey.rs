//! The command line of `survey`.

use std::ffi::OsString;
use std::path::PathBuf;

use clap::Args;

#[derive(Debug, Args)]
pub(crate) struct SurveyArgs {
    /// The folders to look at; those that the layout needs of this host unless given
    #[arg(value_name = "ROOT")]
    pub(crate) roots: Vec<OsString>,
    /// The survey file to write; one that is there is brought up to date
    #[arg(short, long, value_name = "FILE", required_unless_present = "collector")]
    pub(crate) output: Option<PathBuf>,
    /// The name of the host; its own unless given
    #[arg(long, value_name = "NAME")]
    pub(crate) host: Option<String>,
    /// Read a listing instead of looking at this host; - is standard input, and gzip is recognised
    #[arg(long, value_name = "LISTING", conflicts_with_all = ["roots", "host"])]
    pub(crate) from: Option<PathBuf>,
    /// Read every file as well, and keep a digest of it; one that has not changed is not read again
    #[arg(long, conflicts_with_all = ["from", "collector"])]
    pub(crate) digests: bool,
    /// Read the headers of media files as well, and keep what they say: duration, picture, codecs
    #[arg(long, conflicts_with_all = ["from", "collector"])]
    pub(crate) media: bool,
    /// Print the script that collects a listing on a host where nothing can be installed
    #[arg(long, conflicts_with_all = ["roots", "from", "output", "host"])]
    pub(crate) collector: bool,
}
