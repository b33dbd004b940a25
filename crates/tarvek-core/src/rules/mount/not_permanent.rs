//! `mount/not-permanent`.

use crate::facts::configured::Fact;
use crate::facts::host::HostFacts;
use crate::facts::mounts::MountEntry;
use crate::rules::mount::{affected_through, is_made_by_others};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::about::About;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::place::Place;
use crate::words::remedy::Step;
use crate::words::rule::{Rule, Severity};
use crate::words::text::shown;

/// A mount that nobody makes again.
pub static RULE: Rule = Rule {
    id: "mount/not-permanent",
    severity: Severity::Risk,
    title: "A mount will not be there after a reboot",
    means: "A network filesystem is mounted, and neither fstab nor a mount unit of the host mounts \
            it at boot.",
    hurts: "After the next reboot every path through it leads into the empty folder beneath.",
    fix: "Write it into fstab, or make a unit of it.",
    example: "/mnt/granary/media was mounted by hand last year.",
};

/// Judges the network mounts of every host whose table and configuration were seen.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (host, facts) in site.observed() {
        // Without its units nobody knows what a host mounts at boot.
        let units = facts.documents.iter().any(|document| document.name == "units");
        for mount in facts.mounts.iter().flat_map(|table| table.entries()).filter(|_| units) {
            let own = !is_made_by_others(&mount.point);
            if mount.network().is_none() || !own || is_permanent(facts, mount) {
                continue;
            }
            let source = shown(&mount.source);
            let message = format!(
                "{source} is mounted at {} of {host}, and nothing mounts it at boot",
                mount.point
            );
            let declared = site
                .layout
                .mounts
                .iter()
                .find(|known| known.host == *host && known.at == mount.point);
            let step = Step::on(
                host,
                format!(
                    "add it to fstab: `tarvek emit fstab` writes the line of a mount that the \
                     layout declares; {}",
                    if declared.is_some() {
                        "it declares this one"
                    } else {
                        "declare this one first"
                    }
                ),
            );
            let at = Place::new(host, &mount.point);
            let about = About::Mount { host: host.clone(), at: mount.point.clone() };
            let finding =
                RULE.finding(about).at(&at).known(Evidence::Observed).says(message).remedy(step);
            let finding = finding.affects(affected_through(cases, &at));
            findings.push(match declared {
                Some(declared) => finding.line(declared.origin.line),
                None => finding,
            });
        }
    }
    findings
}

fn is_permanent(facts: &HostFacts, mount: &MountEntry) -> bool {
    let line = facts.fstab.iter().find(|line| line.point == mount.point);
    let asks = |line: &crate::facts::mounts::FstabEntry| {
        line.options.has("noauto") && !line.options.has("x-systemd.automount")
    };
    let of_unit = facts.told.configured.facts.iter().any(|found| match &found.fact {
        Fact::Mount(unit) => unit.boot && unit.at == mount.point.as_bytes(),
        _ => false,
    });
    line.is_some_and(|line| !asks(line)) || of_unit
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::facts::host::Document;
    use crate::facts::mounts::FstabEntry;
    use crate::rules::promise::{Promise, over};
    use crate::tests::{Scene, abs};
    use crate::words::options::MountOptions;
    use crate::words::terms::Protocol;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            over(Protocol::Nfs, |scene| {
                scene.facts("millrace").documents = vec![Document::new("units", b"")];
            })
        },
        by_hand: |scene| {
            scene.facts("millrace").fstab = vec![FstabEntry {
                source: "granary.lan:/loft/media".into(),
                point: abs("/mnt/media"),
                filesystem: "nfs".into(),
                options: MountOptions::read("ro,nofail"),
            }];
        },
    };

    #[test]
    fn what_is_mounted_by_hand_is_gone_after_a_reboot() {
        let mut scene = Scene::over(Protocol::Nfs);
        assert_eq!(scene.messages_of(&RULE), "", "its units were not seen");
        scene.facts("millrace").documents = vec![Document::new("units", b"")];
        let told = scene.messages_of(&RULE);
        assert!(
            told.starts_with(
                "granary.lan:/loft/media is mounted at /mnt/media of millrace, \
                                  and nothing mounts it at boot → on millrace: add it to \
                                  fstab"
            ),
            "{told}"
        );
        let mut with = |options: &str| {
            scene.facts("millrace").fstab = vec![FstabEntry {
                source: "granary.lan:/loft/media".into(),
                point: abs("/mnt/media"),
                filesystem: "nfs".into(),
                options: MountOptions::read(options),
            }];
            scene.messages_of(&RULE)
        };
        assert_eq!(with("ro"), "");
        assert_eq!(with("noauto,x-systemd.automount"), "");
        assert_eq!(with("noauto"), told);
    }
}
