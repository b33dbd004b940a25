//! Names that something leads through, and would break if they were changed.

use std::collections::HashSet;
use std::sync::{Arc, OnceLock};

use crate::facts::tree::{Lookup, NodeId, Tree};
use crate::kernel::entry::EntryKind;
use crate::kernel::subject::Subject;
use crate::route::follow;
use crate::route::hops::{Route, View};
use crate::site::join::Site;
use crate::used::areas::named;
use crate::used::used_path::used_paths_unread;
use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::place::Place;

/// Of a host no more symlinks than these are followed.
const MOST_LINKS: usize = 20_000;

/// The places of a site that libraries, intakes, mappings, shares, mounts, the layout's folders and
/// symlinks lead through by their names.
#[derive(Debug, Default)]
pub struct NamesInUse {
    places: HashSet<Place>,
    /// Hosts with more symlinks than were followed.
    unsettled: HashSet<Name>,
}

impl NamesInUse {
    /// All of a site; found out once.
    pub fn of(site: &Site) -> Arc<OnceLock<Self>> {
        let known = site.derived::<OnceLock<Self>>();
        known.get_or_init(|| Self::find(site));
        known
    }

    fn find(site: &Site) -> Self {
        let mut all = Self::default();
        for case in used_paths_unread(site) {
            all.places.extend(case.route.iter().flat_map(places_of).cloned());
        }
        for place in named(site) {
            all.add(&place.host, &place.path);
        }
        let root = Subject::new(0, 0, []);
        for service in &site.layout.services {
            let view = View::host(&service.host);
            for (from, _) in service.maps().iter().filter_map(|map| map.folder()) {
                all.places.extend(places_of(&follow(site, &view, from, &root)).cloned());
            }
        }
        for host in &site.layout.hosts {
            for dataset in &host.datasets {
                all.add(&host.name, &dataset.at);
            }
        }
        for (host, facts) in site.observed() {
            let table = facts.mounts.iter().flat_map(|table| table.entries());
            for point in table.map(|m| &m.point).chain(facts.fstab.iter().map(|l| &l.point)) {
                all.add(host, point);
            }
            if let Some(tree) = site.tree(host) {
                all.add_links(site, host, tree);
            }
        }
        all
    }

    /// Whether something leads through a name, as far as that can be told; where it can't, it does.
    pub fn has(&self, place: &Place) -> bool {
        self.places.contains(place) || self.unsettled.contains(&place.host)
    }

    /// A place, and every folder above it.
    fn add(&mut self, host: &Name, path: &AbsPath) {
        let above = std::iter::successors(Some(path.clone()), AbsPath::parent);
        self.places.extend(above.map(|path| Place::new(host, path)));
    }

    /// Where the symlinks of a host lead. One that leads downwards from where it lies goes with the
    /// folders above it, whatever they are called.
    fn add_links(&mut self, site: &Site, host: &Name, tree: &Tree) {
        let Lookup::Found(top) = tree.find(&AbsPath::root()) else { return };
        let is_link = |node: &NodeId| tree.meta(*node).kind == EntryKind::Symlink;
        let (view, root) = (View::host(host), Subject::new(0, 0, []));
        for (n, link) in tree.below(top).filter(is_link).enumerate() {
            if n >= MOST_LINKS {
                self.unsettled.insert(host.clone());
                return;
            }
            let path = tree.path(link);
            let target = tree.target(link).unwrap_or_default();
            let leads_up =
                target.starts_with(b"/") || target.split(|b| *b == b'/').any(|c| c == b"..");
            let route = follow(site, &view, &path, &root);
            let by_name = places_of(&route).filter(|at| leads_up || !path.within(&at.path));
            self.places.extend(by_name.filter(|at| at.path != path).cloned());
        }
    }
}

/// The places of a way, its end among them.
fn places_of(route: &Route) -> impl Iterator<Item = &Place> {
    route.trail.iter().map(|waypoint| &waypoint.at).chain([route.here()])
}
