//! `mount/files-beneath`.

use crate::facts::mounts::MountEntry;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::about::About;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::place::Place;
use crate::words::remedy::{Command, Step};
use crate::words::rule::{Rule, Severity};
use crate::words::text::{bytes, counted, shown};

/// Files that a mount hides.
pub static RULE: Rule = Rule {
    id: "mount/files-beneath",
    severity: Severity::Risk,
    title: "Files lie in a mount point beneath the mount",
    means: "Something wrote into the folder while nothing was mounted there; the mount hides it \
            now.",
    hurts: "Nobody finds these files, and they fill the disk of the host, which nothing explains.",
    fix: "Bind the filesystem beneath to another folder, where they can be seen, and move them.",
    example: "41 GiB of downloads lie in /mnt/granary/media of millrace, from the night when \
              granary was off.",
};

/// Where what a mount hides is shown in the meantime.
const ASIDE: &[u8] = b"/run/beneath";

/// Judges every mount point of which it was seen what lies beneath.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (host, facts) in site.observed() {
        for beneath in facts.told.beneath.iter().filter(|beneath| beneath.entries > 0) {
            let table = facts.mounts.as_ref();
            let mount = table.and_then(|table| table.mounted_at(&beneath.point));
            let Some((table, mount)) = table.zip(mount) else { continue };
            let Some(parent) = table.entry(mount.parent) else { continue };
            let (least, point) = (if beneath.more { "at least " } else { "" }, &beneath.point);
            let message = format!(
                "{} hides what lies beneath it at {point} of {host}: {least}{}, {}",
                shown(&mount.source),
                counted(beneath.entries, "entry"),
                bytes(beneath.bytes)
            );
            let at = Place::new(host, point);
            let about = About::Mount { host: host.clone(), at: point.clone() };
            let passes = |case: &&UsedPath| {
                case.route.as_ref().is_some_and(|route| super::passes(route, &at))
            };
            let finding = RULE
                .finding(about)
                .at(&at)
                .known(Evidence::Observed)
                .says(message)
                .remedy(steps(host, parent, point));
            let finding = finding.affects(cases.iter().filter(passes).map(UsedPath::affected));
            let declared = site.layout.mounts.iter().find(|m| m.host == *host && m.at == *point);
            findings.push(match declared {
                Some(declared) => finding.line(declared.origin.line),
                None => finding,
            });
        }
    }
    findings
}

/// Nothing is unmounted: a bind without what is mounted below shows what is hidden (`mount(8)`).
fn steps(host: &Name, parent: &MountEntry, point: &AbsPath) -> Vec<Step> {
    let aside = AbsPath::root().join(&ASIDE[1..]);
    let seen = aside.join(point.below(&parent.point).unwrap_or_default());
    vec![
        Step::run(host, Command::new("mkdir -p").operand(&aside)),
        Step::run(host, Command::new("mount --bind").operand(&parent.point).operand(&aside)),
        Step::on(host, format!("move what lies in {seen} to where it belongs")),
        Step::run(host, Command::new("umount").operand(&aside)),
    ]
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::facts::host_report::Beneath;
    use crate::rules::promise::{Promise, over};
    use crate::tests::{Scene, abs};
    use crate::words::terms::Protocol;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            over(Protocol::Nfs, |scene| {
                scene.facts("millrace").told.beneath = vec![Beneath {
                    point: abs("/mnt/media"),
                    entries: 2,
                    bytes: 1 << 30,
                    more: false,
                }];
            })
        },
        by_hand: |scene| scene.facts("millrace").told.beneath.clear(),
    };

    #[test]
    fn what_a_mount_hides_is_told_of() {
        let mut scene = Scene::over(Protocol::Nfs);
        assert_eq!(scene.messages_of(&RULE), "");
        let mut with = |entries, more| {
            let point = abs("/mnt/media");
            scene.facts("millrace").told.beneath =
                vec![Beneath { point, entries, bytes: 3 << 30, more }];
            scene.messages_of(&RULE)
        };
        let told = "granary.lan:/loft/media hides what lies beneath it at /mnt/media of millrace: \
                    2 entries, 3.0 GiB → on millrace: mkdir -p \
                    /run/beneath; mount --bind / /run/beneath; move what lies in \
                    /run/beneath/mnt/media to where it belongs; umount \
                    /run/beneath";
        assert_eq!(with(2, false), told);
        assert!(with(2, true).contains(": at least 2 entries, "));
        assert_eq!(with(0, false), "");
        scene.facts("millrace").told.beneath =
            vec![Beneath { point: abs("/mnt"), entries: 1, bytes: 0, more: false }];
        assert_eq!(scene.messages_of(&RULE), "", "nothing is mounted there any more");
    }
}
