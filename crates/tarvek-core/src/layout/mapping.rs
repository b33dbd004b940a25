//! What a service sees of its host, under paths of its own.

use crate::layout::mount::MountSource;
use crate::words::name::Name;
use crate::words::options::MountOptions;
use crate::words::path::{AbsPath, PathFault, components};
use crate::words::terms::{Access, Label, Origin, Protocol};

/// A path that was written where only an absolute one works; a bad one is a finding, not a refusal.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Declared {
    pub written: Name,
    /// What it means.
    pub path: Result<AbsPath, PathFault>,
    pub origin: Origin,
}

impl Declared {
    /// The source of a mapping. Engines take `..` out of an absolute one by its text alone, before
    /// any kernel sees it.
    pub fn source(written: Name, origin: Origin) -> Self {
        let bytes = written.raw().as_bytes();
        let path = AbsPath::of_client(bytes).or_else(|fault| match fault {
            PathFault::DotDot if bytes.starts_with(b"/") => Ok(AbsPath::by_text(bytes)),
            fault => Err(fault),
        });
        Self { written, path, origin }
    }

    /// Whether it has a `..` that was taken out.
    pub fn is_shortened(&self) -> bool {
        self.path.is_ok() && components(self.written.raw().as_bytes()).any(|part| part == b"..")
    }
}

/// What a mapping attaches.
#[derive(Clone, Debug, PartialEq)]
pub enum MapSource {
    /// A folder of the host.
    Folder(Declared),
    /// What another machine offers, mounted by the engine.
    Share(Box<EngineMount>),
    /// Storage that the engine keeps, by its name.
    Volume(Name),
}

/// What an engine mounts from another machine for those that map it.
#[derive(Clone, Debug, PartialEq)]
pub struct EngineMount {
    pub from: MountSource,
    /// The part of it that is mounted, as a path below the share; all of it unless said.
    pub below: Option<Name>,
    /// NFS or SMB.
    pub protocol: Protocol,
    pub options: MountOptions,
    /// The SMB user.
    pub user: Option<Name>,
    /// The file on the host that holds the user's password.
    pub credentials: Option<AbsPath>,
    /// What the engine calls it; services that name the same one share it.
    pub volume: Option<Name>,
}

/// A host path that a service sees under another path.
#[derive(Clone, Debug, PartialEq)]
pub struct Mapping {
    pub source: MapSource,
    /// Where the service sees it.
    pub to: Declared,
    pub access: Access,
    pub label: Option<Label>,
    /// Mount propagation, as the engine names it.
    pub propagation: Option<String>,
    /// What the engine makes of mounts below it where it is read-only: `ro` where it makes them so
    /// too, `rw` where it leaves them. Engines differ, and without this it is not known.
    pub nested: Option<Access>,
    /// Whether it is mounted with the ids of the user namespace (`mount_setattr(2)`,
    /// MOUNT_ATTR_IDMAP), so that files look as if they were numbered from the inside.
    pub idmap: bool,
    pub origin: Origin,
}

impl Mapping {
    /// Whether what is mounted below its source later is seen through it (`mount_namespaces(7)`).
    pub fn follows_mounts(&self) -> bool {
        let word = self.propagation.as_deref().map(|word| word.trim_start_matches('r'));
        matches!(word, Some("slave" | "shared"))
    }

    /// The host's folder that it shows and where, if both are absolute.
    pub fn folder(&self) -> Option<(&AbsPath, &AbsPath)> {
        let MapSource::Folder(Declared { path: Ok(from), .. }) = &self.source else { return None };
        Some((from, self.to.path.as_ref().ok()?))
    }
}
