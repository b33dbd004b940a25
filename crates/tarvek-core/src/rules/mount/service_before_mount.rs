//! `mount/service-before-mount`.

use crate::layout::mapping::MapSource;
use crate::remedy::apply_on_host::recreate_container;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::about::About;
use crate::words::finding::Finding;
use crate::words::part::Part;
use crate::words::place::Place;
use crate::words::rule::{Rule, Severity};

/// A container that may start first.
pub static RULE: Rule = Rule {
    id: "mount/service-before-mount",
    severity: Severity::Risk,
    title: "A service may start before what it maps is mounted",
    means: "A mapping shows a folder of a network or removable mount, nothing makes the service \
            wait for that mount, and a mount that comes later does not reach it.",
    hurts: "After a reboot the service sees the empty folder beneath, drops its titles, or writes \
            onto the system disk.",
    fix: "Mount with x-systemd.automount, map with propagation rslave, or make the service wait \
          for the mount (RequiresMountsFor=, systemd.unit(5)).",
    example: "lantern maps /mnt/media; after a power cut it starts while granary is still booting, \
              and its library is empty.",
};

/// Judges every mapping of what a network or removable mount shows.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for service in &site.layout.services {
        for map in service.maps() {
            let MapSource::Folder(from) = &map.source else { continue };
            let Ok(path) = &from.path else { continue };
            let follows = |word: &String| {
                word.trim_start_matches('r') == "slave" || word.trim_start_matches('r') == "shared"
            };
            if map.propagation.as_ref().is_some_and(follows) {
                continue;
            }
            let at = |mount: &&crate::layout::mount::Mount| {
                mount.host == service.host && path.within(&mount.at)
            };
            let above = site.layout.mounts.iter().filter(at);
            let Some(mount) = above.max_by_key(|mount| mount.at.components().count()) else {
                continue;
            };
            // On first use, or before the boot goes on: then it is there when the service starts.
            let waits = mount.options.has("x-systemd.automount")
                || !["nofail", "noauto", "_netdev"].iter().any(|option| mount.options.has(option));
            if !(mount.protocol.is_network() || mount.removable) || waits {
                continue;
            }
            let message = format!(
                "{} may start before {} is mounted, and would see the folder beneath as {}",
                service.name, mount.at, map.to.written
            );
            let steps = vec![
                site.layout.set(
                    Part::mapping(&service.name, &map.to.written),
                    "propagation",
                    "rslave",
                ),
                recreate_container(service),
            ];
            let of_service = |case: &&UsedPath| case.service.name == service.name;
            findings.push(
                RULE.finding(About::Service(service.name.clone()))
                    .at(&Place::new(&service.host, &mount.at))
                    .line(map.origin.line)
                    .says(message)
                    .remedy(steps)
                    .affects(cases.iter().filter(of_service).map(UsedPath::affected)),
            );
        }
    }
    findings
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, nothing, over};
    use crate::tests::Scene;
    use crate::words::options::MountOptions;
    use crate::words::terms::Protocol;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || over(Protocol::Nfs, nothing),
        by_hand: |scene| {
            scene.service("lantern").map.as_mut().unwrap()[0].propagation = Some("rslave".into());
        },
    };

    #[test]
    fn what_comes_later_reaches_a_service_or_is_waited_for() {
        let mut scene = Scene::over(Protocol::Nfs);
        let told = "lantern may start before /mnt/media is mounted, and would see the folder \
                    beneath as /media → in the layout line 7: set propagation = \"rslave\" for \
                    lantern's mapping to /media; on millrace: recreate lantern's container with \
                    this mapping";
        assert_eq!(scene.messages_of(&RULE), told);
        for word in ["rslave", "slave", "rshared"] {
            scene.service("lantern").map.as_mut().unwrap()[0].propagation = Some(word.into());
            assert_eq!(scene.messages_of(&RULE), "", "{word}");
        }
        scene.service("lantern").map.as_mut().unwrap()[0].propagation = Some("rprivate".into());
        assert_eq!(scene.messages_of(&RULE), told);
        scene.layout.mounts[0].options = MountOptions::read("ro,nofail,x-systemd.automount");
        assert_eq!(scene.messages_of(&RULE), "");
        // A boot that waits for it has it.
        scene.layout.mounts[0].options = MountOptions::read("ro");
        assert_eq!(scene.messages_of(&RULE), "");
    }
}
