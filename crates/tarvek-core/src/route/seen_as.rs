//! Under which path a view shows a place of a host.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

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
    // The point whose folder is nearest is the one that is not hidden by another.
    ends(site, view, subject)
        .iter()
        .filter_map(|(point, end)| {
            let rest = place.path.below(&end.path).filter(|_| end.host == place.host)?;
            let path = point.join(rest);
            let there = follow(site, view, &path, subject).here() == place;
            there.then_some((end.path.as_bytes().len(), path))
        })
        .max_by_key(|(length, _)| *length)
        .map(|(_, path)| path)
}

/// Points of views at which something begins, and where their ways end, by who looks: they are
/// asked for again for every place.
#[derive(Default)]
struct RouteEnds(Mutex<HashMap<(View, Subject), EndsOf>>);

type EndsOf = Arc<Vec<(AbsPath, Place)>>;

fn ends(site: &Site, view: &View, subject: &Subject) -> EndsOf {
    // Other rights of a folder may keep the kernel from following a symlink in it.
    if !site.is_as_seen() {
        return Arc::new(ends_anew(site, view, subject));
    }
    let all = site.derived::<RouteEnds>();
    let key = (view.clone(), subject.clone());
    let known =
        |all: &RouteEnds| all.0.lock().unwrap_or_else(PoisonError::into_inner).get(&key).cloned();
    if let Some(known) = known(&all) {
        return known;
    }
    let made: EndsOf = Arc::new(ends_anew(site, view, subject));
    all.0.lock().unwrap_or_else(PoisonError::into_inner).insert(key, Arc::clone(&made));
    made
}

fn ends_anew(site: &Site, view: &View, subject: &Subject) -> Vec<(AbsPath, Place)> {
    let service = match view {
        View::Service(name) => site.layout.service(name).filter(|service| service.map.is_some()),
        View::Host(_) => None,
    };
    let mut points: Vec<AbsPath> = match service {
        Some(service) => service.maps().iter().filter_map(|map| map.to.path.clone().ok()).collect(),
        None => vec![AbsPath::root()],
    };
    with_attached(site, view, subject, &mut points);
    let end = |point: AbsPath| {
        let end = follow(site, view, &point, subject).here().clone();
        (point, end)
    };
    points.into_iter().map(end).collect()
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
