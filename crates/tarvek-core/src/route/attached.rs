//! What is attached below the end of a route.

use crate::route::follow;
use crate::route::hops::{Route, View, Waypoint};
use crate::route::spot::maps_of;
use crate::site::join::Site;
use crate::words::path::AbsPath;

/// Whether an entry that is not mounted over where the way came is so by another way of the same
/// mount namespace, which keeps it from being removed there too (`is_local_mountpoint` in the
/// kernel).
pub fn is_mount_point(site: &Site, route: &Route, at: &Waypoint) -> bool {
    let Some((table, mount)) = site.mounts(&at.seen_on).zip(at.mount) else { return false };
    let Some(entry) = table.in_filesystem(mount, &at.at.path) else { return false };
    let service = match &route.view {
        View::Service(name) => site.layout.service(name).filter(|service| service.map.is_some()),
        View::Host(_) => None,
    };
    let Some(service) = service else {
        return table.covered().any(|(_, covered)| covered == entry);
    };
    // What a service sees of its host's mounts came along with the folders that are mapped.
    service.maps().iter().any(|map| {
        let Ok(to) = &map.to.path else { return false };
        let source = follow(site, &route.view, to, &route.subject);
        let brought = |point: &AbsPath| {
            source.levels.last().is_some_and(|level| {
                let path = &level.path;
                level.view == View::Host(at.seen_on.clone()) && point.within(path) && point != path
            })
        };
        let parent = to.parent().map(|parent| follow(site, &route.view, &parent, &route.subject));
        // What is covered is the entry itself, or what the host has mounted there already.
        let covers = parent.as_ref().and_then(Route::entry).and_then(|(folder, _)| {
            let name = to.name().filter(|_| folder.seen_on == at.seen_on)?;
            let path = folder.at.path.child(name);
            let mounted = table.mounted_at(&path);
            let mounted = mounted.and_then(|mount| table.in_filesystem(mount.id, &mount.point));
            Some([table.in_filesystem(folder.mount?, &path), mounted])
        });
        covers.into_iter().flatten().flatten().any(|covered| covered == entry)
            || table.covered().any(|(point, covered)| brought(point) && covered == entry)
    })
}

/// The places below a route's end, as its view sees them, where something else is attached: deeper
/// mappings, mounts and datasets. What lies there is not what the folder beneath holds.
pub fn attached_below(site: &Site, route: &Route) -> Vec<AbsPath> {
    let mut places = Vec::new();
    for level in &route.levels {
        let (level, base) = (&level.view, &level.path);
        let mut add = |point: &AbsPath| {
            let rest = point.below(base).filter(|rest| !rest.is_empty());
            places.extend(rest.map(|rest| route.asked.join(rest)));
        };
        let maps = maps_of(site, level).iter();
        maps.filter_map(|map| map.to.path.as_ref().ok()).for_each(&mut add);
        if let View::Host(name) = level {
            let declared = site.layout.mounts.iter().filter(|m| m.host == *name).map(|m| &m.at);
            let datasets = site.layout.host(name).into_iter().flat_map(|host| &host.datasets);
            declared.chain(datasets.map(|dataset| &dataset.at)).for_each(&mut add);
            let observed = site.mounts(name).into_iter().flat_map(|table| table.entries());
            observed.for_each(|entry| add(&entry.point));
        }
    }
    places.sort();
    places.dedup();
    places
}
