//! `layout/not-applied`.

use std::collections::HashMap;

use crate::facts::configured::{Fact, MappingFact, ServiceFact};
use crate::kernel::subject::Subject;
use crate::layout::service::{RunAs, Service};
use crate::route::follow;
use crate::route::hops::View;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::about::About;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::remedy::Step;
use crate::words::rule::{Rule, Severity};
use crate::words::text::shown;

/// A service that runs otherwise than declared.
pub static RULE: Rule = Rule {
    id: "layout/not-applied",
    severity: Severity::Blocker,
    title: "What runs is not what is declared",
    means: "A service runs on this host without a mapping that is declared for it, with another \
            folder or access at its place, or under another account.",
    hurts: "Somebody changed a file and never made the container anew: what the layout, and every \
            verdict that rests on it, says of the service is not so.",
    fix: "Make the container anew; or write what runs into the layout.",
    example: "lantern is declared to see /media read-only; the one that runs sees it writable.",
};

/// Judges every service that was seen to run under its name.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (host, facts) in site.observed() {
        let running = Running::of(
            facts
                .told
                .configured
                .facts
                .iter()
                .filter(|found| found.spot.file.raw().starts_with("/proc/"))
                .map(|found| &found.fact),
        );
        for service in site
            .layout
            .services
            .iter()
            .filter(|service| service.host == *host && service.map.is_some())
        {
            let Some((fact, maps)) = running.0.get(&service.name) else { continue };
            for (line, message) in differences(site, service, fact, maps) {
                let steps = vec![Step::on(
                    host,
                    format!(
                        "make the container of {} anew, so that it gets what is declared; or write \
                         what runs into the layout",
                        service.name
                    ),
                )];
                let of_service = |case: &&UsedPath| case.service.name == service.name;
                findings.push(
                    RULE.finding(About::Service(service.name.clone()))
                        .on(host)
                        .line(line)
                        .known(Evidence::Observed)
                        .says(message)
                        .remedy(steps)
                        .affects(cases.iter().filter(of_service).map(UsedPath::affected)),
                );
            }
        }
    }
    findings
}

/// Services that run, by their name, with what they see.
struct Running<'a>(HashMap<&'a Name, (&'a ServiceFact, Vec<&'a MappingFact>)>);

impl<'a> Running<'a> {
    fn of(facts: impl Iterator<Item = &'a Fact>) -> Self {
        let mut running: HashMap<&Name, (&ServiceFact, Vec<&MappingFact>)> = HashMap::new();
        for fact in facts {
            match fact {
                Fact::Service(service) => {
                    running.entry(&service.name).or_insert((service, Vec::new()));
                }
                Fact::Mapping(map) => {
                    if let Some((_, maps)) = running.get_mut(&map.service) {
                        maps.push(map);
                    }
                }
                _ => {}
            }
        }
        Self(running)
    }
}

fn differences(
    site: &Site,
    service: &Service,
    fact: &ServiceFact,
    maps: &[&MappingFact],
) -> Vec<(u32, String)> {
    let mut found = Vec::new();
    let name = &service.name;
    if let (RunAs::Numbers(uid, gid), Some(runs)) = (&service.runs_as, fact.uid) {
        let said = gid.map_or(uid.to_string(), |gid| format!("{uid}:{gid}"));
        let is = match (gid, fact.gid) {
            (Some(_), Some(runs_gid)) => format!("{runs}:{runs_gid}"),
            _ => runs.to_string(),
        };
        if said != is {
            found.push((
                service.origin.line,
                format!("{name} is declared to run as {said}, and runs as {is}"),
            ));
        }
    }
    let view = View::host(&service.host);
    let ends = |path: &AbsPath| follow(site, &view, path, &Subject::new(0, 0, [])).here().clone();
    for map in service.maps() {
        let (Some((from, to)), line) = (map.folder(), map.origin.line) else { continue };
        let Some(runs) = maps.iter().find(|runs| AbsPath::new(&runs.to).as_ref() == Ok(to)) else {
            found.push((
                line,
                format!("{name} is declared to see {from} as {to}, and the one that runs does not"),
            ));
            continue;
        };
        // One folder may be reached under two paths.
        let same = AbsPath::new(&runs.from)
            .is_ok_and(|there| there == *from || ends(&there) == ends(from));
        if !same {
            found.push((
                line,
                format!(
                    "{name} is declared to see {from} as {to}, and the one that runs sees {} there",
                    shown(&runs.from)
                ),
            ));
        } else if runs.access != map.access {
            found.push((
                line,
                format!(
                    "{name} is declared to see {to} {}, and the one that runs sees it {}",
                    map.access.word(),
                    runs.access.word()
                ),
            ));
        }
    }
    found
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::facts::configured::{Configured, Fact, MappingFact, ServiceFact};
    use crate::rules::promise::{Promise, local};
    use crate::tests::Scene;
    use crate::words::spot::Spot;
    use crate::words::terms::Access;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            local(|scene| {
                let spot = Spot { file: "/proc/7/status".into(), line: 1 };
                let service = ServiceFact {
                    name: "lantern".into(),
                    uid: Some(0),
                    gid: Some(0),
                    ..ServiceFact::default()
                };
                let map = MappingFact {
                    service: "lantern".into(),
                    from: b"/loft/media".to_vec(),
                    to: b"/media".to_vec(),
                    access: Access::ReadOnly,
                    label: None,
                    propagation: None,
                    idmap: false,
                };
                let facts = [Fact::Service(service), Fact::Mapping(map)];
                let found = facts.map(|fact| Configured { fact, spot: spot.clone() });
                scene.facts("granary").told.configured.facts = found.to_vec();
            })
        },
        by_hand: |scene| {
            let Fact::Service(service) = &mut scene.facts("granary").told.configured.facts[0].fact
            else {
                return;
            };
            (service.uid, service.gid) = (Some(840), Some(840));
        },
    };

    fn running(scene: &mut Scene, uid: u32, maps: &[(&str, &str, Access)]) -> String {
        let spot = Spot { file: "/proc/7/status".into(), line: 1 };
        let service = ServiceFact {
            name: "lantern".into(),
            uid: Some(uid),
            gid: Some(840),
            ..ServiceFact::default()
        };
        let mut facts = vec![Configured { fact: Fact::Service(service), spot: spot.clone() }];
        for (from, to, access) in maps {
            let fact = MappingFact {
                service: "lantern".into(),
                from: from.as_bytes().to_vec(),
                to: to.as_bytes().to_vec(),
                access: *access,
                label: None,
                propagation: None,
                idmap: false,
            };
            facts.push(Configured { fact: Fact::Mapping(fact), spot: spot.clone() });
        }
        scene.facts("granary").told.configured.facts = facts;
        scene.messages_of(&RULE)
    }

    #[test]
    fn what_runs_is_held_against_what_is_declared() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "", "nobody saw what runs");
        let media = ("/loft/media", "/media", Access::ReadOnly);
        assert_eq!(running(&mut scene, 840, &[media]), "");
        let remedy = " → on granary: make the container of lantern anew, so that it gets what is \
                      declared; or write what runs into the layout";
        for (uid, map, told) in [
            (0, Some(media), "lantern is declared to run as 840:840, and runs as 0:840"),
            (
                840,
                None,
                "lantern is declared to see /loft/media as /media, and the one that runs does not",
            ),
            (
                840,
                Some(("/loft", "/media", Access::ReadOnly)),
                "lantern is declared to see /loft/media as /media, and the one that runs sees \
                 /loft there",
            ),
            (
                840,
                Some(("/loft/media", "/media", Access::ReadWrite)),
                "lantern is declared to see /media ro, and the one that runs sees it rw",
            ),
        ] {
            let maps: Vec<_> = map.into_iter().collect();
            assert_eq!(running(&mut scene, uid, &maps), format!("{told}{remedy}"));
        }
    }
}
