//! `mount/local-disk`.

use crate::layout::mount::{Mount, MountSource};
use crate::layout::service::Service;
use crate::remedy::apply_on_host::recreate_container;
use crate::rules::mount::{of_mount, set_options};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::part::Part;
use crate::words::path::AbsPath;
use crate::words::remedy::{Remedy, Step};
use crate::words::rule::{Rule, Severity};
use crate::words::terms::{Os, Protocol};

/// A disk that may not be there.
pub static RULE: Rule = Rule {
    id: "mount/local-disk",
    severity: Severity::Risk,
    title: "A disk may be missing, be another one, or not be seen",
    means: "A disk with media is mounted by a name that the kernel gives anew at each boot, or \
            without nofail; or it may be plugged in at any time, and a service that maps a folder \
            above it would not see it.",
    hurts: "Another disk comes up in its place; a machine whose disk is dead stops in the middle of \
            its boot; a service goes on with the empty folder beneath.",
    fix: "Name it by UUID= or LABEL= (blkid prints them), mount it with nofail and \
          x-systemd.automount, and map what is above it with propagation rslave.",
    example: "/dev/sdb1 is mounted at /mnt/disk1, and lantern maps /mnt.",
};

/// Names that the kernel gives devices in the order in which it finds them.
const IN_ORDER: [&str; 6] =
    ["/dev/sd", "/dev/hd", "/dev/vd", "/dev/xvd", "/dev/nvme", "/dev/mmcblk"];

/// Judges every disk that the layout mounts and that something leads through.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let disks = site.layout.mounts.iter().filter(|mount| mount.protocol == Protocol::Disk);
    disks.filter_map(|mount| of_disk(site, cases, mount)).collect()
}

fn of_disk(site: &Site, cases: &[UsedPath], mount: &Mount) -> Option<Finding> {
    // What the system itself is on is there, or nothing is.
    if mount.at.is_of_the_system() {
        return None;
    }
    let services = shown_in(site, mount);
    // A disk is no hop of a way: what lies on it is the host's own.
    let on_disk = |case: &&UsedPath| {
        let mut trail = case.route.iter().flat_map(|route| &route.trail);
        trail.any(|on| on.at.host == mount.host && on.at.path.within(&mount.at))
    };
    let affected = cases.iter().filter(on_disk).map(UsedPath::affected);
    let finding = of_mount(&RULE, mount, cases).affects(affected);
    if services.is_empty() && finding.affects.is_empty() || site.os(&mount.host) != Os::Linux {
        return None;
    }
    let (mut faults, mut steps) = (Vec::new(), Vec::new());
    if let MountSource::Literal(source) = &mount.from
        && IN_ORDER.iter().any(|start| source.raw().starts_with(start))
    {
        faults.push(format!("its name {source} may be another disk's after the next boot"));
        let words = format!("name the disk at {} by UUID= or LABEL=; blkid prints both", mount.at);
        steps.push(Step::on(&mount.host, words));
    }
    let may_fail = ["nofail", "noauto", "x-systemd.automount"];
    // Of one that may be away, mount/boot-hang tells this.
    if !mount.removable && !may_fail.iter().any(|option| mount.options.has(option)) {
        faults.push("the boot stops where it is missing".to_owned());
        let options = mount.options.with(&["nofail", "x-systemd.automount"]);
        steps.extend(set_options(site, mount, &options));
    }
    for (service, to) in services.iter().filter(|_| comes_later(mount)) {
        faults.push(format!("{} would not see it when it is plugged in", service.name));
        let part = Part::mapping(&service.name, to);
        steps.push(site.layout.set(part, "propagation", "rslave"));
        steps.push(recreate_container(service));
    }
    if faults.is_empty() {
        return None;
    }
    let message = format!("the disk at {}: {}", mount.at, faults.join("; "));
    Some(finding.says(message).remedy(Remedy::of(steps)))
}

/// Whether a disk may be mounted long after services are started.
fn comes_later(mount: &Mount) -> bool {
    mount.removable || mount.options.has("noauto")
}

/// The services that map a folder above the mount point, so that they see what is mounted there if
/// it is passed on; each with where its mapping leads.
fn shown_in<'s>(site: &'s Site, mount: &Mount) -> Vec<(&'s Service, &'s Name)> {
    let above = |from: &AbsPath| mount.at.within(from) && *from != mount.at;
    let of_host = site.layout.services.iter().filter(|service| service.host == mount.host);
    let maps = of_host.flat_map(|service| service.maps().iter().map(move |map| (service, map)));
    let not_passed_on = maps.filter(|(_, map)| {
        map.folder().is_some_and(|(from, _)| above(from)) && !map.follows_mounts()
    });
    not_passed_on.map(|(service, map)| (service, &map.to.written)).collect()
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::layout::mount::MountSource;
    use crate::rules::promise::{Promise, local};
    use crate::tests::{Scene, mount};
    use crate::words::options::MountOptions;
    use crate::words::terms::Protocol;

    fn with_disk(scene: &mut Scene, source: &str, at: &str, options: &str) {
        let mut disk = mount("granary", "media", Protocol::Disk, at);
        disk.from = MountSource::Literal(source.into());
        disk.options = MountOptions::read(options);
        scene.layout.mounts.push(disk);
    }

    pub(crate) const PROMISE: Promise = Promise {
        scene: || local(|scene| with_disk(scene, "/dev/sdb1", "/loft/media", "nofail")),
        by_hand: |scene| {
            scene.layout.mounts[0].from = MountSource::Literal("UUID=1b2c".into());
        },
    };

    #[test]
    fn a_disk_is_named_for_good_may_fail_and_is_passed_on() {
        let told = |source: &str, at: &str, options: &str, removable: bool| {
            let mut scene = Scene::local();
            with_disk(&mut scene, source, at, options);
            scene.layout.mounts[0].removable = removable;
            scene.messages_of(&RULE)
        };
        assert_eq!(told("UUID=1b2c", "/loft/media", "nofail", false), "");
        assert_eq!(told("/dev/sdb1", "/srv/other", "ro", false), "", "nothing leads there");
        assert_eq!(told("/dev/sda1", "/", "ro", false), "", "the system is on it");
        assert!(told("/dev/sdb1", "/loft/media", "nofail", false).starts_with(
            "the disk at /loft/media: its name /dev/sdb1 may be another disk's after the next \
                 boot → on granary: name the disk at /loft/media by UUID= or LABEL="
        ));
        let told_of = told("LABEL=loft", "/loft/media", "noatime", false);
        assert!(
            told_of.starts_with(
                "the disk at /loft/media: the boot stops where it is missing → in the layout line \
                 4: set options = \"noatime,nofail,x-systemd.automount\""
            ),
            "{told_of}"
        );
        let later = told("LABEL=usb", "/loft/media/usb", "nofail", true);
        assert!(
            later.starts_with(
                "the disk at /loft/media/usb: lantern would not see it when it is plugged in → in \
                 the layout line 7: set propagation = \"rslave\" for lantern's mapping to /media"
            ),
            "{later}"
        );
    }
}
