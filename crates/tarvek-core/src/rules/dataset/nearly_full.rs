//! `dataset/nearly-full`.

use crate::site::join::Site;
use crate::used::areas::{could_free, wasted};
use crate::used::used_path::UsedPath;
use crate::words::about::About;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::place::Place;
use crate::words::remedy::{Command, Remedy, Step};
use crate::words::rule::{Rule, Severity};
use crate::words::text::bytes;

/// Little room.
pub static RULE: Rule = Rule {
    id: "dataset/nearly-full",
    severity: Severity::Risk,
    title: "A filesystem is nearly full",
    means: "More than 85 % of what it or its quota holds is taken; above 97 % it is a blocker.",
    hurts: "Downloads fail half way, copy-on-write filesystems become slow long before the end, \
            and nothing can be deleted from a \
            full one without trouble.",
    fix: "Delete what is not needed, raise the quota, or add storage.",
    example: "/loft/media is at 91 %: the next season will not fit.",
};

/// Judges every filesystem, and every limit of a subvolume, in which something that is used lies,
/// each once.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut findings: Vec<Finding> = Vec::new();
    for (case, end) in cases.iter().filter_map(|case| Some((case, case.end()?))) {
        for room in rooms(site, end) {
            let taken = room.used as f64 / (room.used + room.left).max(1) as f64;
            if taken <= 0.85 {
                continue;
            }
            let waste =
                wasted(site, cases).map_or(0, |all| could_free(all, &end.host, &room.place.path));
            let message = format!(
                "{} is full to {:.0} %: {} are left{}",
                room.what,
                taken * 100.0,
                bytes(room.left),
                match waste {
                    0 => String::new(),
                    waste => format!(
                        "; waste could give back at most {} (`tarvek \
                                 waste`)",
                        bytes(waste)
                    ),
                }
            );
            if let Some(known) = findings.iter_mut().find(|known| known.message == message) {
                if !known.affects.contains(&case.affected()) {
                    known.affects.push(case.affected());
                }
                continue;
            }
            let finding = RULE.finding(About::Host(end.host.clone())).at(&room.place);
            findings.push(
                finding
                    .known(Evidence::Observed)
                    .weighs(if taken > 0.97 { Severity::Blocker } else { RULE.severity })
                    .says(message)
                    .remedy(room.remedy)
                    .affects([case.affected()]),
            );
        }
    }
    findings
}

/// Something that can be full.
struct Room {
    what: String,
    place: Place,
    used: u64,
    left: u64,
    remedy: Remedy,
}

/// What limits what can be written at a place: its filesystem, and the limits of the subvolumes
/// that it is in.
fn rooms(site: &Site, end: &Place) -> Vec<Room> {
    let Some(facts) = site.facts(&end.host) else { return Vec::new() };
    let mut rooms = Vec::new();
    if let Some(capacity) = facts.told.capacity(&end.path) {
        let place = Place::new(&end.host, &capacity.point);
        let words = format!(
            "delete what is not needed in {}, raise its quota, or add storage",
            capacity.point
        );
        rooms.push(Room {
            what: place.on(),
            used: capacity.used,
            left: capacity.available,
            remedy: Step::on(&end.host, words).into(),
            place,
        });
    }
    let Some(table) = &facts.mounts else { return rooms };
    let here = table.at(&end.path).and_then(|mount| table.in_filesystem(mount.id, &end.path));
    let Some((device, path)) = here else { return rooms };
    for limit in &facts.told.subvolume_limits {
        let mount = table.at(&limit.point);
        let inside = path.within(&limit.subvolume) && mount.is_some_and(|m| m.device == device);
        if !inside {
            continue;
        }
        // The host's own path of the subvolume is as far above the end as it is in the filesystem.
        let depth = path.components().count() - limit.subvolume.components().count();
        let above = (0..depth).fold(end.path.clone(), |path, _| path.parent().unwrap_or(path));
        let words = format!(
            "delete what is not needed in {above}, or raise the limit: {}",
            Command::new("btrfs qgroup limit").arg(bigger(limit.limit)).arg(&above)
        );
        rooms.push(Room {
            what: format!("the limit of the subvolume {above} on {}", end.host),
            place: Place::new(&end.host, above),
            used: limit.used,
            left: limit.limit.saturating_sub(limit.used),
            remedy: Step::on(&end.host, words).into(),
        });
    }
    rooms
}

/// A limit with half as much again, in whole GiB.
fn bigger(limit: u64) -> String {
    format!("{}G", (limit / 2 * 3).div_ceil(1 << 30))
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::facts::host_report::{Capacity, SubvolumeLimit};
    use crate::rules::promise::{Promise, local};
    use crate::tests::{Scene, abs, mounts};
    use crate::words::rule::Severity;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            local(|scene| {
                let (used, available) = (96 << 30, 4 << 30);
                scene.facts("granary").told.capacities =
                    vec![Capacity { point: abs("/loft"), used, available }];
            })
        },
        by_hand: |scene| scene.facts("granary").told.capacities[0].available = 96 << 30,
    };

    #[test]
    fn the_limit_of_a_subvolume_counts_as_well() {
        let mut scene = Scene::local();
        let limit = |used: u64| SubvolumeLimit {
            point: abs("/loft"),
            subvolume: abs("/media"),
            used: used << 30,
            limit: 100 << 30,
        };
        let facts = scene.facts("granary");
        facts.mounts = Some(mounts(
            "1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 0:9 / /loft btrfs /dev/sdb1 rw\n3 1 0:8 / /attic \
             btrfs /dev/sdc1 rw",
        ));
        facts.told.subvolume_limits = vec![limit(80)];
        assert_eq!(scene.messages_of(&RULE), "");
        scene.facts("granary").told.subvolume_limits = vec![limit(96)];
        let told = "the limit of the subvolume /loft/media on granary is full to 96 %: 4.0 GiB are \
                    left → on granary: delete what is not \
                    needed in /loft/media, or raise the limit: btrfs qgroup limit 150G /loft/media";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.facts("granary").told.subvolume_limits[0].point = abs("/attic");
        assert_eq!(scene.messages_of(&RULE), "", "it is of another filesystem");
    }

    #[test]
    fn a_filesystem_above_85_percent_is_nearly_full_and_above_97_a_blocker() {
        let mut scene = Scene::local();
        let mut with = |used: u64, available: u64| {
            let capacity =
                |point: &str, used, available| Capacity { point: abs(point), used, available };
            scene.facts("granary").told.capacities =
                vec![capacity("/", 100, 0), capacity("/loft", used << 20, available << 20)];
            let severity = scene.findings().iter().find(|f| f.rule == &RULE).map(|f| f.severity);
            (severity, scene.messages_of(&RULE))
        };
        assert_eq!(with(85, 15), (None, String::new()));
        let told = "/loft on granary is full to 86 %: 14.0 MiB are left → on granary: delete what \
                    is not needed in /loft, raise its quota, or add storage";
        assert_eq!(with(86, 14), (Some(Severity::Risk), told.to_owned()));
        assert_eq!(with(98, 2).0, Some(Severity::Blocker));
    }
}
