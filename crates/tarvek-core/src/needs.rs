//! Which places of a host have to be looked at, so that a question can be answered.

use crate::identity::Subject;
use crate::path::AbsPath;
use crate::route::{Route, View, attached_below, follow};
use crate::site::Site;

/// The places of a host that the libraries of the site lead to, by what is known without having looked there.
pub fn for_libraries(site: &Site, host: &str) -> Vec<AbsPath> {
    let site = &site.without_namespaces();
    let mut places = Vec::new();
    for service in &site.layout.services {
        let view = View::Service(service.name.clone());
        let (subject, _) = site.subject_of(service);
        for root in service.libraries.iter().flat_map(|library| &library.roots) {
            let Ok(path) = &root.path else { continue };
            let route = follow(site, &view, path, &subject);
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

/// The places of a host that its survey should cover: what it offers, what services see of it, and what libraries lead to.
/// Of places inside each other only the outer one is named; shares of other hosts are theirs to survey.
pub fn for_survey(site: &Site, host: &str) -> Vec<AbsPath> {
    let site = &site.without_namespaces();
    let mut places = for_libraries(site, host);
    places.extend(
        site.layout.host(host).into_iter().flat_map(|host| &host.datasets).map(|d| d.at.clone()),
    );
    places.extend(site.layout.shares.iter().filter(|s| s.host == host).map(|s| s.path.clone()));
    places.extend(site.layout.folders.iter().filter(|f| f.host == host).map(|f| f.path.clone()));
    for service in site.layout.services.iter().filter(|service| service.host == host) {
        let view = View::Service(service.name.clone());
        let (subject, _) = site.subject_of(service);
        for map in service.map.as_deref().unwrap_or(&[]) {
            if let Ok(to) = &map.to.path {
                places.extend(on_host(&follow(site, &view, to, &subject), host));
            }
        }
        places.extend(service.config.clone());
    }
    let network = site.layout.mounts.iter().filter(|m| m.host == host && m.protocol.is_network());
    let points: Vec<&AbsPath> = network.map(|mount| &mount.at).collect();
    places.retain(|place| !points.iter().any(|point| place.within(point)));
    places.sort();
    places.dedup();
    let all = places.clone();
    places.retain(|place| !all.iter().any(|other| place != other && place.within(other)));
    places
}

/// The mount points that the layout declares on a host.
pub fn mount_points(site: &Site, host: &str) -> Vec<AbsPath> {
    site.layout.mounts.iter().filter(|m| m.host == host).map(|m| m.at.clone()).collect()
}

/// The places of a host on the way of one path.
pub fn for_path(site: &Site, host: &str, view: &View, path: &AbsPath) -> Vec<AbsPath> {
    let subject = Subject::new(0, 0, []);
    on_host(&follow(&site.without_namespaces(), view, path, &subject), host).collect()
}

fn on_host<'a>(route: &'a Route, host: &'a str) -> impl Iterator<Item = AbsPath> + 'a {
    route.levels.iter().filter_map(move |(view, path)| match view {
        View::Host(name) if name == host => Some(path.clone()),
        _ => None,
    })
}
