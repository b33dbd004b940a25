//! `path/*`: what lies at the places that mappings and libraries name.

pub mod case;
pub mod dangling_link;
pub mod link_escapes;
pub mod missing;
pub mod not_a_folder;
pub mod not_absolute;
pub mod shadowed;
pub mod source_missing;
pub mod uncovered;
pub mod wider_than_needed;
pub mod written_as_host_path;
pub mod wrong_translation;

use crate::facts::tree::NodeId;
use crate::kernel::entry::EntryKind;
use crate::layout::mapping::Mapping;
use crate::remedy::apply_on_host::{recreate_container, set_in_service};
use crate::route::end::{End, Missing};
use crate::route::follow;
use crate::route::hops::{Level, Route, View};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::about::About;
use crate::words::evidence::Evidence;
use crate::words::file_name::FileName;
use crate::words::finding::Finding;
use crate::words::part::Part;
use crate::words::path::AbsPath;
use crate::words::place::Place;
use crate::words::remedy::Step;
use crate::words::rule::RuleId;

/// The name that is missing on the way of a root. Where a mount is missing, what lies beneath is
/// nobody's mistake.
fn missing_at<'a>(case: &'a UsedPath) -> Option<(&'a Route, &'a Missing)> {
    let route = case.route.as_ref().filter(|route| route.not_mounted.is_empty())?;
    match &route.end {
        End::Missing(missing) => Some((route, missing)),
        _ => None,
    }
}

/// The mapping in whose source a way broke off, on the service's own host; a name that is missing
/// there is no part of the root.
fn broken_mapping<'a>(case: &'a UsedPath, route: &Route) -> Option<&'a Mapping> {
    let mapping = case.service.maps().get(route.mapping?)?;
    let [Level { view: View::Service(_), path: inside, .. }, Level { view: View::Host(_), .. }] =
        route.levels.as_slice()
    else {
        return None;
    };
    (mapping.to.path.as_ref() == Ok(inside) && mapping.folder().is_some()).then_some(mapping)
}

/// A finding about the mapping, where it is the mapping that is wrong: whatever else leads through
/// it fails alike.
fn about(case: &UsedPath, route: &Route, finding: Finding) -> Finding {
    let Some(mapping) = broken_mapping(case, route) else { return finding };
    let about = About::Service(case.service.name.clone());
    Finding { about, ..finding }.line(mapping.origin.line)
}

/// The root, or the mapping, as it should have been written: the last component of that name before
/// the break is replaced.
fn respelled(
    site: &Site,
    case: &UsedPath,
    route: &Route,
    wrong: &FileName,
    right: &FileName,
) -> Vec<Step> {
    if let Some(mapping) = broken_mapping(case, route) {
        let place = route.innermost_path();
        let Some((from, _)) = mapping.folder() else { return Vec::new() };
        let depth = place.components().count();
        let parts = from.components().enumerate();
        let exact = parts.fold(AbsPath::root(), |path, (n, part)| {
            path.child(if n + 1 == depth { right.as_bytes() } else { part })
        });
        let part = Part::mapping(&case.service.name, &mapping.to.written);
        return vec![site.layout.set_path(part, "from", &exact), recreate_container(case.service)];
    }
    let reached = route.view_path().components().count();
    let parts: Vec<&[u8]> = route.asked.components().collect();
    let name = |part: &[u8]| part == wrong.as_bytes();
    // A name that a mount leads to does not occur in the root; then the mount is what to change.
    let Some(at) = parts.iter().take(reached.max(1)).rposition(|part| name(part)) else {
        let place = route.innermost_path();
        let exact = place.parent().unwrap_or_else(AbsPath::root).child(right.as_bytes());
        return vec![Step::words(format!("name {exact} in the mount that leads there"))];
    };
    let path = parts.iter().enumerate().fold(AbsPath::root(), |path, (n, part)| {
        path.child(if n == at { right.as_bytes() } else { part })
    });
    vec![case.name_instead(site, &path), set_in_service(case.service, case.what())]
}

/// What to do where a mapping has its two sides the wrong way round: with them swapped, the place
/// is reached.
fn swapped(site: &Site, case: &UsedPath) -> Option<Vec<Step>> {
    let mut folders = case.service.maps().iter().filter_map(|map| Some((map, map.folder()?)));
    folders.find_map(|(map, (from, to))| {
        let trial = site.with_sides_swapped(map.origin.line)?;
        let again = case.again(&trial)?;
        again.route.as_ref()?.entry()?;
        let part = Part::mapping(&case.service.name, &map.to.written);
        Some(vec![
            site.layout.set_path(part.clone(), "from", to),
            site.layout.set_path(part, "to", from),
            recreate_container(case.service),
        ])
    })
}

/// Of a symlink no more than these are followed in one library: who has as many has one cause for
/// them.
const MOST_LINKS: usize = 20_000;

/// The symlinks of a library that end in a certain way: as its service sees them, and where they are.
fn links(site: &Site, case: &UsedPath, wanted: impl Fn(&End) -> bool) -> Vec<(AbsPath, Place)> {
    let Some(route) = case.route.as_ref().filter(|_| case.library().is_some()) else {
        return Vec::new();
    };
    let Some((last, top)) = route.entry() else { return Vec::new() };
    let Some(tree) = site.tree(&last.seen_on) else { return Vec::new() };
    let base = tree.path(top);
    let is_link = |node: &NodeId| tree.meta(*node).kind == EntryKind::Symlink;
    let links = tree.below(top).filter(is_link).take(MOST_LINKS);
    let view = View::service(&case.service.name);
    let seen = links.filter_map(|node| {
        let place = Place::new(&last.seen_on, tree.path(node));
        Some((route.asked.join(place.path.below(&base)?), place))
    });
    let is_wanted = |path: &AbsPath| wanted(&follow(site, &view, path, &case.subject).end);
    let mut found: Vec<(AbsPath, Place)> = seen.filter(|(path, _)| is_wanted(path)).collect();
    found.sort();
    found
}

/// One finding of all such symlinks, with the first three.
fn told_of_links(
    rule: RuleId,
    case: &UsedPath,
    links: &[(AbsPath, Place)],
    whither: &str,
    remedy: &str,
) -> Vec<Finding> {
    let (first, more) = links.split_at(links.len().min(3));
    let Some((_, place)) = first.first() else { return Vec::new() };
    let names: Vec<String> = first.iter().map(|(path, _)| path.to_string()).collect();
    let more = if more.is_empty() { String::new() } else { format!(" and {} more", more.len()) };
    let lead = match links.len() {
        1 => format!("a symlink leads {whither}"),
        n => format!("{n} symlinks lead {whither}"),
    };
    let message = format!("{lead}: {}{more}", names.join(", "));
    vec![case.finding(rule).at(place).known(Evidence::Observed).says(message).remedy(remedy)]
}
