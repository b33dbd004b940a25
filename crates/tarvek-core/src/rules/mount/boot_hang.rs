//! `mount/boot-hang`.

use crate::layout::mount::Mount;
use crate::rules::mount::{of_mount, set_options};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};
use crate::words::terms::Os;

/// A boot that waits for another machine.
pub static RULE: Rule = Rule {
    id: "mount/boot-hang",
    severity: Severity::Risk,
    title: "The boot waits for what may not be there",
    means: "A network or removable mount is neither marked as one (_netdev), nor allowed to fail \
            (nofail), nor mounted on first use.",
    hurts: "When the server or disk is away, the machine waits for it at boot, and may end in its \
            emergency shell.",
    fix: "Add nofail, _netdev and x-systemd.automount: it is then mounted on first use.",
    example: "millrace mounts granary:media with ro alone; after a power cut both start, and \
              millrace waits for granary.",
};

/// Judges every declared mount.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    let waits = |mount: &&Mount| {
        let away = mount.protocol.is_network() || mount.removable;
        let saved = ["nofail", "_netdev", "noauto", "x-systemd.automount"];
        away && !saved.iter().any(|option| mount.options.has(option))
    };
    for mount in site.layout.mounts.iter().filter(waits) {
        // Clients map drives when somebody logs in.
        if site.os(&mount.host) != Os::Linux {
            continue;
        }
        let what = if mount.removable { "what may be away" } else { "another machine" };
        let message = format!("the boot of {} waits for {what}, to mount {}", mount.host, mount.at);
        let network: &[&str] = if mount.removable { &[] } else { &["_netdev"] };
        let add = [&["nofail"], network, &["x-systemd.automount"]].concat();
        let steps = set_options(site, mount, &mount.options.with(&add));
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
    use crate::words::terms::{Os, Protocol};

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            over(Protocol::Nfs, |scene| {
                scene.layout.mounts[0].options = MountOptions::read("ro");
            })
        },
        by_hand: |scene| {
            scene.layout.mounts[0].options =
                MountOptions::read("ro,nofail,_netdev,x-systemd.automount")
        },
    };

    #[test]
    fn what_may_be_away_is_not_waited_for() {
        let mut scene = Scene::over(Protocol::Nfs);
        for options in ["nofail", "_netdev", "noauto", "ro,x-systemd.automount"] {
            scene.layout.mounts[0].options = MountOptions::read(options);
            assert_eq!(scene.messages_of(&RULE), "", "{options}");
        }
        scene.layout.mounts[0].options = MountOptions::read("ro");
        let told = "the boot of millrace waits for another machine, to mount /mnt/media → in the \
                    layout line 4: set options = \"ro,nofail,_netdev,x-systemd.automount\" for \
                    millrace's mount at /mnt/media; on millrace: change the line of fstab or the \
                    unit that mounts /mnt/media in the same way, and remount it";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.host("millrace").os = Os::Windows;
        assert_eq!(scene.messages_of(&RULE), "");
        scene.host("millrace").os = Os::Linux;
        scene.layout.mounts[0].protocol = Protocol::Disk;
        assert_eq!(scene.messages_of(&RULE), "");
        scene.layout.mounts[0].removable = true;
        assert!(scene.messages_of(&RULE).contains("what may be away"));
    }
}
