//! `path/wider-than-needed`.

use crate::layout::mapping::Mapping;
use crate::layout::service::Service;
use crate::remedy::apply_on_host::recreate_container;
use crate::site::join::Site;
use crate::used::used_path::{UsedPath, stays_usable};
use crate::words::about::About;
use crate::words::finding::Finding;
use crate::words::part::Part;
use crate::words::path::AbsPath;
use crate::words::place::Place;
use crate::words::remedy::Remedy;
use crate::words::rule::{Rule, Severity};

/// A mapping of far more than is used.
pub static RULE: Rule = Rule {
    id: "path/wider-than-needed",
    severity: Severity::Note,
    title: "A mapping shows far more than is used of it",
    means: "A service sees a whole disk, or everything that is mounted on its host, and all that it \
            uses of that lies in one folder further down.",
    hurts: "A fault or a break-in in the service reaches everything that it sees: other people's \
            files, backups, configuration of other services.",
    fix: "Map the folder that is enough; the paths in the service stay as they are.",
    example: "lantern maps / to /host, and its libraries all lie in /host/srv/media.",
};

/// Folders that everything of a host is in or below.
const OF_ALL: [&[u8]; 9] =
    [b"/", b"/home", b"/media", b"/mnt", b"/opt", b"/root", b"/srv", b"/var", b"/usr"];

/// How many levels more than needed are far more.
const FAR: usize = 3;

/// Judges every mapping that something leads through.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for service in &site.layout.services {
        for (nth, mapping) in service.maps().iter().enumerate() {
            findings.extend(of_mapping(site, cases, service, (nth, mapping)));
        }
    }
    findings
}

fn of_mapping(
    site: &Site,
    cases: &[UsedPath],
    service: &Service,
    (nth, mapping): (usize, &Mapping),
) -> Option<Finding> {
    let (from, to) = mapping.folder()?;
    let through = cases.iter().filter(|case| {
        let route = case.route.as_ref();
        case.service.name == service.name && route.is_some_and(|route| route.mapping == Some(nth))
    });
    // What is used, below the mapping, as the service calls it.
    let mut used = through.filter_map(|case| case.root.path.as_ref().ok()?.below(to));
    let first = AbsPath::root().join(used.next()?);
    let config = service.config.as_ref().and_then(|config| config.below(from));
    let common = used.chain(config).fold(first, |common, rest| {
        let other = AbsPath::root().join(rest);
        shared(&common, &other)
    });
    let levels = common.components().count();
    let is_of_all = OF_ALL.contains(&from.as_bytes());
    if levels == 0 || !is_of_all && levels < FAR {
        return None;
    }
    let rest = common.below(&AbsPath::root())?;
    let (enough, seen) = (from.join(rest), to.join(rest));
    let part = Part::mapping(&service.name, &mapping.to.written);
    let steps = vec![
        site.layout.set_path(part.clone(), "from", &enough),
        site.layout.set_path(part, "to", &seen),
        recreate_container(service),
    ];
    let after = site.after(&steps);
    if site.is_trial || !after.is_some_and(|after| stays_usable(cases, site, &after)) {
        return None;
    }
    let message =
        format!("{} sees all of {from} as {to}, and uses nothing but {enough}", service.name);
    let about = About::Service(service.name.clone());
    let finding = RULE.finding(about).at(&Place::new(&service.host, from));
    let effects = vec![format!("{} then sees nothing else of {from}", service.name)];
    Some(finding.line(mapping.origin.line).says(message).remedy(Remedy { steps, effects }))
}

/// The innermost folder that both lie in.
fn shared(one: &AbsPath, other: &AbsPath) -> AbsPath {
    let alike = one.components().zip(other.components()).take_while(|(a, b)| a == b);
    alike.fold(AbsPath::root(), |path, (part, _)| path.child(part))
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, local, nothing};
    use crate::tests::{Scene, mapping};
    use crate::words::terms::Access;

    fn maps(scene: &mut Scene, from: &str, root: &str) {
        scene.service("lantern").map = Some(vec![mapping(from, "/host", Access::ReadOnly)]);
        scene.root(root);
    }

    pub(crate) const PROMISE: Promise = Promise {
        scene: || local(|scene| maps(scene, "/", "/host/loft/media/films")),
        by_hand: nothing,
    };

    #[test]
    fn a_whole_host_is_more_than_a_library() {
        let told = |from: &str, root: &str| {
            let mut scene = Scene::local();
            maps(&mut scene, from, root);
            scene.messages_of(&RULE)
        };
        assert_eq!(
            told("/", "/host/loft/media/films"),
            "lantern sees all of / as /host, and uses nothing but /loft/media/films → in the \
             layout line 7: set from = \"/loft/media/films\" for lantern's mapping to /host; set to \
             = \"/host/loft/media/films\" for lantern's mapping to /host; on granary: recreate \
             lantern's container with this mapping"
        );
        assert_eq!(told("/loft/media", "/host/films"), "", "other kinds may come");
        assert_eq!(told("/loft", "/host/media/films"), "");
        assert_eq!(told("/loft/media/films", "/host"), "");
    }
}
