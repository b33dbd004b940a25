//! `link/different-filesystem`.

use crate::link::filing::{Filing, filings};
use crate::link::verdict::Reason;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};

/// Intake and library on two filesystems.
pub static RULE: Rule = Rule {
    id: "link/different-filesystem",
    severity: Severity::Risk,
    title: "Intake and library are on different filesystems",
    means: "A file has all its names on one filesystem. Two partitions, two ZFS datasets and two \
            Btrfs subvolumes are two of them, also \
            where they lie on the same disks.",
    hurts: "Every import is copied: twice the space, and hours of disk traffic.",
    fix: "Keep intake and library as folders of one dataset. On Btrfs a reflink copy between \
          subvolumes shares the space all the same.",
    example: "loft/intake and loft/media are two datasets of one pool.",
};

/// Judges the filing step of every intake.
pub fn find(site: &Site, _: &[UsedPath]) -> Vec<Finding> {
    let refused = filings(site).filter(|filing| filing.is_refused_for(Reason::DifferentFilesystem));
    let told = |filing: Filing| {
        let (reads, into) = filing.ends();
        let (from, to) = (reads.route.here(), into.route.here());
        let remedy = if from.host == to.host {
            format!(
                "make {} a folder of the dataset or filesystem that holds {} on {}, move what is \
                 in it there, and map the one parent into the services",
                from.path, to.path, to.host
            )
        } else {
            format!(
                "let the intake lie on {}, in the dataset or filesystem that holds {}",
                to.host, to.path
            )
        };
        filing.finding(&RULE).remedy(remedy)
    };
    refused.map(told).collect()
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::facts::mounts::FstabEntry;
    use crate::rules::promise::{Promise, intake};
    use crate::tests::{Scene, abs, mounts};
    use crate::words::options::MountOptions;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            intake(|scene| {
                scene.facts("granary").mounts = Some(mounts(
                    "1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 8:2 / /loft xfs /dev/sdb1 rw\n\
                         3 2 8:3 / /loft/media/intake ext4 /dev/sdc1 rw",
                ));
                let fstab = |source: &str, point: &str| FstabEntry {
                    source: source.into(),
                    point: abs(point),
                    filesystem: "ext4".into(),
                    options: MountOptions::read("defaults"),
                };
                scene.facts("granary").fstab =
                    vec![fstab("/dev/sdb1", "/loft"), fstab("/dev/sdc1", "/loft/media/intake")];
            })
        },
        by_hand: |scene| {
            let facts = scene.facts("granary");
            facts.fstab.pop();
            facts.mounts =
                Some(mounts("1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 8:2 / /loft xfs /dev/sdb1 rw"));
        },
    };

    #[test]
    fn a_dataset_of_its_own_is_a_filesystem_of_its_own() {
        let mut scene = Scene::local().with_intake();
        assert_eq!(scene.messages_of(&RULE), "");
        let table = |intake: &str| {
            let table = format!(
                "1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 0:50 / /loft/media zfs loft/media rw\n3 2 \
                 {intake} / /loft/media/intake zfs loft/intake rw"
            );
            Some(mounts(&table))
        };
        scene.facts("granary").mounts = table("0:51");
        let told = scene.messages_of(&RULE);
        assert!(
            told.starts_with(
                "joiner can't link files of /data/intake/done into /data/films: two filesystems: "
            ),
            "{told}"
        );
        assert!(
            told.contains(
                "; each download is copied and takes its space twice → make \
                               /loft/media/intake/done a folder of"
            ),
            "{told}"
        );
        scene.facts("granary").mounts = table("0:50");
        assert_eq!(scene.messages_of(&RULE), "", "another mount is another finding");
    }
}
