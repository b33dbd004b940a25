//! `layout/no-library`.

use crate::layout::service::Service;
use crate::route::follow;
use crate::route::hops::View;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::about::About;
use crate::words::finding::Finding;
use crate::words::kind_names::{kind_by_name, usual_library_name};
use crate::words::path::AbsPath;
use crate::words::remedy::Step;
use crate::words::rule::{Rule, Severity};
use crate::words::terms::Kind;

/// A site of which nothing can be ready.
pub static RULE: Rule = Rule {
    id: "layout/no-library",
    severity: Severity::Risk,
    title: "The site has no library and no intake",
    means: "No service serves a library, and no download is filed anywhere, so that the board has \
            no row.",
    hurts: "A site of which nothing is asked has nothing wrong with it, and nothing that is ready.",
    fix: "Declare the libraries of the services that serve, and the intakes; or adopt the \
          configuration that has them.",
    example: "lantern serves, and has a mapping to /media, but no libraries.",
};

/// How many folders are named that look like libraries.
const MOST: usize = 8;

/// Judges the site as a whole.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    if !cases.is_empty() {
        return Vec::new();
    }
    let candidates = site.layout.services.iter().flat_map(|service| {
        let folders = folders_of_a_kind(site, service).into_iter();
        folders.map(move |(kind, folder)| declaration(service, kind, &folder))
    });
    let mut steps: Vec<Step> = candidates.take(MOST).map(Step::words).collect();
    if steps.is_empty() {
        let words = "declare what is served, under the service that serves it: libraries = \
                     [{ name = \"Films\", kind = \"films\", roots = [\"/media/films\"] }]";
        steps.push(Step::words(words));
    }
    let message = "no library and no intake is declared, so that nothing of it can be ready";
    let about = About::Site(site.layout.site.clone());
    vec![RULE.finding(about).says(message).remedy(steps)]
}

/// What would make a folder a library.
fn declaration(service: &Service, kind: Kind, folder: &AbsPath) -> String {
    format!(
        "{folder} of {} speaks of {}; if it serves that, give it role = \"serve\" and libraries = \
         [{{ name = \"{}\", kind = \"{}\", roots = [\"{folder}\"] }}]",
        service.name,
        kind.word(),
        usual_library_name(kind),
        kind.word()
    )
}

/// Folders that a service sees, and the kind that their names speak of: what is mapped, and what
/// lies in it.
fn folders_of_a_kind(site: &Site, service: &Service) -> Vec<(Kind, AbsPath)> {
    let (subject, _) = site.subject_of(service);
    let view = View::service(&service.name);
    let mut folders = Vec::new();
    for to in service.maps().iter().filter_map(|map| map.to.path.as_ref().ok()) {
        if let Some(kind) = to.name().and_then(kind_by_name) {
            folders.push((kind, to.clone()));
            continue;
        }
        let route = follow(site, &view, to, &subject);
        let Some((at, node)) = route.entry() else { continue };
        let Some(tree) = site.tree(&at.seen_on) else { continue };
        let below = tree.children(node).filter(|child| tree.meta(*child).is_folder());
        folders.extend(below.filter_map(|child| {
            let path = tree.path(child);
            let name = path.name()?;
            Some((kind_by_name(name)?, to.join(name)))
        }));
    }
    folders
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, local};
    use crate::tests::Scene;

    fn without_libraries(scene: &mut Scene) {
        scene.service("lantern").libraries.clear();
    }

    pub(crate) const PROMISE: Promise = Promise {
        scene: || local(without_libraries),
        by_hand: |scene| {
            let libraries = Scene::local().service("lantern").libraries.clone();
            scene.service("lantern").libraries = libraries;
        },
    };

    #[test]
    fn a_site_of_which_nothing_is_asked_says_so() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        without_libraries(&mut scene);
        assert_eq!(
            scene.messages_of(&RULE),
            "no library and no intake is declared, so that nothing of it can be ready → /media/films \
             of lantern speaks of films; if it serves that, give it role = \"serve\" and libraries = \
             [{ name = \"Films\", kind = \"films\", roots = [\"/media/films\"] }]"
        );
        assert_eq!(Scene::local().with_intake().messages_of(&RULE), "", "an intake is a row");
    }
}
