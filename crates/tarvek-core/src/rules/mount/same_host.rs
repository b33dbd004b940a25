//! `mount/same-host`.

use crate::rules::mount::network::network_mounts;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::rule::{Rule, Severity};

/// A way over the network to oneself.
pub static RULE: Rule = Rule {
    id: "mount/same-host",
    severity: Severity::Note,
    title: "A host mounts its own share over the network",
    means: "The source of a network mount is a share of the very host that mounts it, or of the one \
            that it is a system container of.",
    hurts: "Every byte takes the way through the server: slower, with the server's rights and \
            squashing, no hard links over SMB, and nothing works while the server restarts.",
    fix: "Use the folder itself: map it, or bind it.",
    example: "granary mounts //granary/media at /mnt/media and maps that into lantern.",
};

/// Judges every network mount whose server and folder are known.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for mount in network_mounts(site) {
        let Some(remote) = mount.remote(site) else { continue };
        let (Some(server), Some(path)) = (&remote.host, &remote.path) else { continue };
        if !machines(site, mount.host).any(|host| host == server) {
            continue;
        }
        let message = format!("{} is mounted from {server}, which has it at {path}", mount.name());
        let remedy = match server == mount.host {
            true => format!("map {path} itself, in place of what is mounted at {}", mount.at),
            false => format!("map {path} of {server} into {}, in place of the mount", mount.host),
        };
        findings.push(mount.finding(&RULE, cases).says(message).remedy(remedy));
    }
    findings
}

/// A host, and those that it is a system container of.
fn machines<'s>(site: &'s Site, host: &'s Name) -> impl Iterator<Item = &'s Name> {
    // More than one inside another is nobody's machine; a circle has no end.
    let above = |name: &&'s Name| site.layout.host(name)?.inside.as_ref();
    std::iter::successors(Some(host), above).take(8)
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, over};
    use crate::tests::{Scene, mount};
    use crate::words::terms::Protocol;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            over(Protocol::Nfs, |scene| {
                scene.layout.mounts.push(mount("granary", "media", Protocol::Nfs, "/mnt/own"));
            })
        },
        by_hand: |scene| scene.layout.mounts.truncate(1),
    };

    #[test]
    fn what_is_ones_own_needs_no_network() {
        let mut scene = Scene::over(Protocol::Smb);
        assert_eq!(scene.messages_of(&RULE), "");
        scene.layout.mounts.push(mount("granary", "media", Protocol::Smb, "/mnt/own"));
        assert_eq!(
            scene.messages_of(&RULE),
            "/mnt/own is mounted from granary, which has it at /loft/media → map /loft/media \
             itself, in place of what is mounted at /mnt/own"
        );
        scene.layout.mounts.truncate(1);
        scene.host("millrace").inside = Some("granary".into());
        let told = scene.messages_of(&RULE);
        assert!(told.contains("map /loft/media of granary into millrace"), "{told}");
    }
}
