//! Under which path a view shows a place of a host.

use crate::kernel::subject::Subject;
use crate::route::attached::attached_below;
use crate::route::follow;
use crate::route::hops::View;
use crate::site::join::Site;
use crate::words::path::AbsPath;
use crate::words::place::Place;

/// Under which path a view shows a place; `None` if it does not.
pub fn seen_as(site: &Site, view: &View, subject: &Subject, place: &Place) -> Option<AbsPath> {
    let own = match view {
        View::Host(name) => Some(name),
        View::Service(name) => {
            let service = site.layout.service(name)?;
            service.map.is_none().then_some(&service.host)
        }
    };
    if own == Some(&place.host) {
        return Some(place.path.clone());
    }
    let mut points: Vec<AbsPath> = match (view, own) {
        (View::Service(name), None) => {
            let maps = site.layout.service(name)?.maps();
            maps.iter().filter_map(|map| map.to.path.clone().ok()).collect()
        }
        _ => vec![AbsPath::root()],
    };
    with_attached(site, view, subject, &mut points);
    // The point whose folder is nearest is the one that is not hidden by another.
    points
        .into_iter()
        .filter_map(|point| {
            let end = follow(site, view, &point, subject).here().clone();
            let rest = place.path.below(&end.path).filter(|_| end.host == place.host)?;
            let path = point.join(rest);
            let there = follow(site, view, &path, subject).here() == place;
            there.then_some((end.path.as_bytes().len(), path))
        })
        .max_by_key(|(length, _)| *length)
        .map(|(_, path)| path)
}

/// Points of a view together with all that is attached below them, in order, each once.
pub(super) fn with_attached(
    site: &Site,
    view: &View,
    subject: &Subject,
    points: &mut Vec<AbsPath>,
) {
    let below: Vec<AbsPath> = points
        .iter()
        .flat_map(|point| attached_below(site, &follow(site, view, point, subject)))
        .collect();
    points.extend(below);
    points.sort();
    points.dedup();
}
