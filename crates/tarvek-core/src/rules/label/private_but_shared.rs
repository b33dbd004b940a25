//! `label/private-but-shared`.

use crate::remedy::apply_on_host::recreate_container;
use crate::rules::label::of_mapping;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::part::Part;
use crate::words::rule::{Rule, Severity};
use crate::words::terms::Label;

/// A label that one container takes from another.
pub static RULE: Rule = Rule {
    id: "label/private-but-shared",
    severity: Severity::Risk,
    title: "A folder that two containers use is labelled for one",
    means: "A mapping asks for a label of its own container alone (`Z`), and another container \
            maps the same folder, or one inside or around it.",
    hurts: "Whichever starts last takes the folder from the other one.",
    fix: "Use label = \"shared\" (`z`) in both.",
    example: "lantern and joiner map /srv/media, joiner with Z: after joiner starts, lantern reads \
              nothing.",
};

/// Judges every mapping with a private label on hosts that enforce, or may.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for service in &site.layout.services {
        let off = site.layout.host(&service.host).and_then(|host| host.selinux) == Some(false);
        for map in service.maps().iter().filter(|map| !off && map.label == Some(Label::Private)) {
            let Some((from, _)) = map.folder() else { continue };
            let others = site
                .layout
                .services
                .iter()
                .filter(|other| other.host == service.host && other.name != service.name);
            let shares = |other: &&crate::layout::service::Service| {
                let mut theirs = other.maps().iter().filter_map(|map| map.folder());
                theirs.any(|(path, _)| path.within(from) || from.within(path))
            };
            let Some(other) = { others }.find(shares) else { continue };
            let message =
                format!("{} takes {from} for itself, and {} maps it too", service.name, other.name);
            let steps = vec![
                site.layout.set(Part::mapping(&service.name, &map.to.written), "label", "shared"),
                recreate_container(service),
            ];
            findings.push(of_mapping(&RULE, service, map, cases).says(message).remedy(steps));
        }
    }
    findings
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, intake};
    use crate::tests::Scene;
    use crate::words::terms::Label;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            intake(|scene| {
                scene.service("joiner").map.as_mut().unwrap()[0].label = Some(Label::Private)
            })
        },
        by_hand: |scene| {
            scene.service("joiner").map.as_mut().unwrap()[0].label = Some(Label::Shared)
        },
    };

    #[test]
    fn what_two_use_is_labelled_for_both() {
        let mut scene = Scene::local().with_intake();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.service("joiner").map.as_mut().unwrap()[0].label = Some(Label::Private);
        let told = "joiner takes /loft/media for itself, and lantern maps it too → in the layout \
                    line 7: set label = \"shared\" for joiner's mapping to /data; on granary: \
                    recreate joiner's container with this mapping";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.host("granary").selinux = Some(false);
        assert_eq!(scene.messages_of(&RULE), "");
    }
}
