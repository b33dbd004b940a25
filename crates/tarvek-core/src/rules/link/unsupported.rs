//! `link/unsupported`.

use crate::layout::intake::Want;
use crate::link::filing::{Filing, filings};
use crate::link::verdict::Reason;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::part::Part;
use crate::words::remedy::{Remedy, Step};
use crate::words::rule::{Rule, Severity};

/// A filesystem without links.
pub static RULE: Rule = Rule {
    id: "link/unsupported",
    severity: Severity::Risk,
    title: "The filesystem can't link",
    means: "FAT and exFAT have one name for each file and no more.",
    hurts: "Every import is copied or moved; what has to stay where it was downloaded takes its \
            space twice.",
    fix: "Use a filesystem that links (ext4, XFS, Btrfs, ZFS), or want a rename.",
    example: "The library is an exFAT disk.",
};

/// Judges the filing step of every intake.
pub fn find(site: &Site, _: &[UsedPath]) -> Vec<Finding> {
    let refused =
        filings(site).filter(|filing| filing.is_refused_for(Reason::UnsupportedFilesystem));
    let told = |filing: Filing| {
        let (name, place) = (&filing.ways.intake.name, filing.ends().1.route.here().clone());
        let other = format!("put a filesystem that links at {place}");
        let finding = filing.finding(&RULE);
        match site.layout.service(&filing.step.service) {
            Some(sorter) if filing.step.rename.is_possible() => finding.remedy(Remedy {
                steps: vec![
                    site.layout.set(Part::Intake(name.clone()), "want", Want::Rename.word()),
                    Step::on(&sorter.host, format!("have {} move files", sorter.name)),
                ],
                effects: vec![
                    "a file that was filed can then no longer be shared where it came from".into(),
                    format!("to keep linking, {other}"),
                ],
            }),
            _ => finding.remedy(other),
        }
    };
    refused.map(told).collect()
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::layout::intake::Want;
    use crate::rules::promise::{Promise, intake};
    use crate::tests::{Scene, mounts};

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            intake(|scene| {
                scene.facts("granary").mounts = Some(mounts(
                    "1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 8:2 / /loft exfat /dev/sdb1 rw",
                ));
            })
        },
        by_hand: |scene| scene.layout.intakes[0].want = Want::Rename,
    };

    #[test]
    fn exfat_has_one_name_for_each_file() {
        let mut scene = Scene::local().with_intake();
        let table = |kind: &str| {
            let table =
                format!("1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 8:2 / /loft {kind} /dev/sdb1 rw");
            Some(mounts(&table))
        };
        scene.facts("granary").mounts = table("xfs");
        assert_eq!(scene.messages_of(&RULE), "");
        scene.facts("granary").mounts = table("exfat");
        let told = "joiner can't link files of /data/intake/done into /data/films: exfat has no \
                    hard links; moving them still costs no copy → ";
        assert!(scene.messages_of(&RULE).starts_with(told), "{}", scene.messages_of(&RULE));
        scene.layout.intakes[0].want = Want::Rename;
        assert_eq!(scene.messages_of(&RULE), "");
    }
}
