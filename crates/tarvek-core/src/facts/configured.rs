//! What the configuration of a host says, fact by fact, each with the file and line that say it.
//! Readers in `tarvek-formats` make it; layouts are adopted from it, and what was seen of a host is
//! completed by it.

use std::fmt;

use crate::words::name::Name;
use crate::words::offer::{NfsExport, SmbOffer};
use crate::words::options::MountOptions;
use crate::words::spot::Spot;
use crate::words::terms::{Access, Account, Group, Label};
use crate::words::word::words;

/// One thing that a file says.
#[derive(Clone, Debug, PartialEq)]
pub struct Configured {
    pub fact: Fact,
    pub spot: Spot,
}

/// A path as a file gives it, in bytes: absolute, or as a Windows client writes it.
pub type RawPath = Vec<u8>;

/// What a file can say.
#[derive(Clone, Debug, PartialEq)]
pub enum Fact {
    Service(ServiceFact),
    Mapping(MappingFact),
    Volume(VolumeFact),
    Port(PortFact),
    Mount(MountFact),
    Export(ExportFact),
    Share(ShareFact),
    Account(Account),
    Group(Group),
    Subordinate(SubordinateFact),
    IdMap(IdMapFact),
    Dataset(DatasetFact),
    Folder(FolderFact),
}

/// A container, as its engine starts it; or a system container, which is a host of its own.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct ServiceFact {
    pub name: Name,
    /// `user` as it is written.
    pub user: Option<Name>,
    pub uid: Option<u32>,
    pub gid: Option<u32>,
    pub umask: Option<u16>,
    /// Further groups, by number or name.
    pub groups: Vec<Name>,
    /// How its user namespace is made, as its engine writes it.
    pub userns: Option<Name>,
    /// The network that it is in: `host`, or the name of the only one.
    pub network: Option<Name>,
    pub image: Option<Name>,
    /// Paths whose mounts are there before it starts (`RequiresMountsFor=`, `systemd.unit(5)`).
    pub waits_for: Vec<RawPath>,
    /// Whether it is a system container.
    pub is_host: bool,
}

/// A folder of the host that a service sees under a path of its own.
#[derive(Clone, Debug, PartialEq)]
pub struct MappingFact {
    pub service: Name,
    pub from: RawPath,
    pub to: RawPath,
    pub access: Access,
    pub label: Option<Label>,
    pub propagation: Option<String>,
    /// Whether it is mounted with the ids of the service's namespace.
    pub idmap: bool,
}

/// Storage that the engine keeps or mounts, under a path of a service.
#[derive(Clone, Debug, PartialEq)]
pub struct VolumeFact {
    pub service: Name,
    /// As the file names it; `None` where it has no name, and lives no longer than the container.
    pub volume: Option<Name>,
    pub to: RawPath,
    pub access: Access,
    /// What the engine mounts: `granary:/loft/media`, `//granary/media`, a folder, or `tmpfs`.
    pub source: Option<Name>,
    /// The filesystem type that it mounts.
    pub filesystem: Option<Name>,
    /// With which options; without secrets.
    pub options: Option<MountOptions>,
    pub label: Option<Label>,
}

words! {
    /// What a published port carries.
    #[derive(Default)]
    pub enum Transport {
        #[default]
        Tcp = "tcp",
        Udp = "udp",
        Sctp = "sctp",
    }
}

/// A port of a service that its host offers.
#[derive(Clone, Debug, PartialEq)]
pub struct PortFact {
    pub service: Name,
    pub host_ip: Option<Name>,
    /// The host's port; `None` where the engine picks one.
    pub published: Option<u16>,
    pub target: u16,
    /// How many ports follow it, on both sides, that are published alike.
    pub more: u16,
    pub transport: Transport,
}

impl PortFact {
    /// Each of the ports by itself.
    pub fn each(&self) -> impl Iterator<Item = Self> + '_ {
        (0..=self.more).map(|n| Self {
            published: self.published.map(|port| port + n),
            target: self.target + n,
            more: 0,
            ..self.clone()
        })
    }
}

/// Something that is attached at a path of the host.
#[derive(Clone, Debug, PartialEq)]
pub struct MountFact {
    pub source: RawPath,
    /// A path, or a drive letter.
    pub at: RawPath,
    /// The filesystem type.
    pub filesystem: Name,
    pub options: MountOptions,
    /// Whether it would be mounted at boot, or when it is first looked at, without anybody asking.
    pub boot: bool,
    /// Whether the table of what is mounted says it, and not what shall be.
    pub mounted: bool,
}

/// One export of a folder to a set of clients.
#[derive(Clone, Debug, PartialEq)]
pub struct ExportFact {
    pub path: RawPath,
    pub export: NfsExport,
    /// Whether it is to everyone because a space stands before the options: the client that was
    /// meant.
    pub stray_space: Option<Name>,
}

/// A share of an SMB server.
#[derive(Clone, Debug, PartialEq)]
pub struct ShareFact {
    pub name: Name,
    /// With the server's variables as they are written (`%U`).
    pub path: RawPath,
    pub offer: SmbOffer,
}

words! {
    /// Whether ids are those of users or groups.
    pub enum IdOf {
        Uid = "uid",
        Gid = "gid",
    }
}

/// Ids that an account may use in namespaces of its own (`subuid(5)`).
#[derive(Clone, Debug, PartialEq)]
pub struct SubordinateFact {
    pub of: IdOf,
    /// Its name, or its uid.
    pub account: Name,
    pub first: u32,
    pub count: u32,
}

/// Ids of a container's namespace (`user_namespaces(7)`).
#[derive(Clone, Debug, PartialEq)]
pub struct IdMapFact {
    pub service: Name,
    pub of: IdOf,
    pub inside: u32,
    pub outside: u32,
    pub count: u32,
}

/// A separately mounted filesystem.
#[derive(Clone, Debug, PartialEq)]
pub struct DatasetFact {
    pub name: Name,
    /// `None` where it is mounted nowhere.
    pub at: Option<RawPath>,
    pub filesystem: Name,
    pub properties: Vec<(String, String)>,
}

/// A folder with its owner and rights (`getfacl(1)`).
#[derive(Clone, Debug, PartialEq)]
pub struct FolderFact {
    pub path: RawPath,
    pub owner: Name,
    pub group: Name,
    /// Permission bits.
    pub mode: u16,
    /// Further entries of its ACL, as `setfacl(1)` takes them.
    pub entries: Vec<String>,
}

/// What could not be understood.
#[derive(Clone, Debug, PartialEq)]
pub struct Skipped {
    pub spot: Spot,
    /// The line, without secrets.
    pub text: Name,
    pub why: String,
}

/// What is wrong with how something is written, although it can be read.
#[derive(Clone, Debug, PartialEq)]
pub enum Flaw {
    /// A password, token or the like stands in it; where, in a word.
    Secret(&'static str),
    /// The program that the file is for stops reading there.
    Refused { by: &'static str, why: String },
}

/// What was read of some files.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Configuration {
    pub facts: Vec<Configured>,
    pub skipped: Vec<Skipped>,
    pub flaws: Vec<(Spot, Flaw)>,
    /// Places whose facts have a value from the environment of whoever asked: they hold for that
    /// moment, and not for a layout.
    pub outside: Vec<Spot>,
}

impl Flaw {
    /// The rule that makes a finding of it.
    pub fn rule(&self) -> &'static str {
        match self {
            Self::Secret(_) => "mount/inline-password",
            Self::Refused { .. } => "share/file-refused",
        }
    }
}

impl fmt::Display for Flaw {
    /// In a sentence.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Secret(place) => write!(f, "a password or the like stands in {place}"),
            Self::Refused { by, why } => {
                write!(f, "{by} takes nothing of the file from this line on: {why}")
            }
        }
    }
}

impl Fact {
    /// What JSON calls its kind.
    pub fn kind(&self) -> &'static str {
        match self {
            Self::Service(_) => "service",
            Self::Mapping(_) => "mapping",
            Self::Volume(_) => "volume",
            Self::Port(_) => "port",
            Self::Mount(_) => "mount",
            Self::Export(_) => "export",
            Self::Share(_) => "share",
            Self::Account(_) => "account",
            Self::Group(_) => "group",
            Self::Subordinate(_) => "subordinate",
            Self::IdMap(_) => "idmap",
            Self::Dataset(_) => "dataset",
            Self::Folder(_) => "folder",
        }
    }
}
