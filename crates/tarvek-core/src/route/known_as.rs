//! Every name under which a place is known: on its own host, in services, on hosts that mount it,
//! and on clients.

use crate::kernel::subject::Subject;
use crate::layout::host::HostRole;
use crate::route::follow;
use crate::route::hops::{Route, View};
use crate::route::seen_as::with_attached;
use crate::site::join::Site;
use crate::words::path::AbsPath;
use crate::words::place::Place;
use crate::words::terms::Access;

/// One name of a place.
#[derive(Clone, Debug, PartialEq)]
pub struct KnownAs {
    pub view: View,
    /// Whether the view is that of a client only.
    pub is_client: bool,
    pub path: AbsPath,
    /// What every layer on the way lets through.
    pub access: Access,
    /// Whether the way leads to an entry, with every mount in place.
    pub complete: bool,
    pub route: Route,
}

/// All names of a place: the host's own first, then those of services, then those of other hosts.
pub fn known_as(site: &Site, place: &Place) -> Vec<KnownAs> {
    let root = Subject::new(0, 0, []);
    let mut names = Vec::new();
    let own = View::Host(place.host.clone());
    for path in on_its_host(site, place, &own, &root) {
        names.extend(name(site, &own, &root, path, place));
    }
    for service in &site.layout.services {
        let view = View::service(&service.name);
        let (subject, _) = site.subject_of(service);
        let mut points: Vec<AbsPath> =
            service.maps().iter().filter_map(|map| map.to.path.clone().ok()).collect();
        // One that runs straight on its host has the names of that host.
        if service.map.is_none() {
            points.push(AbsPath::root());
        }
        all(site, &view, &subject, points, place, &mut names);
    }
    for host in site.layout.hosts.iter().filter(|host| host.name != place.host) {
        let view = View::Host(host.name.clone());
        let mounts = site.layout.mounts.iter().filter(|mount| mount.host == host.name);
        let mut points: Vec<AbsPath> = mounts.map(|mount| mount.at.clone()).collect();
        let seen = site.mounts(&host.name).into_iter().flat_map(|table| table.entries());
        points.extend(seen.map(|entry| entry.point.clone()));
        points.extend(host.map.iter().filter_map(|map| map.to.path.clone().ok()));
        all(site, &view, &root, points, place, &mut names);
    }
    names
}

/// A place on its own host, and where it is bound to there.
fn on_its_host(site: &Site, place: &Place, view: &View, subject: &Subject) -> Vec<AbsPath> {
    let mut paths = vec![place.path.clone()];
    let declared = site.layout.mounts.iter().filter(|mount| mount.host == place.host);
    let mut points: Vec<AbsPath> = declared.map(|mount| mount.at.clone()).collect();
    let seen = site.mounts(&place.host).into_iter().flat_map(|table| table.entries());
    points.extend(seen.map(|entry| entry.point.clone()));
    for point in points {
        let end = follow(site, view, &point, subject).here().clone();
        if end.path != point
            && end.host == place.host
            && let Some(rest) = place.path.below(&end.path)
        {
            paths.push(point.join(rest));
        }
    }
    paths.sort();
    paths.dedup();
    // The name that was asked for stands first.
    paths.sort_by_key(|path| *path != place.path);
    paths
}

fn all(
    site: &Site,
    view: &View,
    subject: &Subject,
    mut points: Vec<AbsPath>,
    place: &Place,
    names: &mut Vec<KnownAs>,
) {
    with_attached(site, view, subject, &mut points);
    let mut paths: Vec<AbsPath> = Vec::new();
    for point in points {
        let end = follow(site, view, &point, subject).here().clone();
        if end.host == place.host
            && let Some(rest) = place.path.below(&end.path)
        {
            paths.push(point.join(rest));
        }
    }
    paths.sort();
    paths.dedup();
    for path in paths {
        names.extend(name(site, view, subject, path, place));
    }
}

fn name(
    site: &Site,
    view: &View,
    subject: &Subject,
    path: AbsPath,
    place: &Place,
) -> Option<KnownAs> {
    let route = follow(site, view, &path, subject);
    // Another mount or mapping may stand before it.
    if route.here() != place && path != place.path {
        return None;
    }
    let read_only = route.layers.iter().any(|layer| layer.access == Access::ReadOnly);
    let is_client = match view {
        View::Host(name) => {
            site.layout.host(name).is_some_and(|host| host.roles == [HostRole::Client])
        }
        View::Service(_) => false,
    };
    Some(KnownAs {
        view: view.clone(),
        is_client,
        path,
        access: if read_only { Access::ReadOnly } else { Access::ReadWrite },
        complete: route.complete() && route.here() == place,
        route,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tests::Scene;
    use crate::words::terms::Protocol;

    #[test]
    fn a_folder_has_a_name_in_each_view_that_shows_it() {
        let site = Scene::over(Protocol::Nfs).site();
        let told = |path: &str| -> Vec<String> {
            let place = Place::new("granary", AbsPath::new(path.as_bytes()).unwrap());
            let line = |known: KnownAs| {
                format!("{} {} {} {}", known.view, known.path, known.access.word(), known.complete)
            };
            known_as(&site, &place).into_iter().map(line).collect()
        };
        let films = [
            "host:granary /loft/media/films rw true",
            "service:lantern /media/films ro true",
            "host:millrace /mnt/media/films ro true",
        ];
        assert_eq!(told("/loft/media/films"), films);
        assert_eq!(told("/loft"), ["host:granary /loft rw true"]);
        assert_eq!(told("/nowhere"), ["host:granary /nowhere rw false"]);
    }
}
