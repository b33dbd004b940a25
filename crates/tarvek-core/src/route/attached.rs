//! What is attached below the end of a route.

use crate::route::hops::{Route, View};
use crate::route::spot::maps_of;
use crate::site::join::Site;
use crate::words::path::AbsPath;

/// The places below a route's end, as its view sees them, where something else is attached: deeper mappings, mounts and
/// datasets. What lies there is not what the folder beneath holds.
pub fn attached_below(site: &Site, route: &Route) -> Vec<AbsPath> {
    let mut places = Vec::new();
    for (level, base) in &route.levels {
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
