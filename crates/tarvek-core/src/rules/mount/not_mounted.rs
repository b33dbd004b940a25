//! `mount/not-mounted`.

use std::collections::{HashMap, HashSet};

use crate::facts::tree::{Listing, Lookup};
use crate::route::end::NotMounted;
use crate::rules::mount::{command, start_anew};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::about::About;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::place::Place;
use crate::words::remedy::Step;
use crate::words::rule::{Rule, Severity};
use crate::words::text::counted;

/// A mount that is declared and absent.
pub static RULE: Rule = Rule {
    id: "mount/not-mounted",
    severity: Severity::Blocker,
    title: "Declared or in fstab, but not mounted",
    means: "The mount table of the host has nothing at the mount point, so the folder beneath is \
            seen instead.",
    hurts: "A scan sees an empty folder and may drop every title it knew; what a service writes \
            there fills the system disk, \
            and is hidden as soon as the mount comes back.",
    fix: "Mount it, and find out why it was not: the server was off, the network came up late, the \
          fstab line lacks nofail \
          or automount. Move away what was written beneath first.",
    example: "After a power cut the application host was up before the storage host; \
              /mnt/granary/media stayed empty.",
};

/// Judges every mount that should be there, used by a library or not.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut absents = declared_absent(site);
    let mut passes: HashMap<Place, Vec<&UsedPath>> = HashMap::new();
    for case in cases {
        for absent in case.route.iter().flat_map(|route| &route.not_mounted) {
            let of_place = passes.entry(absent.at.clone()).or_default();
            // A way may come by twice.
            if of_place.last().is_none_or(|last| !std::ptr::eq(*last, case)) {
                of_place.push(case);
            }
            absents.push(absent.clone());
        }
    }
    let mut seen = HashSet::new();
    absents.retain(|absent| seen.insert(absent.at.clone()));
    let found = |absent: &NotMounted| {
        let passes = passes.get(&absent.at).into_iter().flatten();
        describe_absent(site, absent).affects(passes.map(|case| case.affected()))
    };
    absents.iter().map(found).collect()
}

fn declared_absent(site: &Site) -> Vec<NotMounted> {
    let mut absent = Vec::new();
    for (host, facts) in site.observed() {
        let Some(table) = &facts.mounts else { continue };
        let declared = site.layout.mounts.iter().filter(|mount| mount.host == *host);
        let declared = declared.filter(|mount| table.mounted_at(&mount.at).is_none());
        absent.extend(declared.map(|mount| NotMounted::declared(site, mount)));
        let fstab = facts.fstab.iter().filter(|line| line.at_boot());
        let fstab = fstab.filter(|line| table.mounted_at(&line.point).is_none());
        absent.extend(fstab.map(|line| NotMounted::of_fstab(host, line)));
    }
    absent
}

fn describe_absent(site: &Site, absent: &NotMounted) -> Finding {
    let Place { host, path } = &absent.at;
    let by = if absent.origin.is_some() { "the layout declares" } else { "fstab has" };
    let beneath = match entries_in(site, &absent.at) {
        Some(0) => "; the folder beneath is empty".to_owned(),
        Some(count) => format!("; {} beneath will be hidden once it is", counted(count, "entry")),
        None => String::new(),
    };
    let source = &absent.source;
    let message = format!("{by} {source} at {path}, but nothing is mounted there{beneath}");
    let about = About::Mount { host: host.clone(), at: path.clone() };
    let finding = RULE.finding(about).at(&absent.at).known(Evidence::Observed).says(message);
    let mut steps = Vec::new();
    if let Some(1..) = entries_in(site, &absent.at) {
        // What lies beneath would be hidden, and still fill that disk.
        let words = format!("first move what lies in {path} to where it belongs");
        steps.push(Step::on(host, words));
    }
    steps.push(Step::run(host, command(site, absent)));
    steps.extend(start_anew(site, host, path));
    let finding = finding.remedy(steps);
    match absent.origin {
        Some(origin) => finding.line(origin.line),
        None => finding,
    }
}

/// How many entries lie in a folder of a host, if it was read.
fn entries_in(site: &Site, place: &Place) -> Option<u64> {
    let tree = site.tree(&place.host)?;
    match tree.find(&place.path) {
        Lookup::Found(node) if tree.listing(node) == Listing::Complete => {
            Some(tree.children(node).len() as u64)
        }
        _ => None,
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::facts::mounts::FstabEntry;
    use crate::rules::promise::{Promise, nothing, over};
    use crate::tests::{Scene, abs, mounts};
    use crate::words::options::MountOptions;
    use crate::words::terms::Protocol;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            over(Protocol::Nfs, |scene| {
                scene.facts("millrace").mounts = Some(mounts("1 0 8:1 / / ext4 /dev/sda1 rw"));
            })
        },
        by_hand: nothing,
    };

    #[test]
    fn an_absent_mount_comes_with_the_command_that_mounts_it() {
        for (protocol, command) in [
            (Protocol::Nfs, "mount -t nfs -o ro granary.lan:/loft/media /mnt/media"),
            (
                Protocol::Smb,
                "mount -t cifs -o ro,uid=840,username=lantern //granary.lan/media /mnt/media",
            ),
        ] {
            let mut scene = Scene::over(protocol);
            assert_eq!(scene.messages_of(&RULE), "");
            scene.facts("millrace").mounts = Some(mounts("1 0 8:1 / / ext4 /dev/sda1 rw"));
            let told = format!(
                "the layout declares granary:media at /mnt/media, but nothing is mounted there; \
                 the folder beneath is empty → \
                 on millrace: {command}; restart lantern so that it sees the new mount"
            );
            assert_eq!(scene.messages_of(&RULE), told);
            scene.layout.mounts[0].credentials = Some(abs("/etc/granary.cred"));
            let file = "uid=840,credentials=/etc/granary.cred //";
            assert_eq!(scene.messages_of(&RULE).contains(file), protocol == Protocol::Smb);
            scene.tree("millrace", "f 0644 0:0 /mnt/media/lost.mkv");
            let told = scene.messages_of(&RULE);
            assert!(told.contains("; 1 entry beneath will be hidden once it is"), "{told}");
            let first =
                "→ on millrace: first move what lies in /mnt/media to where it belongs; mount";
            assert!(told.contains(first), "{told}");
            let findings = scene.findings();
            let on_disk = findings.iter().filter(|f| f.rule.id == "layout/on-system-disk");
            assert!(on_disk.into_iter().all(|f| f.because == Some(&RULE)));
        }
    }

    #[test]
    fn fstab_counts_but_where_nobody_is_to_mount_it() {
        let mut scene = Scene::local();
        let facts = scene.facts("granary");
        facts.mounts = Some(mounts("1 0 8:1 / / ext4 /dev/sda1 rw"));
        facts.fstab.push(FstabEntry {
            source: "UUID=12".into(),
            point: abs("/attic"),
            filesystem: "xfs".into(),
            options: MountOptions::read("noauto"),
        });
        assert_eq!(scene.messages_of(&RULE), "");
        scene.facts("granary").fstab[0].options = MountOptions::read("noauto,x-systemd.automount");
        let told =
            "fstab has UUID=12 at /attic, but nothing is mounted there → on granary: mount /attic";
        assert_eq!(scene.messages_of(&RULE), told);
    }
}
