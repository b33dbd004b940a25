//! `label/network-mount`.

use crate::remedy::apply_on_host::recreate_container;
use crate::rules::label::of_mapping;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::part::Part;
use crate::words::remedy::{Command, Step};
use crate::words::rule::{Rule, Severity};
use crate::words::terms::Protocol;

/// A label that can't be.
pub static RULE: Rule = Rule {
    id: "label/network-mount",
    severity: Severity::Risk,
    title: "Relabelling is asked for on a network mount",
    means: "A mapping of what comes from another machine asks for a label (`z`, `Z`). NFS and SMB \
            mounts have one label as a whole, by option or setting.",
    hurts: "The engine fails to start the container, or the label is not what it asked for.",
    fix: "Leave the label out, and allow containers the mount: a context= option, or the boolean \
          virt_use_nfs or virt_use_samba.",
    example: "/mnt/media of granary is mapped with z.",
};

/// Judges every mapping that has a label.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for service in &site.layout.services {
        for map in service.maps().iter().filter(|map| map.label.is_some()) {
            let Some(protocol) = site.network_of(&service.host, map) else { continue };
            let boolean = if protocol == Protocol::Smb { "virt_use_samba" } else { "virt_use_nfs" };
            let message = format!(
                "the mapping to {} asks for a label, and {} can't have one of its own",
                map.to.written,
                protocol.word()
            );
            let steps = vec![
                site.layout.remove(Part::mapping(&service.name, &map.to.written), "label"),
                recreate_container(service),
                Step::run(&service.host, Command::new("setsebool -P").arg(boolean).arg("on")),
            ];
            findings.push(of_mapping(&RULE, service, map, cases).says(message).remedy(steps));
        }
    }
    findings
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, over};
    use crate::tests::Scene;
    use crate::words::terms::{Label, Protocol};

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            over(Protocol::Nfs, |scene| {
                scene.service("lantern").map.as_mut().unwrap()[0].label = Some(Label::Shared)
            })
        },
        by_hand: |scene| scene.service("lantern").map.as_mut().unwrap()[0].label = None,
    };

    #[test]
    fn what_comes_from_elsewhere_has_no_label() {
        let mut scene = Scene::over(Protocol::Nfs);
        assert_eq!(scene.messages_of(&RULE), "");
        scene.service("lantern").map.as_mut().unwrap()[0].label = Some(Label::Shared);
        let told = "the mapping to /media asks for a label, and nfs can't have one of its own → in \
                    the layout line 7: remove label from lantern's mapping to /media; on millrace: \
                    recreate lantern's container with this mapping; setsebool -P virt_use_nfs on";
        assert_eq!(scene.messages_of(&RULE), told);
    }
}
