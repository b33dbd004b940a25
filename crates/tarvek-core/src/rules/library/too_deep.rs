//! `library/too-deep`.

use crate::facts::tree::NodeId;
use crate::forecast::filed::season_of;
use crate::forecast::key::key;
use crate::forecast::reading::read;
use crate::forecast::titles::{Fault, Forecast};
use crate::remedy::apply_on_host::set_in_service;
use crate::route::hops::Route;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::path::AbsPath;
use crate::words::remedy::Remedy;
use crate::words::rule::{Rule, Severity};
use crate::words::terms::Kind;

/// The root is one title.
pub static RULE: Rule = Rule {
    id: "library/too-deep",
    severity: Severity::Risk,
    title: "The root is one title",
    means: "The root is the folder of one film, show, season or album, not the folder that holds \
            the titles.",
    hurts: "A scan takes what lies in it for titles: parts for films, seasons for shows. Titles \
            beside it are never found.",
    fix: "Set the root to the folder that holds the titles.",
    example: "The root is /media/films/The Salt Orchard (2011).",
};

/// Judges one root.
pub fn find(site: &Site, case: &UsedPath) -> Vec<Finding> {
    let (Some(route), Some(forecast)) = (&case.route, &case.forecast) else { return Vec::new() };
    let Some((title, above)) = title(site, case, route, forecast) else { return Vec::new() };
    let message = format!("the root {} is {title}", case.root.written);
    let finding = case.finding_at_end(&RULE, route).says(message);
    let mut parents = Vec::new();
    let mut here = route.asked.clone();
    for _ in 0..above {
        let Some(parent) = here.parent().filter(|parent| !parent.is_root()) else { break };
        parents.insert(0, parent.clone());
        here = parent;
    }
    let set = |path: &AbsPath| {
        Remedy::of(vec![case.name_instead(site, path), set_in_service(case.service, case.what())])
    };
    let none = Remedy::from("name the folder that holds the titles as the root".to_owned());
    let mut remedies = parents.iter().map(set).chain([none]);
    let first = remedies.next().expect("there is one at least");
    vec![remedies.fold(finding.remedy(first), Finding::or_else)]
}

/// Which title a root is, and how many folders above it the titles may stand.
fn title(
    site: &Site,
    case: &UsedPath,
    route: &Route,
    forecast: &Forecast,
) -> Option<(String, usize)> {
    let (end, node) = route.entry()?;
    let name = String::from_utf8_lossy(end.at.path.name()?).into_owned();
    let direct = forecast.of(Fault::Loose).map_or(0, |loose| loose.count);
    match case.library()?.kind {
        Kind::Films => {
            let loose = forecast.of(Fault::Loose)?;
            let own = read(&name);
            let only = loose.told.first()?.filed.as_ref().ok()?;
            let called = !own.title.is_empty() && key(&own.title) == key(&only.title);
            let dated = own.year.is_some() && !own.years && !own.title.is_empty();
            (forecast.titles == 1 && direct == forecast.files && (called || dated))
                .then(|| (format!("the film {name}"), 1))
        }
        Kind::Series => {
            if season_of(&name).is_some() && direct == forecast.files && direct > 0 {
                return Some((format!("one season: {name}"), 2));
            }
            let seasons = || seasons(site, &end.seen_on, node);
            seasons().then(|| (format!("the show {name}"), 1))
        }
        Kind::Music => {
            let first = &forecast.of(Fault::Loose)?.told.first()?.file.view;
            let track = first.name()?.first()?.is_ascii_digit();
            (direct == forecast.files && track).then(|| (format!("the album {name}"), 2))
        }
        Kind::Books | Kind::Photos | Kind::HomeVideo => None,
    }
}

/// Whether seasons stand in a folder.
fn seasons(site: &Site, host: &crate::words::name::Name, node: NodeId) -> bool {
    let Some(tree) = site.tree(host) else { return false };
    let is_season = |child: &NodeId| {
        tree.meta(*child).is_folder()
            && season_of(&String::from_utf8_lossy(tree.name(*child))).is_some_and(|n| n > 0)
    };
    let mut children = tree.children(node);
    children.any(|child| is_season(&child))
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, done, local, nothing};
    use crate::tests::Scene;
    use crate::words::terms::Kind;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || local(|scene| done(scene.root("/media/films/Low Water (2003)"))),
        by_hand: nothing,
    };

    #[test]
    fn a_root_holds_titles() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.root("/media/films/Low Water (2003)");
        let told = "the root /media/films/Low Water (2003) is the film Low Water (2003) → in the \
                    layout line 7: change root /media/films/Low Water (2003) of lantern's library \
                    Films to /media/films; on granary: set it as the root in lantern as well";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.tree(
            "granary",
            "f 0644 0:0 /loft/media/series/Ferry Nine/Season 01/Ferry Nine S01E01.mkv",
        );
        scene.service("lantern").libraries[0].kind = Kind::Series;
        for (root, is) in [
            ("/media/series", ""),
            (
                "/media/series/Ferry Nine",
                "the root /media/series/Ferry Nine is the show Ferry Nine",
            ),
            (
                "/media/series/Ferry Nine/Season 01",
                "the root /media/series/Ferry Nine/Season 01 is one season: Season 01",
            ),
        ] {
            let told = scene.root(root).messages_of(&RULE);
            assert!(told.starts_with(is) && told.is_empty() == is.is_empty(), "{told}");
            assert!(is.is_empty() || told.contains(" to /media/series;"), "{told}");
        }
    }
}
