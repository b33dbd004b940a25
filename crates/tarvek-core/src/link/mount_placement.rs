//! On which mount and on which filesystem the end of a route lies.

use crate::facts::mounts::MountEntry;
use crate::route::hops::{Level, Route, View};
use crate::site::join::Site;
use crate::words::name::Name;
use crate::words::terms::Protocol;

/// Where a route ends, as the kernel of its viewpoint tells mounts apart: two ends lie on one mount
/// if they came the same way through mappings and mounts, and are on one entry of every mount table
/// that was seen.
#[derive(Clone, Copy, Debug)]
pub(super) struct MountPlacement<'a> {
    site: &'a Site,
    levels: &'a [Level],
}

/// A filesystem, by what is known of it.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Filesystem {
    /// By its device number in the mount table of a host.
    Device(Name, (u32, u32)),
    /// A dataset that the layout declares, where no mount table was seen.
    Declared(Name, Name),
}

/// Whether the ends of two routes of one view lie on one mount.
pub(crate) fn one_mount(site: &Site, one: &Route, other: &Route) -> bool {
    MountPlacement::of(site, one).is_on_mount_of(MountPlacement::of(site, other))
}

impl<'a> MountPlacement<'a> {
    pub(super) fn of(site: &'a Site, route: &'a Route) -> Self {
        Self { site, levels: &route.levels }
    }

    /// Whether it is the same mount.
    pub(super) fn is_on_mount_of(self, other: Self) -> bool {
        let key = |level: &'a Level| (&level.view, &level.attached_at, level.mount, &level.foreign);
        self.levels.iter().map(key).eq(other.levels.iter().map(key))
    }

    fn inner(self) -> Option<(&'a Level, &'a Name)> {
        let level = self.levels.last()?;
        match &level.view {
            View::Host(host) => Some((level, host)),
            View::Service(_) => None,
        }
    }

    /// The line of the mount table that it is on, on the innermost host.
    pub(super) fn mount(self) -> Option<&'a MountEntry> {
        let (level, host) = self.inner()?;
        self.site.mounts(host)?.entry(level.mount?)
    }

    /// The filesystem, if anybody knows.
    pub(super) fn filesystem(self) -> Option<Filesystem> {
        let (level, host) = self.inner()?;
        if let Some(mount) = self.mount() {
            // What a process sees is on a device of its host.
            let host = self.site.runs_on(host).unwrap_or(host);
            return Some(Filesystem::Device(host.clone(), mount.device));
        }
        let declared = self.site.layout.host(host).into_iter().flat_map(|host| &host.datasets);
        let on = declared.filter(|dataset| level.path.within(&dataset.at));
        let dataset = on.max_by_key(|dataset| dataset.at.components().count())?;
        Some(Filesystem::Declared(host.clone(), dataset.name.clone()))
    }

    /// Its type, if anybody knows.
    pub(super) fn kind(self) -> Option<&'a Name> {
        if let Some(mount) = self.mount() {
            return Some(&mount.filesystem);
        }
        let (level, host) = self.inner()?;
        let declared = self.site.layout.host(host).into_iter().flat_map(|host| &host.datasets);
        let on = declared.filter(|dataset| level.path.within(&dataset.at));
        on.max_by_key(|dataset| dataset.at.components().count())?.filesystem.as_ref()
    }

    /// The protocol by which it is reached, if another machine holds it.
    pub(super) fn through(self) -> Option<Protocol> {
        let level = self.levels.last()?;
        let foreign = level.foreign.as_ref().and_then(|_| self.mount()?.network());
        level.through.or(foreign)
    }

    /// Whether it is held by a server of which nothing is known.
    pub(super) fn is_foreign(self) -> bool {
        self.levels.last().is_some_and(|level| level.foreign.is_some())
    }

    /// Whether it lies in what a service keeps for itself.
    pub(super) fn is_own_storage(self) -> bool {
        self.inner().is_none()
    }

    /// How it is known in a sentence: `ext4 /dev/sdb1 mounted at /tank on granary`.
    pub(super) fn words(self) -> String {
        let attached = self.levels.iter().find_map(|level| level.attached_at.as_ref());
        let by = attached.map(|at| format!("attached at {at}, ")).unwrap_or_default();
        match (self.mount(), self.inner()) {
            (Some(mount), Some((_, host))) => {
                format!("{by}{} mounted at {} on {host}", mount.filesystem, mount.point)
            }
            (None, Some((level, host))) => format!("{by}{} on {host}", level.path),
            (_, None) => "the service's own storage".to_owned(),
        }
    }
}
