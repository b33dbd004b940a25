//! `mount/wrong-source`.

use crate::route::end::NotMounted;
use crate::route::hops::Route;
use crate::rules::mount::{command, is_declared_source, of_mount, passes, start_anew};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::place::Place;
use crate::words::remedy::{Command, Step};
use crate::words::rule::{Rule, RuleId, Severity};
use crate::words::text::shown;

/// Another source than the one that is declared.
pub static RULE: Rule = Rule {
    id: "mount/wrong-source",
    severity: Severity::Blocker,
    title: "Another source is mounted there than declared",
    means: "The layout says what is to be mounted at the mount point, and the mount table of the \
            host has something else there.",
    hurts: "Every path through it leads into another folder: what is looked for is missing, and \
            what is written lands where nobody \
            looks for it.",
    fix: "Unmount it and mount what is declared; or, if the layout is wrong, write the source that \
          is meant into it.",
    example: "The layout mounts granary:media at /mnt/granary/media; granary.lan:/loft/old is \
              mounted there.",
};

/// Judges every declared mount that is mounted.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for mount in &site.layout.mounts {
        let table = site.mounts(&mount.host);
        let Some(seen) = table.and_then(|table| table.mounted_at(&mount.at)) else { continue };
        if is_declared_source(site, mount, seen) {
            continue;
        }
        let declared = NotMounted::declared(site, mount);
        let mut steps = vec![
            Step::run(&mount.host, Command::new("umount").arg(&mount.at)),
            Step::run(&mount.host, command(site, &declared)),
        ];
        steps.extend(start_anew(site, &mount.host, &mount.at));
        let message = format!(
            "the layout mounts {} at {}, and {} is mounted there",
            declared.source,
            mount.at,
            shown(&seen.source)
        );
        let finding = of_mount(&RULE, mount, cases).known(Evidence::Observed);
        findings.push(finding.says(message).remedy(steps));
    }
    findings
}

/// This rule, where a way passes a mount of another source: then what is found, or not found,
/// beyond it comes of that.
pub(in crate::rules) fn on_way(site: &Site, route: &Route) -> Option<RuleId> {
    let wrong = site.layout.mounts.iter().any(|mount| {
        let seen = site.mounts(&mount.host).and_then(|table| table.mounted_at(&mount.at));
        seen.is_some_and(|seen| !is_declared_source(site, mount, seen))
            && passes(route, &Place::new(&mount.host, &mount.at))
    });
    wrong.then_some(&RULE)
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::path::missing;
    use crate::rules::promise::{Promise, nothing, over};
    use crate::tests::{Scene, mounts};
    use crate::words::terms::Protocol;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            over(Protocol::Smb, |scene| {
                let table = "1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 0:9 / /mnt/media cifs \
                                 //granary.lan/old ro,uid=840";
                scene.facts("millrace").mounts = Some(mounts(table));
            })
        },
        by_hand: nothing,
    };

    #[test]
    fn the_cause_comes_first_and_what_follows_says_so() {
        let mut scene = Scene::over(Protocol::Nfs);
        assert_eq!(scene.messages_of(&RULE), "");
        scene.tree("granary", "d 0755 0:0 /loft/old");
        let table =
            "1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 0:9 / /mnt/media nfs4 granary.lan:/loft/old ro";
        scene.facts("millrace").mounts = Some(mounts(table));
        let told = "the layout mounts granary:media at /mnt/media, and granary.lan:/loft/old is \
                    mounted there → on millrace: umount /mnt/media; mount -t nfs -o ro \
                    granary.lan:/loft/media /mnt/media; restart lantern so that it sees the new \
                    mount";
        assert_eq!(scene.messages_of(&RULE), told);
        let findings = scene.findings();
        let follows = findings.iter().find(|finding| finding.rule == &missing::RULE).unwrap();
        assert_eq!(follows.because, Some(&RULE));
        assert!(!follows.remedy.to_string().contains("mkdir"), "{}", follows.remedy);
        let first = findings.iter().find(|finding| finding.rule == &RULE).unwrap();
        assert_eq!(first.affects.len(), 1);
    }
}
