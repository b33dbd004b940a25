//! `mount/old-protocol`.

use crate::rules::mount::network::network_mounts;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};
use crate::words::terms::Protocol;

/// A version that is given up.
pub static RULE: Rule = Rule {
    id: "mount/old-protocol",
    severity: Severity::Risk,
    title: "A mount asks for an old version of its protocol",
    means: "The options ask for SMB 1 or NFS 2.",
    hurts: "SMB 1 has no encryption worth the name and was the way in for worms; NFS 2 knows no \
            files above 2 GiB. Kernels and servers drop both.",
    fix: "Leave the version out, or ask for vers=3.1.1 (SMB) or vers=4.2 (NFS).",
    example: "millrace mounts //granary/media with vers=1.0.",
};

/// Judges every network mount that names a version.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for mount in network_mounts(site) {
        let asked = ["vers", "nfsvers"].iter().find_map(|key| mount.options.value(key));
        let old = match mount.protocol {
            Protocol::Smb => asked.is_some_and(|version| matches!(version, "1" | "1.0")),
            Protocol::Nfs => asked == Some("2") || mount.options.has("v2"),
            _ => false,
        };
        if !old {
            continue;
        }
        let (version, new) = match mount.protocol {
            Protocol::Smb => ("SMB 1", "vers=3.1.1"),
            _ => ("NFS 2", "vers=4.2"),
        };
        let message = format!("{} is mounted with {version}, which is given up", mount.name());
        let steps = mount.change_options(site, &["vers", "nfsvers", "v2"], &[new]);
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
            over(Protocol::Smb, |scene| {
                scene.layout.mounts[0].options = MountOptions::read("ro,nofail,uid=840,vers=1.0");
            })
        },
        by_hand: |scene| {
            scene.layout.mounts[0].options = MountOptions::read("ro,nofail,uid=840,vers=3.1.1")
        },
    };

    #[test]
    fn old_versions_are_told_by_their_protocol() {
        for (protocol, options, told) in [
            (Protocol::Smb, "vers=1.0,nofail", "SMB 1"),
            (Protocol::Smb, "vers=3.0,nofail", ""),
            (Protocol::Smb, "vers=2.0,nofail", ""),
            (Protocol::Nfs, "nfsvers=2", "NFS 2"),
            (Protocol::Nfs, "v2", "NFS 2"),
            (Protocol::Nfs, "vers=3", ""),
            (Protocol::Nfs, "vers=1", ""),
        ] {
            let mut scene = Scene::over(protocol);
            scene.layout.mounts[0].options = MountOptions::read(options);
            let found = scene.messages_of(&RULE);
            assert!(
                found.contains(told) && found.is_empty() == told.is_empty(),
                "{options}: {found}"
            );
        }
    }
}
