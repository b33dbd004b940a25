//! `path/uncovered`.

use crate::layout::service::Service;
use crate::remedy::apply_on_host::recreate_container;
use crate::route::end::End;
use crate::rules::path::{swapped, written_as_host_path};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::path::AbsPath;
use crate::words::remedy::{Remedy, Step};
use crate::words::rule::{Rule, Severity};
use crate::words::text::{nearest, shown};

/// A path that no mapping covers.
pub static RULE: Rule = Rule {
    id: "path/uncovered",
    severity: Severity::Blocker,
    title: "No mapping covers the path",
    means: "The service runs with mappings, and none of them is this path or one of the folders \
            above it. What the service \
            sees there is its own storage.",
    hurts: "The path can't reach the storage host. What is written there vanishes when the \
            container is made anew.",
    fix: "Add a mapping, or write the path as the service sees it, not as the host does.",
    example: "The service maps /mnt/granary/media to /media, and a library's root was set to \
              /mnt/granary/media/films.",
};

/// Judges one root.
pub fn find(site: &Site, case: &UsedPath) -> Vec<Finding> {
    let Some(route) = &case.route else { return Vec::new() };
    let End::Uncovered { mapped } = &route.end else { return Vec::new() };
    if written_as_host_path::meant(site, case).is_some() {
        return Vec::new();
    }
    let service = &case.service.name;
    let message =
        format!("no mapping of {service} covers {}; it maps {}", route.asked, listed(mapped));
    let finding = case.finding_at_end(&RULE, route).says(message);
    let swapped = (!site.is_trial).then(|| swapped(site, case)).flatten().map(Remedy::of);
    let add = Remedy::of(vec![
        Step::words(mapping_to_add(case.service, &route.asked)),
        recreate_container(case.service),
    ]);
    let mut all = swapped.into_iter().chain([add]);
    let first = all.next().unwrap_or_default();
    vec![all.fold(finding.remedy(first), Finding::or_else)]
}

fn listed(paths: &[AbsPath]) -> String {
    match paths {
        [] => "nothing".to_owned(),
        paths => paths.iter().map(ToString::to_string).collect::<Vec<_>>().join(", "),
    }
}

fn mapping_to_add(service: &Service, root: &AbsPath) -> String {
    let targets = service.maps().iter().filter_map(|map| map.to.path.as_ref().ok());
    let targets: Vec<String> = targets.map(ToString::to_string).collect();
    let first =
        root.components().next().map(|part| format!("/{}", shown(part))).unwrap_or_default();
    let near = nearest(&first, targets.iter().map(String::as_str));
    let near = near.map(|near| format!("; or did you mean {near}?")).unwrap_or_default();
    format!(
        "add to the map of {}: {{ from = \"<host folder>\", to = \"{root}\", access = \"ro\" \
         }}{near}",
        service.name
    )
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, done, local};
    use crate::tests::{Scene, mapping};
    use crate::words::terms::Access;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || local(|scene| done(scene.root("/mediax/films"))),
        by_hand: |scene| {
            let map = mapping("/loft/media", "/mediax", Access::ReadOnly);
            scene.service("lantern").map.as_mut().unwrap().push(map);
        },
    };

    #[test]
    fn what_no_mapping_covers_is_told_with_what_there_is() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        let told = "no mapping of lantern covers /mediax/films; it maps /media → add to the map of \
                    lantern: { from = \"<host folder>\", to = \"/mediax/films\", access = \"ro\" \
                    }; or did you mean /media?; on granary: recreate lantern's container with this \
                    mapping";
        assert_eq!(scene.root("/mediax/films").messages_of(&RULE), told);
        // With its sides the wrong way round, the mapping is what is wrong, and no root would help.
        scene.root("/media/films").service("lantern").map =
            Some(vec![mapping("/media", "/loft/media", Access::ReadOnly)]);
        let told = "no mapping of lantern covers /media/films; it maps /loft/media → in the layout \
                    line 7: set from = \"/loft/media\" for lantern's mapping to /loft/media; set \
                    to = \"/media\" for lantern's mapping to /loft/media; on granary: recreate \
                    lantern's container with this mapping";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.service("lantern").map = None;
        assert_eq!(scene.messages_of(&RULE), "", "it runs on its host, and sees all of it");
    }
}
