//! What a route is: the viewpoint, the hops, and the entries that are checked on the way.

use std::fmt;
use std::sync::Arc;

use crate::facts::mounts::MountEntry;
use crate::facts::tree::NodeId;
use crate::kernel::gate::Gate;
use crate::kernel::subject::Subject;
use crate::route::end::{End, NotMounted};
use crate::site::join::Site;
use crate::site::layer::Layer;
use crate::words::evidence::Evidence;
use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::place::Place;
use crate::words::terms::{Access, Protocol};
use crate::words::word::words;

/// From where a path is seen.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum View {
    /// Inside a service, through its mappings.
    Service(Name),
    /// On a host itself, or in a process of this machine, which goes by `process:PID`.
    Host(Name),
}

impl View {
    /// Inside a service.
    pub fn service(name: impl Into<Name>) -> Self {
        Self::Service(name.into())
    }

    /// On a host.
    pub fn host(name: impl Into<Name>) -> Self {
        Self::Host(name.into())
    }

    /// The host whose kernel resolves paths there.
    pub fn machine(&self, site: &Site) -> Name {
        match self {
            Self::Host(name) => name.clone(),
            Self::Service(name) => {
                site.layout.service(name).map(|service| service.host.clone()).unwrap_or_default()
            }
        }
    }
}

impl fmt::Display for View {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Service(name) => write!(f, "service:{name}"),
            Self::Host(name) if name.raw().starts_with(PROCESS) => write!(f, "{name}"),
            Self::Host(name) => write!(f, "host:{name}"),
        }
    }
}

/// What the name of a process begins with; a process that is a viewpoint is a host of its own.
const PROCESS: &str = "process:";

words! {
    /// What a hop is.
    pub enum HopKind {
        /// A symlink that the walk followed.
        Symlink = "symlink",
        /// From the inside of a service to its host.
        Mapping = "mapping",
        /// Into storage that the engine keeps.
        Volume = "volume",
        /// From a mount point to its source.
        Mount = "mount",
        /// The offer of a host that a mount reaches.
        Share = "share",
        /// The filesystem that holds the folder.
        Dataset = "dataset",
        /// The folder or file at the end.
        Entry = "folder",
    }
}

/// One step of a route.
#[derive(Clone, Debug, PartialEq)]
pub struct Hop {
    pub kind: HopKind,
    /// The place before it, as seen there.
    pub from: Place,
    /// The place after it.
    pub to: Place,
    /// Whether it can be written through.
    pub access: Access,
    /// Who arrives after it.
    pub subject: Subject,
    /// What made them somebody else there.
    pub changed_by: Option<String>,
    /// The protocol of the share that it is, and the share's name, if the layout has one.
    pub share: Option<(Protocol, Option<Name>)>,
    pub evidence: Evidence,
    /// What is worth knowing about it, in words.
    pub note: String,
    /// Why it may not be what is meant, although nothing is broken.
    pub doubt: Option<String>,
    /// Whether the way is broken here.
    pub broken: bool,
}

impl Hop {
    /// A hop that changes nothing but the place, and that somebody saw.
    pub(super) fn new(kind: HopKind, from: Place, to: Place, subject: &Subject) -> Self {
        Self {
            kind,
            from,
            to,
            access: Access::ReadWrite,
            subject: subject.clone(),
            changed_by: None,
            share: None,
            evidence: Evidence::Observed,
            note: String::new(),
            doubt: None,
            broken: false,
        }
    }
}

/// One entry that the kernel checks on the way; the last one is the end itself.
#[derive(Clone, Debug, PartialEq)]
pub struct Waypoint {
    /// Where the host that decides has it.
    pub at: Place,
    /// The host whose facts show the entry: the same, or a client that sees it through a mount.
    pub seen_on: Name,
    /// The entry in those facts.
    pub node: Option<NodeId>,
    /// Who asks, as this host sees it.
    pub subject: Subject,
    /// Whether something is mounted or mapped exactly here.
    pub attached: bool,
    /// The entry that what is attached here covers, where it was seen: the host, and the number in
    /// its facts.
    pub covers: Option<(Name, NodeId)>,
    /// The mount that the entry is on, in the table of the host that shows it.
    pub mount: Option<u64>,
    /// Whether it is a folder that the engine makes, so that a mapping below it has a place.
    pub engine_made: bool,
    /// The checks that clients make by themselves at SMB mounts on the way.
    pub gates: Vec<Arc<Gate>>,
}

impl Waypoint {
    /// The observed mount that the entry is on.
    pub fn mount_in<'a>(&self, site: &'a Site) -> Option<&'a MountEntry> {
        site.mounts(&self.seen_on)?.entry(self.mount?)
    }
}

/// One level that a route passes: what a kernel knows of its end there.
#[derive(Clone, Debug, PartialEq)]
pub struct Level {
    pub view: View,
    /// How far the walk came.
    pub path: AbsPath,
    /// Where on the level outside of it it is attached; `None` for the outermost.
    pub attached_at: Option<AbsPath>,
    /// The mount of its host that the path is on, if its mount table was seen.
    pub mount: Option<u64>,
    /// By which protocol it is reached, where another machine decides there.
    pub through: Option<Protocol>,
    /// Where a mount begins whose server the site does not know.
    pub foreign: Option<AbsPath>,
    /// Who acts there.
    pub subject: Subject,
}

/// A followed path.
#[derive(Clone, Debug, PartialEq)]
pub struct Route {
    /// From where it was seen.
    pub view: View,
    /// The path that was asked for; where it has `..`, what that comes to.
    pub asked: AbsPath,
    /// The path as it was written.
    pub written: Vec<u8>,
    /// Who asked, before any hop changed it.
    pub subject: Subject,
    /// Outermost first.
    pub hops: Vec<Hop>,
    /// The entries that are checked on the way, the end last.
    pub trail: Vec<Waypoint>,
    /// Layers that can be read-only.
    pub layers: Vec<Layer>,
    /// Mounts on the way that are missing; the route then leads to what lies beneath.
    pub not_mounted: Vec<NotMounted>,
    /// Every level that it passes, outermost first.
    pub levels: Vec<Level>,
    /// Index into the service's mappings of the one that was taken.
    pub mapping: Option<usize>,
    /// Whether an NFS mount on the way takes the umask off what is made, whatever default ACL there
    /// is: all versions of NFSv4 before 4.2 do (RFC 8275, section 2).
    pub umask_always: bool,
    /// How many of the first entries of the trail were only passed: they are none of the folders
    /// that the end lies in.
    pub passed: usize,
    /// Whether it ended before the last name of the path.
    pub names_left: bool,
    pub end: End,
    pub(super) here: Place,
}

impl Route {
    /// The innermost place that was reached.
    pub fn here(&self) -> &Place {
        &self.here
    }

    /// Whether it ends at an entry, with every mount on the way in place.
    pub fn complete(&self) -> bool {
        self.end == End::Reached && self.not_mounted.is_empty()
    }

    /// The entry at the end, if it was seen.
    pub fn entry(&self) -> Option<(&Waypoint, NodeId)> {
        let last = self.trail.last().filter(|_| self.end == End::Reached)?;
        Some((last, last.node?))
    }

    /// The path of its end in the view, symlinks and `..` resolved.
    pub fn view_path(&self) -> &AbsPath {
        self.levels.first().map_or(&self.asked, |level| &level.path)
    }

    /// The path on its innermost level.
    pub fn innermost_path(&self) -> AbsPath {
        self.levels.last().map_or_else(AbsPath::root, |level| level.path.clone())
    }

    /// Whether it ends in a folder that only holds what is mapped below it.
    pub fn is_engine_made(&self) -> bool {
        self.end == End::Reached && self.trail.last().is_some_and(|last| last.engine_made)
    }

    /// Who arrives at the end.
    pub fn arrived(&self) -> &Subject {
        self.trail.last().map_or(&self.subject, |last| &last.subject)
    }

    /// Why it is not certain who comes to the end, for the server or for a client that checks by
    /// itself; `None` if it is.
    pub fn doubt(&self) -> Option<&str> {
        let last = self.trail.last();
        let gates = last.into_iter().flat_map(|last| &last.gates).map(|gate| &gate.subject);
        let mut subjects = [&self.subject, self.arrived()].into_iter().chain(gates);
        subjects.find_map(|subject| subject.doubt.as_deref())
    }

    /// Whether a layer on the way is read-only.
    pub fn read_only(&self) -> bool {
        self.layers.iter().any(|layer| layer.access == Access::ReadOnly)
    }

    /// How the end is known: the weakest evidence that it rests on.
    pub fn evidence(&self) -> Evidence {
        let seen = match &self.end {
            End::Reached => self.entry().is_some(),
            End::Missing(_) | End::NotAFolder { .. } | End::Loop | End::LeavesShare { .. } => true,
            End::NotFollowed { .. } | End::ProtectedLink { .. } | End::TooLong { .. } => true,
            End::Uncovered { .. } | End::Volume { .. } | End::Unseen { .. } => false,
            End::HiddenChild { .. } | End::NotAdmitted { .. } | End::Unmapped { .. } => false,
        };
        if seen { Evidence::Observed } else { Evidence::Declared }
    }
}
