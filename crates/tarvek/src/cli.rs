//! The command line. Doc comments here are the help text.

use std::ffi::OsString;
use std::path::PathBuf;
use std::str::FromStr;

use clap::{Args, Parser, Subcommand, ValueEnum};
use tarvek_core::access::Need;
use tarvek_core::rules::Severity;

/// Designs and audits media share layouts on network storage, before a media server scans them.
#[derive(Debug, Parser)]
#[command(name = "tarvek", version, max_term_width = 100, disable_help_subcommand = true)]
pub(crate) struct Arguments {
    #[command(flatten)]
    pub(crate) globals: Globals,
    #[command(subcommand)]
    pub(crate) command: Command,
}

/// Options of every command.
#[derive(Clone, Debug, Args)]
pub(crate) struct Globals {
    /// The layout; tarvek.toml here or in a folder above unless given
    #[arg(long, global = true, value_name = "FILE")]
    pub(crate) layout: Option<PathBuf>,
    /// What was seen of a host: a survey or listing; may be given for several hosts. Without it, files named
    /// HOST.survey or HOST.listing beside the layout are used
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

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Write the demo site into a folder, and walk through the whole job on it
    Demo(DemoArgs),
    /// Make a layout from a brief: a file, options, or answers to questions
    Draft(Box<DraftArgs>),
    /// Write real configuration from a layout
    Emit(EmitArgs),
    /// The readiness board: what each library scan would find, and why not
    Check(CheckArgs),
    /// One path, hop by hop, as a service or host sees it
    Trace(TraceArgs),
    /// Who can do what at a path, and which entry decides
    Access(AccessArgs),
    /// Look at this host, or read a collected listing, into a survey file
    Survey(SurveyArgs),
    /// What changed between two surveys of a host
    Compare(CompareArgs),
    /// The long text of a rule; without a rule, all of them in a line each
    Explain(ExplainArgs),
    /// The JSON Schema of the layout file, or of an output
    Schema(SchemaArgs),
    /// Try access as somebody else; `access --prove` starts this in a process of its own
    #[command(hide = true)]
    Attempt(AttemptArgs),
}

#[derive(Debug, Args)]
pub(crate) struct DemoArgs {
    /// The folder to write; made if it is not there
    #[arg(value_name = "DIR", default_value = "kestrel-hollow")]
    pub(crate) folder: PathBuf,
}

#[derive(Debug, Default, Args)]
pub(crate) struct DraftArgs {
    /// The brief; `tarvek schema brief` says what it may hold
    #[arg(long, value_name = "FILE")]
    pub(crate) brief: Option<PathBuf>,
    /// Where the layout goes; - is standard output. A file that is there already stays
    #[arg(short, long, value_name = "FILE")]
    pub(crate) output: Option<PathBuf>,
    #[command(flatten, next_help_heading = "Instead of a brief")]
    pub(crate) wish: Wish,
}

/// A brief as options.
#[derive(Debug, Default, PartialEq, Eq, Args)]
#[group(id = "wish", multiple = true, conflicts_with = "brief")]
pub(crate) struct Wish {
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
    pub(crate) apps: Vec<Of>,
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
    pub(crate) client: Vec<Of>,
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

impl Wish {
    /// Whether no option says anything of what is wanted.
    pub(crate) fn says_nothing(&self) -> bool {
        *self == Self::default()
    }
}

/// `NAME:WHAT`, or only `NAME`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Of {
    pub(crate) name: String,
    pub(crate) of: Option<String>,
}

impl FromStr for Of {
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

#[derive(Debug, Args)]
pub(crate) struct EmitArgs {
    /// What to write
    #[arg(value_enum, value_name = "WHAT")]
    pub(crate) what: Emitted,
    /// For which host; needed where several have something to write
    #[arg(long, value_name = "NAME")]
    pub(crate) host: Option<String>,
    /// A folder to write the files into; standard output unless given. Files that are there already stay
    #[arg(short, long, value_name = "DIR")]
    pub(crate) output: Option<PathBuf>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Emitted {
    /// Containers of a host, as a Compose file
    Compose,
    /// Containers of a host, as units that Podman makes systemd services of
    Quadlet,
    /// Lines for fstab
    Fstab,
    /// Mount and automount units
    Systemd,
    /// Lines for the exports of an NFS server
    Exports,
    /// Stanzas for an SMB server's smb.conf
    Smb,
    /// Commands that make accounts and groups
    Accounts,
    /// A script that makes datasets and folders with their owners, modes and ACLs
    Script,
    /// What to type on clients
    Clients,
}

#[derive(Debug, Args)]
pub(crate) struct CheckArgs {
    /// How to print the answer
    #[arg(long, value_enum, default_value = "text")]
    pub(crate) format: Format,
    /// Exit with 1 from this severity on
    #[arg(long, value_enum, value_name = "SEVERITY", default_value = "blocker")]
    pub(crate) fail_on: FailOn,
    /// How old a survey may be before it is a finding: 12h, 7d
    #[arg(long, value_name = "AGE", value_parser = age)]
    pub(crate) max_age: Option<i64>,
}

/// An age in seconds.
fn age(written: &str) -> Result<i64, String> {
    let say = || "write a number and a unit: 30m, 12h, 7d".to_owned();
    let digits = written.trim_end_matches(|c: char| !c.is_ascii_digit());
    let factor = match &written[digits.len()..] {
        "s" => 1,
        "m" => 60,
        "h" => 3600,
        "d" => 86_400,
        _ => return Err(say()),
    };
    digits.parse::<i64>().ok().and_then(|n| n.checked_mul(factor)).ok_or_else(say)
}

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
    /// Print the script that collects a listing on a host where nothing can be installed
    #[arg(long, conflicts_with_all = ["roots", "from", "output", "host"])]
    pub(crate) collector: bool,
}

#[derive(Debug, Args)]
pub(crate) struct CompareArgs {
    /// The earlier survey or listing
    #[arg(value_name = "OLD")]
    pub(crate) old: PathBuf,
    /// The later one
    #[arg(value_name = "NEW")]
    pub(crate) new: PathBuf,
    /// How to print the answer
    #[arg(long, value_enum, default_value = "text")]
    pub(crate) format: Format,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum FailOn {
    Blocker,
    Risk,
    Note,
}

impl From<FailOn> for Severity {
    fn from(threshold: FailOn) -> Self {
        match threshold {
            FailOn::Blocker => Self::Blocker,
            FailOn::Risk => Self::Risk,
            FailOn::Note => Self::Note,
        }
    }
}

#[derive(Debug, Args)]
pub(crate) struct TraceArgs {
    /// The path, as the viewpoint sees it
    #[arg(value_name = "PATH")]
    pub(crate) path: OsString,
    /// The viewpoint: service:NAME, host:NAME or client:NAME; this machine unless given
    #[arg(long, value_name = "VIEW")]
    pub(crate) from: Option<String>,
    /// How to print the answer
    #[arg(long, value_enum, default_value = "text")]
    pub(crate) format: Format,
}

#[derive(Debug, Args)]
pub(crate) struct AccessArgs {
    /// The path, as the viewpoint sees it
    #[arg(value_name = "PATH")]
    pub(crate) path: OsString,
    /// Who: UID, UID:GID, UID:GID,GID…, or an account of the host; whoever runs this unless given
    #[arg(long = "as", value_name = "WHO")]
    pub(crate) subject: Option<String>,
    /// What is needed: read, write, enter, add, remove; the exit code then speaks of all of these. Without it
    /// everything that applies is shown, and the exit code speaks of reading
    #[arg(long, value_delimiter = ',', value_enum, value_name = "NEED")]
    pub(crate) need: Vec<CliNeed>,
    /// The viewpoint: service:NAME, host:NAME or client:NAME; this machine unless given
    #[arg(long, value_name = "VIEW")]
    pub(crate) from: Option<String>,
    /// Everything below as well: how much can't be read, and what decides; the exit code speaks of that too
    #[arg(long)]
    pub(crate) below: bool,
    /// Everyone of the site: each account, service and client with what it may do there. With -v, the system's own accounts too
    #[arg(long, conflicts_with_all = ["subject", "below", "new_file", "prove"])]
    pub(crate) all: bool,
    /// What a new file and a new folder there will be like, and who can then use them
    #[arg(long, conflicts_with_all = ["below", "prove", "need"])]
    pub(crate) new_file: bool,
    /// With --new-file: the mode that the program asks for, in octal, for a folder with search added; 666 and 777 unless given
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

/// What [`AccessArgs::prove`] starts in a process of its own.
#[derive(Debug, Args)]
pub(crate) struct AttemptArgs {
    /// The path
    #[arg(value_name = "PATH")]
    pub(crate) path: OsString,
    /// UID:GID,GID…
    #[arg(long = "as", value_name = "WHO")]
    pub(crate) subject: String,
    /// What to try
    #[arg(long, value_delimiter = ',', value_enum, value_name = "NEED")]
    pub(crate) need: Vec<CliNeed>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum CliNeed {
    Read,
    Write,
    Enter,
    Add,
    Remove,
}

impl From<CliNeed> for Need {
    fn from(need: CliNeed) -> Self {
        match need {
            CliNeed::Read => Self::Read,
            CliNeed::Write => Self::Write,
            CliNeed::Enter => Self::Enter,
            CliNeed::Add => Self::Add,
            CliNeed::Remove => Self::Remove,
        }
    }
}

#[derive(Debug, Args)]
pub(crate) struct ExplainArgs {
    /// The rule, for example path/missing
    #[arg(value_name = "RULE")]
    pub(crate) rule: Option<String>,
}

#[derive(Debug, Args)]
pub(crate) struct SchemaArgs {
    /// What to describe
    #[arg(value_enum, value_name = "WHAT")]
    pub(crate) what: SchemaOf,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum SchemaOf {
    /// The layout file
    Layout,
    /// The file that `draft` reads
    Brief,
    /// The output of check
    Check,
    /// The output of trace
    Trace,
    /// The output of access
    Access,
    /// The output of access --all
    AccessAll,
    /// The output of access --new-file
    NewFile,
    /// The output of compare
    Compare,
}

/// Reads the command line; help, version and mistakes end the program here, mistakes with exit code 2.
pub(crate) fn parse() -> Arguments {
    Arguments::parse()
}
