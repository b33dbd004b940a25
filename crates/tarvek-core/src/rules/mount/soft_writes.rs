//! `mount/soft-writes`.

use crate::rules::mount::network::network_mounts;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};
use crate::words::terms::Protocol;

/// A writable mount that gives up.
pub static RULE: Rule = Rule {
    id: "mount/soft-writes",
    severity: Severity::Risk,
    title: "A writable NFS mount gives up",
    means: "The mount is writable, and its option soft makes a request fail when the server does \
            not answer in time.",
    hurts: "A program that writes is told of an error long after, or of none: files are cut short \
            or broken while everything seems well (nfs(5)).",
    fix: "Mount it hard, which is the default, or read-only.",
    example: "millrace mounts /mnt/intake with rw,soft: a download that a restart of the server \
              met is half a file.",
};

/// Judges every writable NFS mount.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for mount in network_mounts(site) {
        let soft = mount.options.has("soft") || mount.options.has("softerr");
        if mount.protocol != Protocol::Nfs || !soft || mount.is_read_only {
            continue;
        }
        let message = format!(
            "{} is writable and mounted soft: a write may be lost without a word",
            mount.name()
        );
        let steps = mount.change_options(site, &["soft", "softerr"], &["hard"]);
        findings.push(mount.finding(&RULE, cases).says(message).remedy(steps));
    }
    findings
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, over};
    use crate::tests::Scene;
    use crate::words::options::MountOptions;
    use crate::words::terms::Protocol;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            over(Protocol::Nfs, |scene| {
                scene.layout.mounts[0].options = MountOptions::read("rw,soft,nofail");
            })
        },
        by_hand: |scene| scene.layout.mounts[0].options = MountOptions::read("rw,hard,nofail"),
    };

    #[test]
    fn a_mount_that_gives_up_is_read_only() {
        let mut scene = Scene::over(Protocol::Nfs);
        let mut with = |options: &str| {
            scene.layout.mounts[0].options = MountOptions::read(options);
            scene.messages_of(&RULE)
        };
        for options in ["rw,nofail", "ro,soft", "rw,hard", "soft,rw,ro"] {
            assert_eq!(with(options), "", "{options}");
        }
        let told = "/mnt/media is writable and mounted soft: a write may be lost without a word → \
                    in the layout line 4: set options = \"rw,hard\" for millrace's mount at \
                    /mnt/media; on millrace: change the line of fstab or the unit that mounts \
                    /mnt/media in the same way, and remount it";
        assert_eq!(with("rw,soft"), told);
        assert!(!with("softerr,nofail").is_empty());
    }
}
