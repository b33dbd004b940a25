//! `mount/contradiction`.

use crate::facts::configured::{Fact, MountFact};
use crate::facts::host::HostFacts;
use crate::facts::mounts::{FstabEntry, MountEntry, network_protocol};
use crate::rules::mount::{affected_through, is_made_by_others, same_source};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::about::About;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::path::AbsPath;
use crate::words::place::Place;
use crate::words::rule::{Rule, Severity};
use crate::words::text::shown;

/// A host that says two things of one mount point.
pub static RULE: Rule = Rule {
    id: "mount/contradiction",
    severity: Severity::Risk,
    title: "fstab, units and mount table of one host disagree",
    means: "What is mounted is not what fstab or a unit mounts there at boot: another source, or \
            writable where it says ro, or read-only where it does not. Or fstab and a unit both \
            mount something there, and not the same.",
    hurts: "After the next boot services see something else, or may no longer write. A disk that is \
            read-only although fstab does not say so may have met an error.",
    fix: "Change what is wrong: the line, the unit or the mount.",
    example: "fstab has granary:/loft/media at /mnt/media with ro, and it is mounted rw.",
};

/// Judges every mount point of hosts that were seen.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (host, facts) in site.observed() {
        let lines =
            facts.fstab.iter().filter(|line| line.at_boot() && !is_made_by_others(&line.point));
        for line in lines {
            let table = facts.mounts.as_ref();
            let mounted = table.and_then(|table| table.mounted_at(&line.point));
            let live = mounted.and_then(|mounted| with_table(site, line, mounted));
            let of_unit =
                || units_at(facts, &line.point).find_map(|unit| with_unit(site, line, unit));
            let Some((message, remedy)) = live.or_else(of_unit) else { continue };
            let at = Place::new(host, &line.point);
            let about = About::Mount { host: host.clone(), at: line.point.clone() };
            let finding = RULE.finding(about).at(&at).known(Evidence::Observed).says(message);
            findings.push(finding.remedy(remedy).affects(affected_through(cases, &at)));
        }
    }
    findings
}

/// What a line of fstab and what is mounted there differ in.
fn with_table(site: &Site, line: &FstabEntry, mounted: &MountEntry) -> Option<(String, String)> {
    let FstabEntry { source, point, options, .. } = line;
    if mounted.is_automount() {
        return None;
    }
    // Of a disk, fstab has its UUID, and the table its device.
    if let Some(protocol) = network_protocol(&line.filesystem) {
        let seen = String::from_utf8_lossy(&mounted.source);
        if !same_source(site, source.raw(), &seen, protocol) {
            let message = format!(
                "fstab mounts {source} at {point}, and {} is mounted there",
                shown(&mounted.source)
            );
            return Some((
                message,
                format!("decide which is meant at {point}, and change the other"),
            ));
        }
    }
    // What can't be written to is read-only, whatever anybody says.
    let never = ["iso9660", "udf", "squashfs", "erofs"].contains(&mounted.filesystem.raw());
    // A bind has options of its own.
    let is_bind = options.has("bind") || options.has("rbind");
    let read_only = mounted.options.read_only() || mounted.super_options.read_only();
    match (options.read_only(), read_only) {
        _ if is_bind || never => None,
        (true, false) => Some((
            format!("fstab mounts {point} read-only, and it is mounted writable"),
            format!("mount -o remount {point}, or take ro out of the line"),
        )),
        (false, true) => Some((
            format!("{point} is read-only, and fstab does not say so"),
            format!(
                "look into the kernel's log for errors of {} first; if there are none, write ro \
                 into the line, or mount -o remount,rw {point}",
                shown(&mounted.source)
            ),
        )),
        _ => None,
    }
}

/// What the host's configuration mounts at a place at boot.
fn units_at<'f>(facts: &'f HostFacts, point: &'f AbsPath) -> impl Iterator<Item = &'f MountFact> {
    facts.told.configured.facts.iter().filter_map(move |found| match &found.fact {
        Fact::Mount(unit) => {
            (unit.boot && !unit.mounted && unit.at == point.as_bytes()).then_some(unit)
        }
        _ => None,
    })
}

/// What a line of fstab and a unit differ in.
fn with_unit(site: &Site, line: &FstabEntry, unit: &MountFact) -> Option<(String, String)> {
    let source = String::from_utf8_lossy(&unit.source);
    let same = match network_protocol(&line.filesystem) {
        Some(protocol) => same_source(site, line.source.raw(), &source, protocol),
        None => line.source.raw() == source,
    };
    let message = format!(
        "fstab mounts {} at {}, and a unit mounts {} there",
        line.source,
        line.point,
        shown(&unit.source)
    );
    (!same).then(|| (message, "keep one of the two: the unit of /etc is what counts".to_owned()))
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::facts::configured::{Configured, Fact, MountFact};
    use crate::facts::mounts::FstabEntry;
    use crate::rules::promise::{Promise, over};
    use crate::tests::{Scene, abs, mounts};
    use crate::words::options::MountOptions;
    use crate::words::spot::Spot;
    use crate::words::terms::Protocol;

    fn line(scene: &mut Scene, source: &str, options: &str) {
        scene.facts("millrace").fstab = vec![FstabEntry {
            source: source.into(),
            point: abs("/mnt/media"),
            filesystem: "nfs".into(),
            options: MountOptions::read(options),
        }];
    }

    pub(crate) const PROMISE: Promise = Promise {
        scene: || over(Protocol::Nfs, |scene| line(scene, "granary.lan:/old", "ro,nofail")),
        by_hand: |scene| line(scene, "granary.lan:/loft/media", "ro,nofail"),
    };

    #[test]
    fn what_is_mounted_is_what_comes_back_after_a_boot() {
        let mut scene = Scene::over(Protocol::Nfs);
        let mut told = |source: &str, options: &str| {
            line(&mut scene, source, options);
            scene.messages_of(&RULE)
        };
        assert_eq!(told("granary.lan:/loft/media", "ro,nofail"), "");
        assert_eq!(told("granary:/loft/media/", "ro,nofail"), "", "it is the same server");
        assert!(told("granary.lan:/old", "ro").starts_with(
            "fstab mounts granary.lan:/old at /mnt/media, and granary.lan:/loft/media is mounted \
             there"
        ));
        assert_eq!(told("granary.lan:/old", "ro,noauto"), "", "nobody mounts it at boot");
        assert!(told("granary.lan:/loft/media", "rw").starts_with(
            "/mnt/media is read-only, and fstab does not say so → look into the kernel's log"
        ));
        let mut scene = Scene::over(Protocol::Nfs);
        let table = "1 0 8:1 / / ext4 /dev/sda1 rw\n\
                     2 1 0:9 / /mnt/media nfs4 granary.lan:/loft/media rw";
        scene.facts("millrace").mounts = Some(mounts(table));
        line(&mut scene, "granary.lan:/loft/media", "ro");
        assert!(scene.messages_of(&RULE).starts_with("fstab mounts /mnt/media read-only"));
        line(&mut scene, "granary.lan:/loft/media", "rw");
        assert_eq!(scene.messages_of(&RULE), "");
        let unit = MountFact {
            source: b"granary.lan:/old".to_vec(),
            at: b"/mnt/media".to_vec(),
            filesystem: "nfs".into(),
            options: MountOptions::default(),
            boot: true,
            mounted: false,
        };
        let spot = Spot { file: "/etc/systemd/system/mnt-media.mount".into(), line: 2 };
        scene
            .facts("millrace")
            .told
            .configured
            .facts
            .push(Configured { fact: Fact::Mount(unit), spot });
        assert!(scene.messages_of(&RULE).contains("and a unit mounts granary.lan:/old there"));
    }
}
