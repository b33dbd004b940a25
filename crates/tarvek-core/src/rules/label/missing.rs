//! `label/missing`.

use crate::layout::mapping::MapSource;
use crate::remedy::apply_on_host::recreate_container;
use crate::rules::label::of_mapping;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::part::Part;
use crate::words::rule::{Rule, Severity};

/// A folder that no container may read.
pub static RULE: Rule = Rule {
    id: "label/missing",
    severity: Severity::Blocker,
    title: "SELinux enforces, and a mapping has no label",
    means: "The host enforces SELinux, and a mapping of one of its folders does not ask for a \
            label that containers may use.",
    hurts: "Everything in it is refused to the service, whatever owners and modes say.",
    fix: "Add label = \"shared\" to the mapping (`z`), or private (`Z`) where one container alone \
          uses it.",
    example: "millrace enforces SELinux; /srv/films is mapped to /media without z.",
};

/// Judges every mapping on hosts that enforce.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for service in &site.layout.services {
        let enforces = site.layout.host(&service.host).and_then(|host| host.selinux) == Some(true);
        for map in service.maps().iter().filter(|_| enforces) {
            let local = matches!(map.source, MapSource::Folder(_))
                && site.network_of(&service.host, map).is_none();
            if map.label.is_some() || !local {
                continue;
            }
            let message = format!(
                "{} enforces SELinux, and the mapping to {} asks for no label: neither z, which \
                 several containers share, nor Z, which is one's alone",
                service.host, map.to.written
            );
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
    use crate::rules::promise::{Promise, local};
    use crate::tests::Scene;
    use crate::words::terms::Label;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || local(|scene| scene.host("granary").selinux = Some(true)),
        by_hand: |scene| {
            scene.service("lantern").map.as_mut().unwrap()[0].label = Some(Label::Shared)
        },
    };

    #[test]
    fn where_selinux_enforces_a_folder_has_a_label() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.host("granary").selinux = Some(true);
        let told = "granary enforces SELinux, and the mapping to /media asks for no label: neither z, \
                    which several containers share, nor Z, which is one's alone → in the layout line 7: set label = \"shared\" for lantern's mapping to /media; on \
                    granary: recreate lantern's container with this mapping";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.service("lantern").map.as_mut().unwrap()[0].label = Some(Label::Shared);
        assert_eq!(scene.messages_of(&RULE), "");
    }
}
