//! `path/shadowed`.

use std::collections::HashMap;

use crate::facts::tree::Listing;
use crate::layout::mapping::Mapping;
use crate::route::end::End;
use crate::route::follow;
use crate::route::hops::{Route, View};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::path::AbsPath;
use crate::words::place::Place;
use crate::words::rule::{Rule, Severity};
use crate::words::text::counted;

/// A mapping that hides part of another.
pub static RULE: Rule = Rule {
    id: "path/shadowed",
    severity: Severity::Risk,
    title: "One mapping hides a subfolder of another",
    means: "Two mappings nest, and a library uses the place where the inner one covers what the \
            outer one would show.",
    hurts: "Files that are there on the host can't be seen by the service, and nothing says so.",
    fix: "Give the inner mapping a place of its own, or drop it if the outer one already shows the \
          right folder.",
    example: "/loft/media is mapped to /media and /loft/old/films to /media/films: the new films \
              are hidden.",
};

/// A mapping inside another, where the root uses the place and the outer mapping would show another
/// folder there.
pub fn find(site: &Site, case: &UsedPath) -> Vec<Finding> {
    let Some(route) = &case.route else { return Vec::new() };
    let maps = case.service.maps();
    let places = || maps.iter().filter_map(|map| Some((map.to.path.as_ref().ok()?, map)));
    let at: HashMap<&AbsPath, &Mapping> = places().collect();
    let mut findings = Vec::new();
    for (place, inner) in places() {
        if !route.asked.within(place) && !place.within(&route.asked) {
            continue;
        }
        let mut above = std::iter::successors(place.parent(), AbsPath::parent);
        let outer = above.find_map(|above| at.get(&above));
        let Some((from, to)) = outer.and_then(|outer| outer.folder()) else { continue };
        let beneath = from.join(place.below(to).unwrap_or_default());
        let shows = inner.folder().map(|(from, _)| from);
        let Some((holds, evidence)) = hidden(site, case, &beneath, shows) else { continue };
        let message =
            format!("the mapping to {place} hides {beneath} of the mapping to {to}; {holds}");
        let remedy = format!("map it beside {to}, not inside it, or drop one of the two mappings");
        findings.push(
            case.finding(&RULE)
                .at(&Place::new(&case.service.host, beneath))
                .line(inner.origin.line)
                .known(evidence)
                .says(message)
                .remedy(remedy),
        );
    }
    findings
}

/// What a folder of the service's host holds that another one is mapped over; `None` if nothing is
/// hidden.
fn hidden(
    site: &Site,
    case: &UsedPath,
    beneath: &AbsPath,
    shows: Option<&AbsPath>,
) -> Option<(String, Evidence)> {
    let view = View::host(&case.service.host);
    let at = |path: &AbsPath| -> Route { follow(site, &view, path, &case.subject) };
    let hidden = at(beneath);
    // Both may show one folder; then nothing is hidden.
    if shows.is_some_and(|shows| at(shows).here() == hidden.here()) {
        return None;
    }
    match (&hidden.end, hidden.entry()) {
        (End::Reached, Some((end, node))) => {
            let tree = site.tree(&end.seen_on)?;
            match (tree.children(node).len() as u64, tree.listing(node)) {
                (0, Listing::Complete) => None,
                (0, _) => Some(("what it holds was not seen".to_owned(), Evidence::Declared)),
                (count, _) => {
                    Some((format!("it holds {}", counted(count, "entry")), Evidence::Observed))
                }
            }
        }
        (End::Missing(_) | End::NotAFolder { .. }, _) => None,
        _ => Some(("whether it is there was not seen".to_owned(), Evidence::Declared)),
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, local};
    use crate::tests::{Scene, mapping};
    use crate::words::terms::Access;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            local(|scene| {
                scene.tree("granary", "f 0644 0:0 /srv/old/A (2001)/A (2001).mkv");
                let inner = mapping("/srv/old", "/media/films", Access::ReadOnly);
                scene.service("lantern").map.as_mut().unwrap().push(inner);
            })
        },
        by_hand: |scene| scene.service("lantern").map.as_mut().unwrap().truncate(1),
    };

    #[test]
    fn what_an_inner_mapping_covers_is_told_if_there_is_something() {
        let mut scene = Scene::local();
        scene.tree("granary", "f 0644 0:0 /srv/old/A (2001).mkv\nd 0755 0:0 /loft/media/empty");
        assert_eq!(scene.messages_of(&RULE), "");
        let inner = |scene: &mut Scene, from: &str, to: &str| {
            let maps = scene.service("lantern").map.as_mut().unwrap();
            maps.truncate(1);
            maps.push(mapping(from, to, Access::ReadOnly));
            scene.messages_of(&RULE)
        };
        let told = "the mapping to /media/films hides /loft/media/films of the mapping to /media; \
                    it holds 1 entry → map it beside \
                    /media, not inside it, or drop one of the two mappings";
        assert_eq!(inner(&mut scene, "/srv/old", "/media/films"), told);
        assert_eq!(
            inner(&mut scene, "/loft/media/films", "/media/films"),
            "",
            "it is the same folder"
        );
        scene.root("/media");
        assert_eq!(inner(&mut scene, "/srv/old", "/media/empty"), "", "nothing is hidden");
        scene.unread("granary", "/loft/media/empty");
        assert!(
            inner(&mut scene, "/srv/old", "/media/empty").contains("what it holds was not seen")
        );
    }
}
