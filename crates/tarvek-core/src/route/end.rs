//! How a route ends, and what is missing on it.

use crate::facts::mounts::{FstabEntry, network_protocol};
use crate::kernel::entry::EntryKind;
use crate::layout::mount::Mount;
use crate::site::join::Site;
use crate::words::errno::Errno;
use crate::words::file_name::FileName;
use crate::words::name::Name;
use crate::words::options::MountOptions;
use crate::words::path::AbsPath;
use crate::words::place::Place;
use crate::words::terms::{Origin, Protocol};

/// A mount that should be there and is not.
#[derive(Clone, Debug, PartialEq)]
pub struct NotMounted {
    /// Its mount point.
    pub at: Place,
    /// What should be mounted, as written.
    pub source: Name,
    pub protocol: Protocol,
    /// Options it should have.
    pub options: MountOptions,
    /// Where the layout declares it; `None` if fstab does.
    pub origin: Option<Origin>,
}

impl NotMounted {
    /// A mount of the layout that is absent.
    pub(crate) fn declared(site: &Site, mount: &Mount) -> Self {
        Self {
            at: Place::new(&mount.host, &mount.at),
            source: site.layout.source(&mount.from),
            protocol: mount.protocol,
            options: mount.options.clone(),
            origin: Some(mount.origin),
        }
    }

    /// A line of fstab that is absent.
    pub(crate) fn of_fstab(host: &Name, line: &FstabEntry) -> Self {
        Self {
            at: Place::new(host, &line.point),
            source: line.source.clone(),
            protocol: network_protocol(&line.filesystem).unwrap_or(Protocol::Disk),
            options: line.options.clone(),
            origin: None,
        }
    }

    /// What should be mounted at a point of a host: as the layout declares, else as fstab says
    /// (`noauto` aside).
    pub(super) fn expected(site: &Site, host: &Name, point: &AbsPath) -> Option<Self> {
        let declared = site.layout.mount_at(host, point);
        let fstab = || site.facts(host)?.fstab.iter().find(|l| l.point == *point && l.at_boot());
        declared
            .map(|mount| Self::declared(site, mount))
            .or_else(|| fstab().map(|line| Self::of_fstab(host, line)))
    }
}

/// A missing name, and what its folder has instead.
#[derive(Clone, Debug, PartialEq)]
pub struct Missing {
    /// The folder that was read.
    pub folder: Place,
    /// The name that is not in it.
    pub name: FileName,
    /// The same name in another letter case.
    pub other_case: Option<FileName>,
    /// The name most like it.
    pub near: Option<FileName>,
    /// How many entries the folder has.
    pub entries: usize,
}

/// How a route ends.
#[derive(Clone, Debug, PartialEq)]
pub enum End {
    /// At an entry, or where only the layout speaks, at its declared place.
    Reached,
    /// No mapping covers the path; what the service sees there is its own storage. Its mappings are
    /// elsewhere.
    Uncovered { mapped: Vec<AbsPath> },
    /// In a volume that the engine keeps.
    Volume { name: Name },
    /// A name is not there.
    Missing(Missing),
    /// Something that is no folder stands where one is needed.
    NotAFolder { at: Place, kind: EntryKind },
    /// More than 40 symlinks (`path_resolution(7)`).
    Loop,
    /// A symlink on a mount that follows none (`nosymfollow`, mount(8)).
    NotFollowed { link: Place, mount: AbsPath },
    /// A symlink in a sticky folder of everyone's, of somebody other than whoever asks and the
    /// folder's owner (`fs.protected_symlinks`, proc_sys_fs(5)).
    ProtectedLink {
        link: Place,
        /// Whether there were so many symlinks before it that the kernel says ELOOP instead.
        loops: bool,
    },
    /// A name of more than 255 bytes, or a path of more than 4095 (`path_resolution(7)`).
    TooLong { at: Place },
    /// A child dataset that the export does not include: clients see an empty folder at its mount
    /// point.
    HiddenChild { at: Place, share: Name },
    /// A symlink on an SMB server that leads out of the share, which the server refuses.
    LeavesShare { link: AbsPath, share: AbsPath },
    /// A share does not admit whoever asks.
    NotAdmitted { at: Place, share: Option<Name>, user: Option<Name>, why: String },
    /// A user namespace has no such id: nobody can be that there.
    Unmapped { at: Place, why: String },
    /// Nobody looked there.
    Unseen { at: Place, why: Option<String> },
}

impl End {
    /// In a few words, to follow a path.
    pub fn words(&self) -> String {
        match self {
            Self::Reached => "it is there".into(),
            Self::Uncovered { .. } => {
                "no mapping covers it: it lies in the service's own storage".into()
            }
            Self::Volume { name } => format!("it lies in the engine's volume {name}"),
            Self::Missing(m) => match &m.other_case {
                Some(other) => format!("{} has {other:?}, not {:?}", m.folder.path, m.name),
                None => format!("{} has no {:?}", m.folder.path, m.name),
            },
            Self::NotAFolder { at, kind } => {
                format!("{} is a {}, not a folder", at.path, kind.word())
            }
            Self::Loop => "more than 40 symlinks: they loop".into(),
            Self::NotFollowed { link, mount } => format!(
                "{} is a symlink, and the mount at {mount} follows none (nosymfollow)",
                link.path
            ),
            Self::ProtectedLink { link, .. } => format!(
                "{} is somebody else's symlink in a sticky folder that everyone may write, and \
                 fs.protected_symlinks is on",
                link.path
            ),
            Self::TooLong { at } => match at.path.name().map_or(0, <[u8]>::len) {
                length @ 256.. => {
                    format!("a name of {length} bytes is longer than a filesystem takes (255)")
                }
                _ => format!(
                    "the path has {} bytes, and a kernel takes 4095",
                    at.path.as_bytes().len()
                ),
            },
            Self::HiddenChild { at, share } => format!(
                "{} does not export the dataset at {} with the share {share}: clients see an empty \
                 folder",
                at.host, at.path
            ),
            Self::LeavesShare { link, share } => format!(
                "the symlink {link} leads out of the share at {share}, which the server refuses"
            ),
            Self::NotAdmitted { why, .. } | Self::Unmapped { why, .. } => why.clone(),
            Self::Unseen { at, why: Some(why) } => format!("{} could not be seen: {why}", at.on()),
            Self::Unseen { at, why: None } => format!("{} was not looked at", at.on()),
        }
    }

    /// What a kernel answers at such an end.
    pub fn errno(&self) -> Errno {
        match self {
            Self::NotAFolder { .. } => Errno::NotAFolder,
            Self::Loop | Self::NotFollowed { .. } | Self::ProtectedLink { loops: true, .. } => {
                Errno::Loop
            }
            Self::TooLong { .. } => Errno::NameTooLong,
            Self::LeavesShare { .. } | Self::NotAdmitted { .. } | Self::ProtectedLink { .. } => {
                Errno::Access
            }
            Self::Unmapped { .. } => Errno::Invalid,
            _ => Errno::NoEntry,
        }
    }
}
