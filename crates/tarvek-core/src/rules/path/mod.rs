//! `path/*`: what lies at the places that mappings and libraries name.

pub mod case;
pub mod missing;
pub mod not_a_folder;
pub mod not_absolute;
pub mod shadowed;
pub mod uncovered;
pub mod wrong_translation;

use crate::layout::mapping::{Declared, MapSource, Mapping};
use crate::route::end::{End, Missing};
use crate::route::hops::{Route, View};
use crate::rules::case::Case;
use crate::rules::real::{in_container, in_service};
use crate::site::join::Site;
use crate::words::about::About;
use crate::words::file_name::FileName;
use crate::words::finding::Finding;
use crate::words::path::AbsPath;
use crate::words::remedy::Step;

/// The name that is missing on the way of a root. Where a mount is missing, what lies beneath is nobody's mistake.
fn missing_at<'a>(case: &'a Case) -> Option<(&'a Route, &'a Missing)> {
    let route = case.route.as_ref().filter(|route| route.not_mounted.is_empty())?;
    match &route.end {
        End::Missing(missing) => Some((route, missing)),
        _ => None,
    }
}

/// The mapping in whose source a way broke off, on the service's own host; a name that is missing there is no part of the root.
fn broken_mapping<'a>(case: &'a Case, route: &Route) -> Option<&'a Mapping> {
    let mapping = case.service.maps().get(route.mapping?)?;
    let [(View::Service(_), inside), (View::Host(_), _)] = route.levels.as_slice() else {
        return None;
    };
    (mapping.to.path.as_ref() == Ok(inside) && mapping.folder().is_some()).then_some(mapping)
}

/// A finding about the mapping, where it is the mapping that is wrong: whatever else leads through it fails alike.
fn about(case: &Case, route: &Route, finding: Finding) -> Finding {
    let Some(mapping) = broken_mapping(case, route) else { return finding };
    let about = About::Service(case.service.name.clone());
    Finding { about, ..finding }.line(mapping.origin.line)
}

/// The root, or the mapping, as it should have been written: the last component of that name before the break is replaced.
fn respelled(
    case: &Case,
    route: &Route,
    wrong: &FileName,
    right: &FileName,
    before: &str,
) -> Vec<Step> {
    if let Some(mapping) = broken_mapping(case, route) {
        let place = route.levels.last().map(|(_, path)| path.clone()).unwrap_or_else(AbsPath::root);
        let Some((from, _)) = mapping.folder() else { return Vec::new() };
        let depth = place.components().count();
        let parts = from.components().enumerate();
        let exact = parts.fold(AbsPath::root(), |path, (n, part)| {
            path.child(if n + 1 == depth { right.as_bytes() } else { part })
        });
        let MapSource::Folder(Declared { written, origin, .. }) = &mapping.source else {
            return Vec::new();
        };
        let words =
            format!("{before}write {exact} in the mapping to {} in the layout", mapping.to.written);
        return vec![
            Step::rewritten(origin.line, written, &exact, words),
            in_container(case.service),
        ];
    }
    let reached = route.levels.first().map_or(0, |(_, path)| path.components().count());
    let parts: Vec<&[u8]> = route.asked.components().collect();
    let name = |part: &[u8]| part == wrong.as_bytes();
    // A name that a mount leads to does not occur in the root; then the mount is what to change.
    let Some(at) = parts.iter().take(reached.max(1)).rposition(|part| name(part)) else {
        let place = route.levels.last().map(|(_, path)| path.clone()).unwrap_or_else(AbsPath::root);
        let exact = place.parent().unwrap_or_else(AbsPath::root).child(right.as_bytes());
        return vec![Step::words(format!("{before}write {exact} in the mount that leads there"))];
    };
    let path = parts.iter().enumerate().fold(AbsPath::root(), |path, (n, part)| {
        path.child(if n == at { right.as_bytes() } else { part })
    });
    let words = format!("{before}write the {} as {path} in the layout", case.what());
    vec![Step::rewritten(case.root.origin.line, &case.root.written, &path, words), in_service(case)]
}

/// What to do where a mapping has its two sides the wrong way round: with them swapped, the place is reached.
fn swapped(site: &Site, case: &Case) -> Option<Vec<Step>> {
    let mut folders = case.service.maps().iter().filter_map(|map| Some((map, map.folder()?)));
    folders.find_map(|(map, (from, to))| {
        let trial = site.with_sides_swapped(map.origin.line)?;
        let again = case.again(&trial)?;
        again.route.as_ref()?.entry()?;
        let words = format!(
            "swap the two sides of the mapping in line {} of the layout: {{ from = \"{to}\", to = \"{from}\" }}",
            map.origin.line
        );
        Some(vec![Step::words(words), in_container(case.service)])
    })
}
