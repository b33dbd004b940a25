//! `mount/wider-than-needed`.

use crate::layout::mapping::{MapSource, Mapping};
use crate::rules::mount::{of_mount, set_options};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};
use crate::words::terms::Access;

/// A mount that nobody writes through.
pub static RULE: Rule = Rule {
    id: "mount/wider-than-needed",
    severity: Severity::Note,
    title: "A mount is writable, and nobody needs that",
    means: "A network mount is writable, and every service that sees something of it only reads \
            there.",
    hurts: "A fault in any of them, or in whoever gets into one, can change or remove what the \
            whole site has.",
    fix: "Mount it read-only.",
    example: "Only lantern uses /mnt/media, read-only; the mount is rw.",
};

/// Judges every network mount that services see something of.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    let network = site.layout.mounts.iter().filter(|mount| mount.protocol.is_network());
    for mount in network.filter(|mount| !mount.options.read_only()) {
        let shows = |map: &&Mapping| match &map.source {
            MapSource::Folder(from) => {
                from.path.as_ref().is_ok_and(|from| from.within(&mount.at) || mount.at.within(from))
            }
            _ => false,
        };
        let services: Vec<_> =
            site.layout.services.iter().filter(|service| service.host == mount.host).collect();
        // One that runs straight on the host may use anything.
        if services.iter().any(|service| service.map.is_none() && !service.only_serves()) {
            continue;
        }
        let seen: Vec<&Mapping> =
            services.iter().flat_map(|service| service.maps()).filter(shows).collect();
        if seen.is_empty() || seen.iter().any(|map| map.access == Access::ReadWrite) {
            continue;
        }
        let message = format!("{} is writable, and everything that sees it only reads", mount.at);
        let steps = set_options(site, mount, &mount.options.without(&["rw"]).with(&["ro"]));
        findings.push(of_mount(&RULE, mount, cases).says(message).remedy(steps));
    }
    findings
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, over};
    use crate::tests::Scene;
    use crate::words::options::MountOptions;
    use crate::words::terms::{Access, Protocol};

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            over(Protocol::Nfs, |scene| {
                scene.layout.mounts[0].options = MountOptions::read("rw,nofail");
            })
        },
        by_hand: |scene| scene.layout.mounts[0].options = MountOptions::read("rw,nofail,ro"),
    };

    #[test]
    fn a_mount_is_as_wide_as_somebody_needs_it() {
        let mut scene = Scene::over(Protocol::Nfs);
        assert_eq!(scene.messages_of(&RULE), "");
        scene.layout.mounts[0].options = MountOptions::read("rw,nofail");
        assert!(scene.messages_of(&RULE).starts_with(
            "/mnt/media is writable, and everything that sees it only reads → in the layout line \
             4: set options = \"nofail,ro\""
        ));
        scene.service("lantern").map.as_mut().unwrap()[0].access = Access::ReadWrite;
        assert_eq!(scene.messages_of(&RULE), "");
        scene.service("lantern").map = Some(Vec::new());
        assert_eq!(scene.messages_of(&RULE), "");
    }
}
