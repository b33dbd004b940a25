//! `mount/service-before-mount`.

use crate::layout::mapping::Mapping;
use crate::layout::mount::Mount;
use crate::remedy::apply_on_host::recreate_container;
use crate::rules::mount::{affected_through, set_options};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::about::About;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::part::Part;
use crate::words::path::AbsPath;
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
          for the mount (RequiresMountsFor=, systemd.unit(5); in the layout waits_for). Whether \
          the boot waits for a network mount makes no difference: engines are not ordered after it.",
    example: "lantern maps /mnt/media; after a power cut it starts while granary is still booting, \
              and its library is empty.",
};

/// Judges every mapping of what a network or removable mount shows, into services and system
/// containers.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for service in &site.layout.services {
        for map in service.maps() {
            let Some(mount) = late_mount(site, &service.host, map) else { continue };
            let waits = |path: &AbsPath| path.within(&mount.at) || mount.at.within(path);
            if service.waits_for.iter().any(waits) {
                continue;
            }
            let steps = vec![
                site.layout.set(
                    Part::mapping(&service.name, &map.to.written),
                    "propagation",
                    "rslave",
                ),
                recreate_container(service),
            ];
            let of_service = |case: &&UsedPath| case.service.name == service.name;
            let finding = told(&service.name, mount, map, About::Service(service.name.clone()));
            let affected = cases.iter().filter(of_service).map(UsedPath::affected);
            findings.push(finding.remedy(steps).affects(affected));
        }
    }
    for host in &site.layout.hosts {
        let Some(on) = &host.inside else { continue };
        for map in &host.map {
            let Some(mount) = late_mount(site, on, map) else { continue };
            let steps = set_options(site, mount, &mount.options.with(&["x-systemd.automount"]));
            let at = Place::new(on, &mount.at);
            let finding = told(&host.name, mount, map, About::Host(host.name.clone()));
            findings.push(finding.remedy(steps).affects(affected_through(cases, &at)));
        }
    }
    findings
}

/// The mount whose folder a mapping shows, if nothing has it there when what maps it is started.
/// Engines start after `local-fs.target`; neither they nor what they start waits for
/// `remote-fs.target` (`systemd.special(7)`).
fn late_mount<'s>(site: &'s Site, host: &Name, map: &Mapping) -> Option<&'s Mount> {
    let (from, _) = map.folder()?;
    if map.follows_mounts() {
        return None;
    }
    let above =
        site.layout.mounts.iter().filter(|mount| mount.host == *host && from.within(&mount.at));
    let mount = above.max_by_key(|mount| mount.at.components().count())?;
    let is_apart = ["nofail", "noauto", "_netdev"].iter().any(|option| mount.options.has(option));
    let is_late = mount.protocol.is_network() || mount.removable && is_apart;
    // On first use it is there.
    (is_late && !mount.options.has("x-systemd.automount")).then_some(mount)
}

fn told(who: &Name, mount: &Mount, map: &Mapping, about: About) -> Finding {
    let message = format!(
        "{who} may start before {} is mounted, and would see the folder beneath as {}",
        mount.at, map.to.written
    );
    let at = Place::new(&mount.host, &mount.at);
    RULE.finding(about).at(&at).line(map.origin.line).says(message)
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, nothing, over};
    use crate::tests::{Scene, abs};
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
        // The boot waits for it, and engines do not.
        scene.layout.mounts[0].options = MountOptions::read("ro");
        assert_eq!(scene.messages_of(&RULE), told);
        scene.service("lantern").waits_for = vec![abs("/mnt/media/films")];
        assert_eq!(scene.messages_of(&RULE), "");
        scene.service("lantern").waits_for = vec![abs("/srv")];
        assert_eq!(scene.messages_of(&RULE), told);
        // A disk is there when engines start, unless the boot goes on without it.
        scene.layout.mounts[0].protocol = Protocol::Disk;
        scene.layout.mounts[0].removable = true;
        assert_eq!(scene.messages_of(&RULE), "");
        scene.layout.mounts[0].options = MountOptions::read("ro,nofail");
        assert_eq!(scene.messages_of(&RULE), told);
    }

    #[test]
    fn a_system_container_is_started_as_early() {
        let mut scene = Scene::over(Protocol::Nfs);
        let map = scene.service("lantern").map.take().unwrap();
        let mut kelp = scene.host("millrace").clone();
        (kelp.name, kelp.inside, kelp.map) = ("kelp".into(), Some("millrace".into()), map);
        scene.layout.hosts.push(kelp);
        let told = scene.messages_of(&RULE);
        assert!(
            told.starts_with(
                "kelp may start before /mnt/media is mounted, and would see the folder beneath as \
                 /media → in the layout line 4: set options ="
            ),
            "{told}"
        );
    }
}
