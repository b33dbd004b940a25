//! `path/source-missing`.

use crate::kernel::subject::Subject;
use crate::layout::mapping::Mapping;
use crate::layout::service::Service;
use crate::remedy::apply_on_host::recreate_container;
use crate::route::end::{End, Missing};
use crate::route::follow;
use crate::route::hops::{Route, View};
use crate::route::near_miss::near_misses;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::about::About;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::part::Part;
use crate::words::path::AbsPath;
use crate::words::place::Place;
use crate::words::remedy::{Remedy, Step};
use crate::words::rule::{Rule, Severity};

/// A folder that is mapped and not there.
pub static RULE: Rule = Rule {
    id: "path/source-missing",
    severity: Severity::Risk,
    title: "A mapped folder does not exist",
    means: "The source of a mapping was looked for on its host, and is not there. No library or \
            intake leads through it; where one does, path/missing speaks of it.",
    hurts: "An engine makes the folder, empty and owned by root, or refuses to start the \
            container; what the service writes there lies where nobody looks for it.",
    fix: "Correct the source, or make the folder with the owner that it should have, before the \
          container is started.",
    example: "lantern maps /srv/latern to /config, and millrace has /srv/lantern only.",
};

/// Judges every mapping of a folder on a host that was looked at.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for service in &site.layout.services {
        for (n, mapping) in service.maps().iter().enumerate() {
            let Some((from, _)) = mapping.folder() else { continue };
            let view = View::host(&service.host);
            let route = follow(site, &view, from, &Subject::new(0, 0, []));
            let End::Missing(missing) = &route.end else { continue };
            let is_told = |case: &&UsedPath| {
                case.service.name == service.name
                    && case.route.as_ref().is_some_and(|route| route.mapping == Some(n))
            };
            if route.not_mounted.is_empty() && !cases.iter().any(|case| is_told(&case)) {
                findings.push(told(site, service, mapping, from, (&route, missing)));
            }
        }
    }
    findings
}

fn told(
    site: &Site,
    service: &Service,
    mapping: &Mapping,
    from: &AbsPath,
    (route, missing): (&Route, &Missing),
) -> Finding {
    let place = Place::new(&service.host, from);
    let why = match from.as_bytes().contains(&b'$') {
        true => "it holds a placeholder that nothing has filled".to_owned(),
        false => format!("{} has no {:?}", missing.folder.on(), missing.name),
    };
    let message = format!("{} maps {from} to {}: {why}", service.name, mapping.to.written);
    let about = About::Service(service.name.clone());
    let finding = RULE.finding(about).at(&place).line(mapping.origin.line);
    finding
        .known(Evidence::Observed)
        .says(message)
        .remedy(remedy(site, service, mapping, route, missing))
}

/// The folder that is meant, if what is left of the path is below it.
fn remedy(
    site: &Site,
    service: &Service,
    mapping: &Mapping,
    route: &Route,
    missing: &Missing,
) -> Remedy {
    let is_last = route.asked.parent().as_ref() == Some(&missing.folder.path);
    let near = near_misses(site, missing, None).into_iter().next();
    match near.filter(|near| is_last && near.host == service.host) {
        Some(near) => {
            let part = Part::mapping(&service.name, &mapping.to.written);
            let set = site.layout.set_path(part, "from", &near.path);
            Remedy::of(vec![set, recreate_container(service)])
        }
        None => {
            let words = format!(
                "correct the source of {}'s mapping to {}, or make {} with the owner that it \
                 should have",
                service.name, mapping.to.written, route.asked
            );
            Remedy::of(vec![Step::on(&service.host, words)])
        }
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, local, nothing};
    use crate::tests::{Scene, mapping};
    use crate::words::terms::Access;

    fn with_mapping(scene: &mut Scene, from: &str) {
        let map = scene.service("lantern").map.as_mut().unwrap();
        map.push(mapping(from, "/config", Access::ReadWrite));
        scene.tree("granary", "d 0750 840:840 /srv/lantern");
    }

    pub(crate) const PROMISE: Promise =
        Promise { scene: || local(|scene| with_mapping(scene, "/srv/latern")), by_hand: nothing };

    #[test]
    fn a_mapped_folder_is_there_or_one_like_it_is_named() {
        let told = |from: &str| {
            let mut scene = Scene::local();
            with_mapping(&mut scene, from);
            scene.messages_of(&RULE)
        };
        assert_eq!(told("/srv/lantern"), "");
        assert_eq!(
            told("/srv/latern"),
            "lantern maps /srv/latern to /config: /srv on granary has no \"latern\" → in the \
             layout line 7: set from = \"/srv/lantern\" for lantern's mapping to /config; on \
             granary: recreate lantern's container with this mapping"
        );
        assert!(told("/srv/${NAME}/x").contains("a placeholder that nothing has filled"));
        let mut scene = Scene::local();
        scene.service("lantern").map =
            Some(vec![mapping("/loft/medai", "/media", Access::ReadOnly)]);
        assert_eq!(scene.messages_of(&RULE), "", "a library leads there");
    }
}
