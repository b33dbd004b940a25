//! `dataset/access-times`.

use crate::rules::dataset::{Used, used};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::remedy::{Command, Remedy, Step};
use crate::words::rule::{Rule, Severity};

/// Reading writes.
pub static RULE: Rule = Rule {
    id: "dataset/access-times",
    severity: Severity::Note,
    title: "Every read is written down",
    means: "Access times are on for a dataset that holds media.",
    hurts: "Each scan of a library writes to every inode that it reads; disks that could sleep do \
            not, and snapshots grow.",
    fix: "Turn them off: zfs set atime=off, or the mount option noatime. Nothing that serves media \
          needs them.",
    example: "loft/media has atime=on, and a nightly scan of 40 000 files writes 40 000 inodes.",
};

/// Judges every dataset in which a library lies.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let told = |used: &Used| match used.property("atime") {
        Some((value, evidence)) if value == "on" => {
            let message = format!("{} has atime=on", used.dataset.name);
            let finding = used.finding(&RULE).known(evidence).says(message);
            Some(finding.remedy(used.set("atime=off")))
        }
        Some(_) => None,
        None => strict_times(used),
    };
    used(site, cases).iter().filter_map(told).collect()
}

/// A filesystem that is no ZFS writes access times with the mount option strictatime; the kernel's
/// default, relatime, is once a day at most.
fn strict_times(used: &Used) -> Option<Finding> {
    let host = &used.host.name;
    let mount = used.site.mounts(host)?.at(&used.dataset.at)?;
    let quiet = ["noatime", "relatime", "ro"].iter().any(|option| mount.options.has(option));
    if quiet || mount.filesystem.raw().ends_with("zfs") {
        return None;
    }
    let message = format!("{} is mounted with access times for every read", mount.point);
    let remount = Command::new("mount -o remount,noatime").arg(&mount.point);
    let steps = vec![Step::run(host, remount), Step::on(host, "write noatime into fstab")];
    let finding = used.finding(&RULE).known(Evidence::Observed);
    Some(finding.says(message).remedy(Remedy::of(steps)))
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, nothing};
    use crate::tests::{Scene, mounts};

    pub(crate) const PROMISE: Promise =
        Promise { scene: || Scene::with_dataset(&[], &[("atime", "on")]), by_hand: nothing };

    #[test]
    fn access_times_of_zfs_are_a_property_and_of_others_an_option() {
        for (declared, seen, told) in [
            ("on", "off", ""),
            ("off", "on", "loft/media has atime=on → on granary: zfs set atime=off loft/media"),
        ] {
            assert_eq!(
                Scene::with_dataset(&[("atime", declared)], &[("atime", seen)]).messages_of(&RULE),
                told
            );
        }
        let mut scene = Scene::with_dataset(&[], &[]);
        let mut with = |options: &str| {
            let table = format!(
                "1 0 8:1 / / ext4 /dev/sda1 rw,relatime\n2 1 8:2 / /loft/media xfs /dev/sdb \
                 {options}"
            );
            scene.facts("granary").mounts = Some(mounts(&table));
            scene.messages_of(&RULE)
        };
        assert_eq!(with("rw,relatime"), "");
        let told = "/loft/media is mounted with access times for every read → on granary: mount -o \
                    remount,noatime /loft/media; write \
                    noatime into fstab";
        assert_eq!(with("rw,strictatime"), told);
    }
}
