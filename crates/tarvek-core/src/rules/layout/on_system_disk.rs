//! `layout/on-system-disk`.

use crate::layout::host::HostRole;
use crate::rules::mount::not_mounted;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::path::AbsPath;
use crate::words::place::Place;
use crate::words::rule::{Rule, Severity};

/// Media on the disk of the system.
pub static RULE: Rule = Rule {
    id: "layout/on-system-disk",
    severity: Severity::Risk,
    title: "A library lies on the system disk of its host",
    means: "The way of a library ends in the host's root filesystem and not in a dataset or volume \
            for media.",
    hurts: "Media fills the disk that the system needs to run, is not on the storage that is \
            backed up and checked, and is lost \
            when the system is set up anew.",
    fix: "Move it to the dataset for media, and map that.",
    example: "A mapping names /srv/books of the application host instead of the share's folder.",
};

/// Judges every library that lies on a host of the layout.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for case in cases {
        let Some(end) = case.end() else { continue };
        let Some(evidence) = on_system_disk(site, end) else { continue };
        let message = format!("{} lies on the system disk of {}", end.path, end.host);
        let remedy = match better(site) {
            Some(better) => format!("move it to {better}, and map that"),
            None => "move it to a dataset or volume for media, and map that".to_owned(),
        };
        let absent = case.route.as_ref().is_some_and(|route| !route.not_mounted.is_empty());
        let finding = case.finding(&RULE).at(end).known(evidence);
        if absent {
            let first = "mount what is declared first";
            let finding = finding.because(Some(&not_mounted::RULE));
            findings.push(finding.says(message).remedy(first));
            continue;
        }
        findings.push(finding.says(message).remedy(remedy));
    }
    findings
}

/// Whether a place lies in no dataset or volume of its own, and how that is known.
pub(crate) fn on_system_disk(site: &Site, place: &Place) -> Option<Evidence> {
    let datasets = &site.layout.host(&place.host)?.datasets;
    match site.mounts(&place.host) {
        Some(table) => table.at(&place.path)?.point.is_root().then_some(Evidence::Observed),
        None => {
            let inside = datasets.iter().any(|dataset| place.path.within(&dataset.at));
            (!datasets.is_empty() && !inside).then_some(Evidence::Declared)
        }
    }
}

/// Whether it is known that a place lies in a dataset or volume of its own, which is mounted: what
/// lies beneath one that is not is empty as well.
pub(crate) fn is_on_media_storage(site: &Site, place: &Place) -> bool {
    let declared = site.layout.host(&place.host).into_iter().flat_map(|host| &host.datasets);
    let declared = declared.map(|dataset| dataset.at.clone());
    let told = site.facts(&place.host).into_iter().flat_map(|facts| &facts.told.properties);
    let told = told.filter(|property| property.name == "mountpoint");
    let told = told.filter_map(|property| AbsPath::new(property.value.raw().as_bytes()).ok());
    let around = declared.chain(told).filter(|at| place.path.within(at));
    let nearest = around.max_by_key(|at| at.as_bytes().len());
    match site.mounts(&place.host) {
        Some(table) => table.at(&place.path).is_some_and(|mount| {
            !mount.point.is_root() && nearest.is_none_or(|at| mount.point.within(&at))
        }),
        None => nearest.is_some(),
    }
}

/// The first dataset of a storage host.
fn better(site: &Site) -> Option<Place> {
    let storage = site.layout.hosts.iter().filter(|host| host.roles.contains(&HostRole::Storage));
    let first = storage.into_iter().find_map(|host| Some((host, host.datasets.first()?)));
    first.map(|(host, dataset)| Place::new(&host.name, &dataset.at))
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::layout::host::Dataset;
    use crate::rules::promise::{Promise, local};
    use crate::tests::{Scene, abs, mapping, mounts};
    use crate::words::terms::{Access, Origin};

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            local(|scene| {
                scene.facts("granary").mounts =
                    Some(mounts("1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 8:2 / /tank xfs /dev/sdb1 rw"));
            })
        },
        by_hand: |scene| {
            scene.tree(
                "granary",
                "f 0664 1101:2100 /tank/films/Low Water (2003)/Low Water (2003).mkv",
            );
            let tank = mapping("/tank", "/media", Access::ReadOnly);
            scene.service("lantern").map = Some(vec![tank]);
        },
    };

    #[test]
    fn what_lies_in_no_dataset_lies_on_the_system_disk() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "", "nobody knows of any dataset");
        scene.host("granary").datasets.push(Dataset {
            name: "attic".into(),
            at: abs("/attic"),
            filesystem: None,
            quota: None,
            properties: Vec::new(),
            origin: Origin::default(),
        });
        let told = "/loft/media/films lies on the system disk of granary → move it to \
                    granary:/attic, and map that";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.host("granary").datasets[0].at = abs("/loft");
        assert_eq!(scene.messages_of(&RULE), "");
        scene.facts("granary").mounts = Some(mounts("1 0 8:1 / / ext4 /dev/sda1 rw"));
        assert_eq!(scene.messages_of(&RULE).lines().count(), 1, "what was seen counts");
        scene.facts("granary").mounts =
            Some(mounts("1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 8:2 / /loft xfs /dev/sdb1 rw"));
        assert_eq!(scene.messages_of(&RULE), "");
    }
}
