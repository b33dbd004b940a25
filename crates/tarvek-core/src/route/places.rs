//! Which places of a host have to be looked at, so that a question can be answered.

use std::collections::HashSet;

use crate::facts::tree::Lookup;
use crate::kernel::subject::Subject;
use crate::layout::service::Service;
use crate::route::attached::attached_below;
use crate::route::end::{End, Missing};
use crate::route::hops::{Route, View};
use crate::route::near_miss::near_misses;
use crate::route::{follow, follow_written};
use crate::site::join::Site;
use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::terms::Kind;

/// The places of a host that the libraries and intakes of the site lead to, by what is known
/// without having looked there.
pub fn for_libraries(site: &Site, host: &Name) -> Vec<AbsPath> {
    let site = &site.without_namespaces();
    let mut places = Vec::new();
    for service in &site.layout.services {
        let view = View::service(&service.name);
        let (subject, _) = site.subject_of(service);
        for path in of_service(site, service) {
            let route = follow(site, &view, &path, &subject);
            let below = attached_below(site, &route);
            places.extend(on_host(&route, host));
            for place in below {
                places.extend(on_host(&follow(site, &view, &place, &subject), host));
            }
        }
    }
    places.sort();
    places.dedup();
    places
}

/// Where the way of a library or an intake breaks off at a missing name of a host, and what kind of
/// media was looked for there.
fn missing_names(site: &Site, host: &Name) -> Vec<(Missing, Option<Kind>)> {
    let mut all = Vec::new();
    for service in &site.layout.services {
        let view = View::service(&service.name);
        let (subject, _) = site.subject_of(service);
        for path in of_service(site, service) {
            let kind = service.libraries.iter().find_map(|library| {
                let is_root = library.roots.iter().any(|root| root.path.as_ref() == Ok(&path));
                is_root.then_some(library.kind)
            });
            if let End::Missing(missing) = follow(site, &view, &path, &subject).end
                && missing.folder.host == *host
            {
                all.push((missing, kind));
            }
        }
    }
    all
}

/// The folders around missing names of a host, whose names tell what may have been meant: the folder
/// itself, the one above, and those in it.
pub fn around_missing(site: &Site, host: &Name) -> Vec<AbsPath> {
    const MOST_IN_IT: usize = 64;
    let Some(tree) = site.tree(host) else { return Vec::new() };
    let mut places = Vec::new();
    for (missing, _) in missing_names(site, host) {
        let folder = missing.folder.path;
        places.extend(folder.parent());
        if let Lookup::Found(node) = tree.find(&folder) {
            let below = tree.children(node).filter(|child| tree.meta(*child).is_folder());
            places.extend(below.take(MOST_IN_IT).map(|child| tree.path(child)));
        }
        places.push(folder);
    }
    places.sort();
    places.dedup();
    places
}

/// Folders of a host that may have been meant where a name is missing, so that they can be looked
/// into.
pub fn near_misses_of(site: &Site, host: &Name) -> Vec<AbsPath> {
    let missing = missing_names(site, host);
    let near = missing.iter().flat_map(|(missing, kind)| near_misses(site, missing, *kind));
    outermost(near.map(|place| place.path).collect())
}

/// The places of a host that its survey should cover: what it offers, what services see of it, and
/// what libraries lead to. Of places inside each other only the outer one is named; shares of other
/// hosts are theirs to survey.
pub fn for_survey(site: &Site, host: &Name) -> Vec<AbsPath> {
    let site = &site.without_namespaces();
    let layout = &site.layout;
    let mut places = for_libraries(site, host);
    let declared = layout.host(host).into_iter().flat_map(|host| &host.datasets);
    places.extend(declared.map(|dataset| dataset.at.clone()));
    let offered = layout.shares.iter().filter(|share| share.host == *host);
    places.extend(offered.map(|share| share.path.clone()));
    let folders = layout.folders.iter().filter(|folder| folder.host == *host);
    places.extend(folders.map(|folder| folder.path.clone()));
    for service in layout.services.iter().filter(|service| service.host == *host) {
        let view = View::service(&service.name);
        let (subject, _) = site.subject_of(service);
        for to in service.maps().iter().filter_map(|map| map.to.path.as_ref().ok()) {
            places.extend(on_host(&follow(site, &view, to, &subject), host));
        }
        places.extend(service.config.clone());
    }
    let network = layout.mounts.iter().filter(|m| m.host == *host && m.protocol.is_network());
    let points: Vec<&AbsPath> = network.map(|mount| &mount.at).collect();
    places.retain(|place| !points.iter().any(|point| place.within(point)));
    outermost(places)
}

/// Of places inside each other the outer ones, in order, each once.
pub fn outermost(mut places: Vec<AbsPath>) -> Vec<AbsPath> {
    places.sort();
    places.dedup();
    let all: HashSet<AbsPath> = places.iter().cloned().collect();
    places.retain(|place| {
        !std::iter::successors(place.parent(), AbsPath::parent).any(|above| all.contains(&above))
    });
    places
}

/// What a service uses, as it sees it: its libraries, and its part of intakes.
pub fn of_service(site: &Site, service: &Service) -> Vec<AbsPath> {
    let libraries = service.libraries.iter().flat_map(|library| &library.roots);
    let mut places: Vec<_> = libraries.filter_map(|root| root.path.clone().ok()).collect();
    for intake in &site.layout.intakes {
        if let Some(fetch) = intake.fetch.as_ref().filter(|fetch| fetch.service == service.name) {
            let folders = fetch.partial.iter().chain([&fetch.done]);
            places.extend(folders.map(|folder| folder.path.clone()));
        }
        if let Some(sort) = intake.sort.as_ref().filter(|sort| sort.service == service.name) {
            places.extend([sort.reads.path.clone(), sort.files_into.path.clone()]);
        }
    }
    places
}

/// The mount points that the layout declares on a host.
pub fn mount_points(site: &Site, host: &Name) -> Vec<AbsPath> {
    site.layout.mounts.iter().filter(|m| m.host == *host).map(|m| m.at.clone()).collect()
}

/// The folders of a host that services map.
pub fn mapped_folders(site: &Site, host: &Name) -> Vec<AbsPath> {
    let of_host = site.layout.services.iter().filter(|service| service.host == *host);
    let maps = of_host.flat_map(|service| service.maps());
    maps.filter_map(|map| Some(map.folder()?.0.clone())).collect()
}

/// The places of a host on the way of one path, as far as the way is known, and whether it ends
/// there: those where it ends, and all whose entries are checked before that.
pub fn for_path(site: &Site, host: &Name, view: &View, written: &[u8]) -> Vec<(AbsPath, bool)> {
    let site = &site.without_namespaces();
    let subject = Subject::new(0, 0, []);
    let route = follow_written(site, view, written, &subject);
    let mut places: Vec<(AbsPath, bool)> = on_host(&route, host).map(|path| (path, true)).collect();
    for below in attached_below(site, &route) {
        let attached = follow(site, view, &below, &subject);
        places.extend(on_host(&attached, host).map(|path| (path, true)));
    }
    let passed = route.trail.iter().map(|waypoint| &waypoint.at);
    let hops = route.hops.iter().flat_map(|hop| [&hop.from, &hop.to]);
    // A path of a service or a system container is none of its host's.
    let hops = hops.filter(|_| matches!(view, View::Host(_)));
    let on_the_way = passed.chain(hops).filter(|place| place.host == *host);
    places.extend(on_the_way.map(|place| (place.path.clone(), false)));
    // What is covered where the way ends decides whether it may be removed.
    if let Some([.., above, last]) = route.trail.get(route.passed..)
        && last.attached
        && above.at.host == *host
        && let Some(name) = route.view_path().name()
    {
        places.push((above.at.path.child(name), false));
    }
    if let End::Unseen { at, .. } | End::NotAFolder { at, .. } = &route.end
        && at.host == *host
    {
        places.push((at.path.clone(), true));
    }
    places.sort();
    places.dedup();
    places
}

fn on_host<'a>(route: &'a Route, host: &'a Name) -> impl Iterator<Item = AbsPath> + 'a {
    route.levels.iter().filter_map(move |level| match &level.view {
        View::Host(name) if name == host => Some(level.path.clone()),
        _ => None,
    })
}
