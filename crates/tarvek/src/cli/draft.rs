//! The command line of `draft`.

use std::path::PathBuf;
use std::str::FromStr;

use clap::Args;

#[derive(Debug, Default, Args)]
pub(crate) struct DraftArgs {
    /// The brief; `tarvek schema brief` says what it may hold
    #[arg(long, value_name = "FILE")]
    pub(crate) brief: Option<PathBuf>,
    /// Where the layout goes; - is standard output. A file that is there already stays
    #[arg(short, long, value_name = "FILE")]
    pub(crate) output: Option<PathBuf>,
    #[command(flatten, next_help_heading = "Instead of a brief")]
    pub(crate) wish: BriefOptions,
}

/// A brief as options.
#[derive(Debug, Default, PartialEq, Eq, Args)]
#[group(id = "wish", multiple = true, conflicts_with = "brief")]
pub(crate) struct BriefOptions {
    /// The site's name
    #[arg(long, value_name = "NAME")]
    pub(crate) site: Option<String>,
    /// The storage host
    #[arg(long, value_name = "HOST")]
    pub(crate) storage: Option<String>,
    /// The ZFS pool, or the label of the volume
    #[arg(long, value_name = "POOL")]
    pub(crate) pool: Option<String>,
    /// zfs, btrfs, xfs or ext4
    #[arg(long, value_name = "TYPE")]
    pub(crate) filesystem: Option<String>,
    /// Where the pool or volume is mounted; /POOL unless given
    #[arg(long, value_name = "PATH")]
    pub(crate) at: Option<String>,
    /// Under which other hosts reach the storage host; its name unless given
    #[arg(long, value_name = "NAME")]
    pub(crate) address: Option<String>,
    /// Another pool for downloads on their way
    #[arg(long, value_name = "POOL")]
    pub(crate) intake_pool: Option<String>,
    /// The network of the hosts that mount over NFS
    #[arg(long, value_name = "NETWORK")]
    pub(crate) subnet: Option<String>,
    /// A host that runs services, and how it reaches the storage: nfs or smb
    #[arg(long, value_name = "HOST[:REACH]")]
    pub(crate) apps: Vec<NamedOption>,
    /// What is to be kept: films, series, music, photos, books, home-video
    #[arg(long, value_name = "KIND")]
    pub(crate) kind: Vec<String>,
    /// A kind that can't be replaced
    #[arg(long, value_name = "KIND")]
    pub(crate) original: Vec<String>,
    /// A service that serves
    #[arg(long, value_name = "NAME=UID[@HOST]")]
    pub(crate) serve: Vec<Member>,
    /// A service that fetches
    #[arg(long, value_name = "NAME=UID[@HOST]")]
    pub(crate) fetch: Vec<Member>,
    /// A service that sorts
    #[arg(long, value_name = "NAME=UID[@HOST]")]
    pub(crate) sort: Vec<Member>,
    /// A person who may add and change
    #[arg(long, value_name = "NAME=UID")]
    pub(crate) add: Vec<Member>,
    /// A person who only watches
    #[arg(long, value_name = "NAME=UID")]
    pub(crate) watch: Vec<Member>,
    /// A machine that people watch on, and its system: windows, macos or linux
    #[arg(long, value_name = "HOST[:OS]")]
    pub(crate) client: Vec<NamedOption>,
    /// How downloads get into libraries: hardlink, rename or copy
    #[arg(long, value_name = "HOW")]
    pub(crate) want: Option<String>,
    /// What runs the services: docker, podman or none
    #[arg(long, value_name = "ENGINE")]
    pub(crate) containers: Option<String>,
    /// Where what can't be replaced is backed up to
    #[arg(long, value_name = "WHERE")]
    pub(crate) backup: Option<String>,
    /// Give rights by one group and mode bits instead of ACLs
    #[arg(long)]
    pub(crate) no_acls: bool,
    /// SELinux enforces on the hosts
    #[arg(long)]
    pub(crate) selinux: bool,
}

impl BriefOptions {
    /// Whether no option says anything of what is wanted.
    pub(crate) fn says_nothing(&self) -> bool {
        *self == Self::default()
    }
}

/// `NAME:WHAT`, or only `NAME`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct NamedOption {
    pub(crate) name: String,
    pub(crate) of: Option<String>,
}

impl FromStr for NamedOption {
    type Err = String;

    fn from_str(written: &str) -> Result<Self, String> {
        let (name, of) = match written.split_once(':') {
            Some((name, of)) => (name, Some(of.to_owned())),
            None => (written, None),
        };
        if name.is_empty() {
            return Err(format!("{written:?} has no name: write NAME or NAME:WHAT"));
        }
        Ok(Self { name: name.to_owned(), of })
    }
}

/// `NAME=UID`, and for a service `@HOST`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Member {
    pub(crate) name: String,
    pub(crate) id: u32,
    pub(crate) host: Option<String>,
}

impl FromStr for Member {
    type Err = String;

    fn from_str(written: &str) -> Result<Self, String> {
        let say = || format!("{written:?} is not of the form NAME=UID, for example mira=1101");
        let (name, rest) = written.split_once('=').ok_or_else(say)?;
        let (id, host) = match rest.split_once('@') {
            Some((id, host)) => (id, Some(host.to_owned())),
            None => (rest, None),
        };
        let id = id.parse().map_err(|_| say())?;
        Ok(Self { name: name.to_owned(), id, host })
    }
}
