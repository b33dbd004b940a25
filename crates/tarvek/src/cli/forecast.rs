//! The command line of `forecast`.

use std::ffi::OsString;
use std::path::PathBuf;

use clap::Args;
use tarvek_core::words::terms::Kind;

use crate::cli::globals::Format;
use crate::cli::words::word;

#[derive(Debug, Args)]
pub(crate) struct ForecastArgs {
    /// Only libraries of these names, or of these services; with --kind, folders to read as a
    /// library
    #[arg(value_name = "NAME")]
    pub(crate) names: Vec<OsString>,
    /// Read folders as a library of this kind, without a layout: films, series, music, photos,
    /// books, home-video
    #[arg(long, value_name = "KIND", value_parser = word::<Kind>(), requires = "names")]
    pub(crate) kind: Option<Kind>,
    /// List what would be found: each title, of series each episode
    #[arg(long)]
    pub(crate) titles: bool,
    /// The titles, with what the header of each file says of duration, picture and codecs; read now
    /// where the host is this machine, else from a survey that was made with --media
    #[arg(long)]
    pub(crate) media: bool,
    /// List only what would be missed or misread, each with its reason and the usual form
    #[arg(long, conflicts_with_all = ["titles", "media"])]
    pub(crate) problems: bool,
    /// Write renames that would mend it into a file for review (CSV: old, new, why); nothing is
    /// renamed
    #[arg(long, value_name = "FILE")]
    pub(crate) renames: Option<PathBuf>,
    /// What the next scan adds and drops since this earlier survey or listing of a host
    #[arg(long, value_name = "FILE", conflicts_with_all = ["kind", "from"])]
    pub(crate) since: Option<PathBuf>,
    /// Look from this viewpoint instead of the serving services: process:PID, service:NAME,
    /// host:NAME
    #[arg(long, value_name = "VIEW")]
    pub(crate) from: Option<String>,
    /// Look as somebody else: UID, UID:GID, UID:GID,GID…, or an account of the host
    #[arg(long = "as", value_name = "WHO")]
    pub(crate) subject: Option<String>,
    /// How to print the answer
    #[arg(long, value_enum, default_value = "text")]
    pub(crate) format: Format,
}
