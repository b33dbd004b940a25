//! The route of a path: from where somebody sees it, through mappings, mounts and shares, to the folder on the host that
//! holds it, with the identity that arrives at each step.
//!
//! There is one builder, [`follow`]; checks, traces, access and forecasts all read what it returns.

mod source;
mod walk;

use std::fmt;
use std::sync::Arc;

use crate::facts::mounts::{FstabEntry, network_protocol};
use crate::facts::tree::{EntryKind, NodeId};
use crate::identity::Subject;
use crate::layout::{Mode, Mount, Origin, Protocol};
use crate::newfile::{Making, predict};
use crate::object::Object;
use crate::path::AbsPath;
use crate::site::Site;
use crate::smb::Gate;

/// How something is known.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Evidence {
    /// Only a layout says so.
    Declared,
    /// A look at the host saw it.
    Observed,
    /// Tarvek just did it.
    Proven,
}

impl Evidence {
    /// `declared`, `observed` or `proven`.
    pub fn word(self) -> &'static str {
        match self {
            Self::Declared => "declared",
            Self::Observed => "observed",
            Self::Proven => "proven",
        }
    }
}

/// From where a path is seen.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum View {
    /// Inside a service, through its mappings.
    Service(String),
    /// On a host itself.
    Host(String),
}

impl fmt::Display for View {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Service(name) => write!(f, "service:{name}"),
            Self::Host(name) => write!(f, "host:{name}"),
        }
    }
}

/// What a hop is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum HopKind {
    /// A symlink that the walk followed.
    Symlink,
    /// From the inside of a service to its host.
    Mapping,
    /// Into storage that the engine keeps.
    Volume,
    /// From a mount point to its source.
    Mount,
    /// The offer of a host that a mount reaches.
    Share,
    /// The filesystem that holds the folder.
    Dataset,
    /// The folder or file at the end.
    Entry,
}

impl HopKind {
    /// As JSON and text name it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Symlink => "symlink",
            Self::Mapping => "mapping",
            Self::Volume => "volume",
            Self::Mount => "mount",
            Self::Share => "share",
            Self::Dataset => "dataset",
            Self::Entry => "folder",
        }
    }
}

/// One step of a route.
#[derive(Clone, Debug, PartialEq)]
pub struct Hop {
    /// What it is.
    pub kind: HopKind,
    /// The host on which it happens.
    pub host: String,
    /// The path before it, as seen there.
    pub path_in: AbsPath,
    /// The path after it, as seen on `host_out`.
    pub path_out: AbsPath,
    /// The host after it.
    pub host_out: String,
    /// Whether it can be written through.
    pub mode: Mode,
    /// Who arrives after it.
    pub subject: Subject,
    /// What made him somebody else there.
    pub changed_by: Option<String>,
    /// The share that it is, and by which protocol.
    pub share: Option<(String, Protocol)>,
    /// How it is known.
    pub evidence: Evidence,
    /// What is worth knowing about it, in words.
    pub note: String,
    /// Why it may not be what is meant, although nothing is broken.
    pub doubt: Option<String>,
    /// Whether the way is broken here.
    pub broken: bool,
}

/// One entry that the kernel checks on the way; the last one is the end itself.
#[derive(Clone, Debug, PartialEq)]
pub struct Step {
    /// The host that decides.
    pub host: String,
    /// The path there.
    pub path: AbsPath,
    /// The host whose facts show the entry: the same, or a client that sees it through a mount.
    pub seen_on: String,
    /// The entry in those facts.
    pub node: Option<NodeId>,
    /// Who asks, as this host sees it.
    pub subject: Subject,
    /// Whether something is mounted or mapped exactly here.
    pub attached: bool,
    /// The checks that clients make by themselves at SMB mounts on the way.
    pub gates: Vec<Arc<Gate>>,
}

/// What kind of layer it is.
#[derive(Clone, Debug, PartialEq)]
pub enum LayerKind {
    /// A mapping of a service or system container, in this line of the layout.
    Mapping(u32),
    /// A network mount.
    Mount(Protocol),
    /// A share, by this protocol.
    Share(String, Protocol),
    /// A mounted filesystem: its type, and its source as shown.
    Filesystem(String, String),
}

/// A layer that can be read-only as a whole.
#[derive(Clone, Debug, PartialEq)]
pub struct Layer {
    /// What it is.
    pub kind: LayerKind,
    /// In words, for a sentence: `the mapping to /media`.
    pub what: String,
    /// The host.
    pub host: String,
    /// Where it is attached.
    pub path: AbsPath,
    /// Read-only or not.
    pub mode: Mode,
    /// Whether the filesystem itself is read-only, and not only this way to it. The kernel then refuses before it looks at
    /// owners and modes (`sb_permission` in `fs/namei.c`).
    pub filesystem: bool,
}

/// A mount that should be there and is not.
#[derive(Clone, Debug, PartialEq)]
pub struct NotMounted {
    /// The host.
    pub host: String,
    /// The mount point.
    pub point: AbsPath,
    /// What should be mounted, as written.
    pub source: String,
    /// How.
    pub protocol: Protocol,
    /// Options it should have.
    pub options: Vec<String>,
    /// Where the layout declares it; `None` if fstab does.
    pub origin: Option<Origin>,
}

impl NotMounted {
    /// A mount of the layout that is absent.
    pub(crate) fn declared(site: &Site, mount: &Mount) -> Self {
        Self {
            host: mount.host.clone(),
            point: mount.at.clone(),
            source: mount.from.written(&site.layout),
            protocol: mount.protocol,
            options: mount.options.clone(),
            origin: Some(mount.origin),
        }
    }

    /// A line of fstab that is absent.
    pub(crate) fn of_fstab(host: &str, line: &FstabEntry) -> Self {
        Self {
            host: host.to_owned(),
            point: line.point.clone(),
            source: line.source.clone(),
            protocol: network_protocol(&line.filesystem).unwrap_or(Protocol::Disk),
            options: line.options.clone(),
            origin: None,
        }
    }

    /// What should be mounted at a point of a host: as the layout declares, else as fstab says (`noauto` aside).
    pub(crate) fn expected(site: &Site, host: &str, point: &AbsPath) -> Option<Self> {
        let declared = site.layout.mounts.iter().find(|m| m.host == host && m.at == *point);
        let fstab = || site.facts(host)?.fstab.iter().find(|l| l.point == *point && l.at_boot());
        declared
            .map(|mount| Self::declared(site, mount))
            .or_else(|| fstab().map(|line| Self::of_fstab(host, line)))
    }
}

/// A missing name, and what its folder has instead.
#[derive(Clone, Debug, PartialEq)]
pub struct Missing {
    /// The host.
    pub host: String,
    /// The folder that was read.
    pub folder: AbsPath,
    /// The name that is not in it.
    pub name: Vec<u8>,
    /// The same name in another letter case.
    pub other_case: Option<Vec<u8>>,
    /// The name most like it.
    pub near: Option<Vec<u8>>,
    /// How many entries the folder has.
    pub entries: usize,
}

/// How a route ends.
#[derive(Clone, Debug, PartialEq)]
pub enum End {
    /// At an entry, or where only the layout speaks, at its declared place.
    Reached,
    /// No mapping covers the path; what the service sees there is its own storage.
    Uncovered {
        /// Where its mappings are.
        mapped: Vec<AbsPath>,
    },
    /// In storage that the engine keeps.
    Volume {
        /// The volume's name.
        name: String,
    },
    /// A name is not there.
    Missing(Missing),
    /// Something that is no folder stands where one is needed.
    NotAFolder {
        /// The host.
        host: String,
        /// The place.
        path: AbsPath,
        /// What it is.
        kind: &'static str,
    },
    /// More than 40 symlinks (`path_resolution(7)`, ELOOP).
    Loop,
    /// A child dataset that the export does not include: clients see an empty folder.
    HiddenChild {
        /// The host.
        host: String,
        /// Its mount point there.
        point: AbsPath,
        /// The share through which it is reached.
        share: String,
    },
    /// A symlink on an SMB server that leads out of the share, which the server refuses.
    LeavesShare {
        /// The symlink.
        link: AbsPath,
        /// The share's path.
        share: AbsPath,
    },
    /// The way is refused to whoever asks: a share does not admit him, or a namespace has no such id.
    Refused {
        /// The host that refuses.
        host: String,
        /// Where.
        path: AbsPath,
        /// Why.
        why: String,
        /// What a kernel answers.
        errno: &'static str,
    },
    /// Nobody looked there.
    Unseen {
        /// The host.
        host: String,
        /// The place.
        path: AbsPath,
        /// Why, if it is known.
        why: Option<String>,
    },
}

impl End {
    /// In a few words, to follow a path.
    pub fn words(&self) -> String {
        use crate::text::shown;
        match self {
            Self::Reached => "it is there".into(),
            Self::Uncovered { .. } => {
                "no mapping covers it: it lies in the service's own storage".into()
            }
            Self::Volume { name } => {
                format!("it lies in the engine's volume {}", shown(name.as_bytes()))
            }
            Self::Missing(m) => match &m.other_case {
                Some(other) => {
                    format!("{} has {:?}, not {:?}", m.folder, shown(other), shown(&m.name))
                }
                None => format!("{} has no {:?}", m.folder, shown(&m.name)),
            },
            Self::NotAFolder { path, kind, .. } => format!("{path} is a {kind}, not a folder"),
            Self::Loop => "more than 40 symlinks: they loop".into(),
            Self::HiddenChild { host, point, share } => {
                format!(
                    "{host} does not export the dataset at {point} with the share {share}: clients see an empty folder"
                )
            }
            Self::LeavesShare { link, share } => {
                format!(
                    "the symlink {link} leads out of the share at {share}, which the server refuses"
                )
            }
            Self::Refused { why, .. } => why.clone(),
            Self::Unseen { host, path, why } => match why {
                Some(why) => format!("{path} on {host} could not be seen: {why}"),
                None => format!("{path} on {host} was not looked at"),
            },
        }
    }

    /// What a kernel answers at such an end.
    pub fn errno(&self) -> &'static str {
        match self {
            Self::NotAFolder { .. } => "ENOTDIR",
            Self::Loop => "ELOOP",
            Self::LeavesShare { .. } => "EACCES",
            Self::Refused { errno, .. } => errno,
            _ => "ENOENT",
        }
    }
}

/// A followed path.
#[derive(Clone, Debug, PartialEq)]
pub struct Route {
    /// From where it was seen.
    pub view: View,
    /// The path that was asked for.
    pub asked: AbsPath,
    /// Who asked, before any hop changed it.
    pub subject: Subject,
    /// Its hops, outermost first.
    pub hops: Vec<Hop>,
    /// The entries that are checked on the way, the end last.
    pub trail: Vec<Step>,
    /// Layers that can be read-only.
    pub layers: Vec<Layer>,
    /// Mounts on the way that are missing; the route then leads to what lies beneath.
    pub not_mounted: Vec<NotMounted>,
    /// The path on every level that it passes, outermost first: how far the walk came, if it did not reach its end.
    pub levels: Vec<(View, AbsPath)>,
    /// Index into the service's mappings of the one that was taken.
    pub mapping: Option<usize>,
    /// Whether an NFS mount on the way takes the umask off what is made, whatever default ACL there is: all versions of NFSv4
    /// before 4.2 do (RFC 8275, section 2).
    pub umask_always: bool,
    /// How it ends.
    pub end: End,
    here: (String, AbsPath),
}

impl Route {
    /// The innermost host and path that was reached.
    pub fn here(&self) -> (String, AbsPath) {
        self.here.clone()
    }

    /// Whether it ends at an entry, with every mount on the way in place.
    pub fn complete(&self) -> bool {
        self.end == End::Reached && self.not_mounted.is_empty()
    }

    /// The entry at the end, if it was seen.
    pub fn entry(&self) -> Option<(&Step, NodeId)> {
        let step = self.trail.last().filter(|_| self.end == End::Reached)?;
        Some((step, step.node?))
    }

    /// What is made at the end of it by whoever comes this way: his umask and what he asks for, what his mounts and shares make
    /// of that, and the folder itself. `None` if the end is no folder that was seen.
    pub fn new_entry<'a>(&self, site: &'a Site, making: Making) -> Option<Object<'a>> {
        let (step, node) = self.entry()?;
        let folder = site.object(&step.seen_on, node).filter(Object::is_folder)?;
        let table = site.facts(&step.seen_on).and_then(|facts| facts.mounts.as_ref());
        let grpid = table.and_then(|table| table.at(&step.path)).is_some_and(|mount| {
            let says = |option: &String| matches!(option.as_str(), "grpid" | "bsdgroups");
            mount.options.iter().chain(&mount.super_options).any(says)
        });
        let offer = self.hops.iter().rev().find_map(|hop| match (hop.kind, &hop.share) {
            (HopKind::Share, Some((name, Protocol::Smb))) => site.layout.share(name)?.smb.as_ref(),
            _ => None,
        });
        let making = match offer {
            Some(offer) => Making::over_smb(offer, making.kind == EntryKind::Folder),
            None => {
                Making { umask_always: making.umask_always || self.umask_always, grpid, ..making }
            }
        };
        Some(predict(&folder, &step.subject, making))
    }

    /// How the end is known: the weakest evidence that it rests on.
    pub fn evidence(&self) -> Evidence {
        let seen = match &self.end {
            End::Reached => self.entry().is_some(),
            End::Missing(_) | End::NotAFolder { .. } | End::Loop | End::LeavesShare { .. } => true,
            End::Uncovered { .. } | End::Volume { .. } | End::Unseen { .. } => false,
            End::HiddenChild { .. } | End::Refused { .. } => false,
        };
        if seen { Evidence::Observed } else { Evidence::Declared }
    }
}

/// The places below a route's end, as its view sees them, where something else is attached: deeper mappings, mounts and
/// datasets. What lies there is not what the folder beneath holds.
pub fn attached_below(site: &Site, route: &Route) -> Vec<AbsPath> {
    let mut places = Vec::new();
    for (level, base) in &route.levels {
        let mut add = |point: &AbsPath| {
            let rest = point.below(base).filter(|rest| !rest.is_empty());
            places.extend(rest.map(|rest| route.asked.join(rest)));
        };
        match level {
            View::Service(name) => {
                let maps = site.layout.service(name).and_then(|s| s.map.as_deref()).unwrap_or(&[]);
                maps.iter().filter_map(|m| m.to.path.as_ref().ok()).for_each(&mut add);
            }
            View::Host(name) => {
                let declared = site.layout.mounts.iter().filter(|m| m.host == *name).map(|m| &m.at);
                let host = site.layout.host(name);
                let datasets = host.into_iter().flat_map(|host| &host.datasets).map(|d| &d.at);
                let maps = host.into_iter().flat_map(|host| &host.map);
                declared.chain(datasets).for_each(&mut add);
                maps.filter_map(|m| m.to.path.as_ref().ok()).for_each(&mut add);
                let table = site.facts(name).and_then(|facts| facts.mounts.as_ref());
                table.into_iter().flat_map(|t| t.entries()).for_each(|entry| add(&entry.point));
            }
        }
    }
    places.sort();
    places.dedup();
    places
}

/// Follows a path from a viewpoint, as a subject.
pub fn follow(site: &Site, view: &View, asked: &AbsPath, subject: &Subject) -> Route {
    walk::Walker::new(site).route(view, asked, subject, walk::Last::Followed)
}

/// As [`follow`], but a symlink at the very end is not followed: for those who want the name, as `unlink(2)` does.
pub fn follow_to_name(site: &Site, view: &View, asked: &AbsPath, subject: &Subject) -> Route {
    walk::Walker::new(site).route(view, asked, subject, walk::Last::Itself)
}
