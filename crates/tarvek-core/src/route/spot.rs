//! A place in a view, on the way. It holds a *frame* for every level on which the place has a path:
//! the service, its host, the server behind a mount, and so on.

use std::sync::Arc;

use crate::facts::tree::{Lookup, NodeId};
use crate::kernel::gate::Gate;
use crate::kernel::subject::Subject;
use crate::layout::mapping::Mapping;
use crate::route::end::NotMounted;
use crate::route::hops::{Hop, View, Waypoint};
use crate::site::join::Site;
use crate::words::name::Name;
use crate::words::options::MountOptions;
use crate::words::part::Part;
use crate::words::path::AbsPath;
use crate::words::place::Place;
use crate::words::terms::{Access, Protocol};

/// How a frame is entered from the one outside it.
#[derive(Clone, Debug)]
pub(super) enum Via {
    Top,
    Mapping(Arc<MappingVia>),
    Mount(Arc<MountVia>),
}

impl Via {
    pub(super) fn mount(&self) -> Option<&MountVia> {
        match self {
            Self::Mount(via) => Some(via),
            _ => None,
        }
    }
}

/// A mapping that is passed.
#[derive(Clone, Debug)]
pub(super) struct MappingVia {
    pub(super) to: AbsPath,
    pub(super) access: Access,
    /// What becomes of mounts below it where it is read-only, if that is known.
    pub(super) nested: Option<Access>,
    /// The same in the layout, and its line there.
    pub(super) part: Part,
    pub(super) line: u32,
    /// Whether its source was seen.
    pub(super) seen: bool,
    /// The mount that its source is on.
    pub(super) mount: Option<u64>,
    /// Whether its source is on a server behind a mount.
    pub(super) at_mount: bool,
    /// What made whoever asks somebody else outside.
    pub(super) changed_by: Option<String>,
}

/// A mount that is passed.
#[derive(Clone, Debug)]
pub(super) struct MountVia {
    pub(super) protocol: Protocol,
    pub(super) point: AbsPath,
    /// As it is shown.
    pub(super) source: String,
    pub(super) access: Access,
    pub(super) observed: bool,
    pub(super) options: MountOptions,
    /// The SMB user that connects, where the layout says so.
    pub(super) user: Option<Name>,
    /// Who of those that ask is sent to the server, and what changed them.
    pub(super) sent: Option<(Subject, String)>,
    /// The check that the client makes by itself.
    pub(super) gate: Option<Arc<Gate>>,
    /// What the server offers it as.
    pub(super) offer: Option<OfferVia>,
}

/// The offer of a server behind a mount.
#[derive(Clone, Debug)]
pub(super) struct OfferVia {
    /// The share, if the layout has one.
    pub(super) share: Option<Name>,
    /// Whether this client may write.
    pub(super) access: Access,
    /// What is worth knowing of it, in words.
    pub(super) remark: String,
    /// What made whoever asks somebody else on the server.
    pub(super) changed_by: Option<String>,
}

impl MountVia {
    pub(super) fn new(
        protocol: Protocol,
        point: &AbsPath,
        source: String,
        access: Access,
        options: &MountOptions,
    ) -> Self {
        Self {
            protocol,
            point: point.clone(),
            source,
            access,
            observed: false,
            options: options.clone(),
            user: None,
            sent: None,
            gate: None,
            offer: None,
        }
    }

    /// Whether it is NFSv4.0 or 4.1, whose clients take the umask off before they ask.
    pub(super) fn takes_umask(&self) -> bool {
        let old = |key| matches!(self.options.value(key), Some("4.0" | "4.1"));
        let minor = matches!(self.options.value("minorversion"), Some("0" | "1"));
        self.protocol == Protocol::Nfs && (old("vers") || old("nfsvers") || minor)
    }

    /// The share that it reaches, if the layout has one.
    pub(super) fn share(&self) -> Option<&Name> {
        self.offer.as_ref()?.share.as_ref()
    }
}

/// Who arrives on a server through a mount, and how they may use the share.
pub(super) struct Arrival {
    pub(super) subject: Subject,
    pub(super) offer: OfferVia,
}

/// One level of a spot. Every step makes one of its own: what stays the same from step to step is
/// shared.
#[derive(Clone, Debug)]
pub(super) struct Frame {
    pub(super) level: View,
    pub(super) path: AbsPath,
    /// The entry in the facts of this host.
    pub(super) node: Option<NodeId>,
    /// The folder that the last step started from, and what it found there.
    pub(super) stepped: Option<(NodeId, Lookup)>,
    /// The observed mount that the path is on.
    pub(super) mount: Option<u64>,
    pub(super) via: Via,
    /// Symlinks followed on the way to the start of this frame.
    pub(super) links: Arc<[Hop]>,
    /// Who acts on this level.
    pub(super) subject: Arc<Subject>,
    /// A network mount whose server the site does not know; what is seen is what this host sees.
    pub(super) foreign: Option<Arc<MountVia>>,
}

impl Frame {
    pub(super) fn new(level: View, subject: &Subject) -> Self {
        Self {
            level,
            path: AbsPath::root(),
            node: None,
            stepped: None,
            mount: None,
            via: Via::Top,
            links: Arc::default(),
            subject: Arc::new(subject.clone()),
            foreign: None,
        }
    }

    /// The place on the host that this level is on.
    pub(super) fn at(&self, site: &Site) -> Place {
        Place::new(self.level.machine(site), &self.path)
    }
}

/// The mappings that are attached inside a level.
pub(super) fn maps_of<'a>(site: &'a Site, level: &View) -> &'a [Mapping] {
    match level {
        View::Service(name) => site.layout.service(name).map_or(&[], |service| service.maps()),
        View::Host(name) => site.layout.host(name).map_or(&[], |host| &host.map),
    }
}

/// The entries on a way, from its last one back. Every place on it keeps those before it, and they
/// share them: a path would cost the square of its length otherwise, in memory as well.
#[derive(Clone, Debug, Default)]
pub(super) struct Trail {
    last: Option<Arc<Link>>,
}

#[derive(Clone, Debug)]
struct Link {
    waypoint: Waypoint,
    before: Option<Arc<Link>>,
}

impl Trail {
    pub(super) fn last(&self) -> Option<&Waypoint> {
        self.last.as_ref().map(|last| &last.waypoint)
    }

    pub(super) fn last_mut(&mut self) -> Option<&mut Waypoint> {
        self.last.as_mut().map(|last| &mut Arc::make_mut(last).waypoint)
    }

    pub(super) fn push(&mut self, waypoint: Waypoint) {
        self.last = Some(Arc::new(Link { waypoint, before: self.last.take() }));
    }

    pub(super) fn pop(&mut self) -> Option<Waypoint> {
        let Link { waypoint, before } = Arc::unwrap_or_clone(self.last.take()?);
        self.last = before;
        Some(waypoint)
    }

    pub(super) fn append(&mut self, other: &Self) {
        other.iter().cloned().for_each(|waypoint| self.push(waypoint));
    }

    pub(super) fn retain(&mut self, stays: impl Fn(&Waypoint) -> bool) {
        *self = self.iter().filter(|waypoint| stays(waypoint)).cloned().collect();
    }

    /// From the first one on.
    pub(super) fn iter(&self) -> impl Iterator<Item = &Waypoint> {
        let links = std::iter::successors(self.last.as_deref(), |link| link.before.as_deref());
        let links: Vec<&Link> = links.collect();
        links.into_iter().rev().map(|link| &link.waypoint)
    }

    /// With others before it.
    pub(super) fn after(&mut self, passed: Vec<Waypoint>) {
        *self = passed.into_iter().chain(self.iter().cloned()).collect();
    }

    pub(super) fn to_vec(&self) -> Vec<Waypoint> {
        self.iter().cloned().collect()
    }
}

impl FromIterator<Waypoint> for Trail {
    fn from_iter<I: IntoIterator<Item = Waypoint>>(waypoints: I) -> Self {
        let mut trail = Self::default();
        waypoints.into_iter().for_each(|waypoint| trail.push(waypoint));
        trail
    }
}

impl Drop for Trail {
    /// One by one: links that each drop the one before them would need a stack as deep as the way
    /// is long.
    fn drop(&mut self) {
        let mut next = self.last.take();
        while let Some(link) = next {
            next = Arc::try_unwrap(link).ok().and_then(|mut link| link.before.take());
        }
    }
}

/// A place in a view.
#[derive(Clone, Debug)]
pub(super) struct WalkPosition {
    pub(super) frames: Vec<Frame>,
    pub(super) trail: Trail,
    pub(super) not_mounted: Vec<(usize, NotMounted)>,
    pub(super) mapping: Option<usize>,
    pub(super) volume: Option<Name>,
    /// How many entries of the trail were only passed on the way: by symlinks, and by `..`.
    pub(super) passed: usize,
    /// Whether the walk ended before the last name of the path.
    pub(super) names_left: bool,
}

impl WalkPosition {
    /// Where a level begins.
    pub(super) fn top(level: View, subject: &Subject) -> Self {
        Self {
            frames: vec![Frame::new(level, subject)],
            trail: Trail::default(),
            not_mounted: Vec::new(),
            mapping: None,
            volume: None,
            passed: 0,
            names_left: false,
        }
    }

    /// The checks that clients on the way make by themselves at SMB mounts.
    pub(super) fn gates(&self) -> Vec<Arc<Gate>> {
        self.frames.iter().filter_map(|frame| frame.via.mount()?.gate.clone()).collect()
    }

    /// The innermost level.
    pub(super) fn inner(&self) -> &Frame {
        self.frames.last().expect("a spot has frames")
    }

    /// Leaves what is inside of a frame.
    pub(super) fn cut(&mut self, k: usize) {
        self.frames.truncate(k + 1);
        self.not_mounted.retain(|(frame, _)| *frame <= k);
    }

    pub(super) fn on_smb_server(&self) -> bool {
        self.inner().via.mount().is_some_and(|via| via.protocol == Protocol::Smb)
    }
}

/// What is done with a symlink at the very end.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Last {
    Followed,
    /// It is what was asked for.
    Itself,
}

/// Which entries of an appended path are checked.
#[derive(Clone, Copy)]
pub(super) enum Entrance {
    /// Those above the mount point, and the attached folder.
    Last,
    /// Those above the mount point, and all on the server.
    All,
}
