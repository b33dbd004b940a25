//! The mounts of a view on the way to both ends, and which end lies on which.

use crate::facts::mounts::MountEntry;
use crate::link::link_paths::LinkPaths;
use crate::link::mount_placement::MountPlacement;
use crate::route::follow;
use crate::route::hops::{Route, View};
use crate::site::join::Site;
use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::place::Place;
use crate::words::terms::Access;

/// One mount of a view.
#[derive(Clone, Debug, PartialEq)]
pub struct Shown {
    /// Where the view has it.
    pub at: AbsPath,
    /// What it shows, on the host that holds it; `None` for what a service keeps for itself.
    pub shows: Option<Place>,
    /// The filesystem's type, if it was seen or declared.
    pub filesystem: Option<Name>,
    pub access: Access,
    /// Whether the source lies on it, and the target folder.
    pub has_source: bool,
    pub has_target: bool,
}

/// More mounts of a view than these say nothing of the two ends.
const MOST: usize = 24;

/// The mounts of the view that are passed on the way to either end, and what else is mapped there,
/// in the order of their places.
pub fn mounts(ends: &LinkPaths) -> Vec<Shown> {
    let (site, source, folder) = (ends.site, &ends.source.folder, &ends.target.folder);
    let mut points = vec![AbsPath::root()];
    for route in [source, folder] {
        let mut here = AbsPath::root();
        for part in route.view_path().components() {
            here.push(part);
            points.push(here.clone());
        }
    }
    if let View::Service(name) = &source.view {
        let maps = site.layout.service(name).map(|service| service.maps()).unwrap_or_default();
        points.extend(maps.iter().filter_map(|map| map.to.path.clone().ok()).take(MOST));
    }
    points.sort();
    points.dedup();
    let at = |point: &AbsPath| follow(site, &source.view, point, &source.subject);
    let mut shown: Vec<Shown> = Vec::new();
    for point in points {
        let route = at(&point);
        let begins = point.parent().is_none_or(|above| {
            !MountPlacement::of(site, &route).is_on_mount_of(MountPlacement::of(site, &at(&above)))
        });
        if begins {
            shown.push(one(site, point, &route));
        }
    }
    for (route, is_source) in [(source, true), (folder, false)] {
        let path = route.view_path();
        let holds = shown.iter_mut().rev().find(|mount| path.within(&mount.at));
        if let Some(mount) = holds {
            if is_source { mount.has_source = true } else { mount.has_target = true }
        }
    }
    shown
}

fn one(site: &Site, at: AbsPath, route: &Route) -> Shown {
    let standing = MountPlacement::of(site, route);
    let access = if route.read_only() { Access::ReadOnly } else { Access::ReadWrite };
    let table = standing.mount().map(MountEntry::access);
    Shown {
        at,
        shows: (!standing.is_own_storage()).then(|| route.here().clone()),
        filesystem: standing.kind().cloned(),
        access: if table == Some(Access::ReadOnly) { Access::ReadOnly } else { access },
        has_source: false,
        has_target: false,
    }
}
