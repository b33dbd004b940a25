//! `space/held-by-snapshots`.

use crate::site::join::Site;
use crate::used::areas::{could_free, wasted};
use crate::used::used_path::UsedPath;
use crate::words::about::About;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::place::Place;
use crate::words::remedy::{Command, Step};
use crate::words::rule::{Rule, Severity};
use crate::words::text::{bytes, size};

/// Snapshots hold what is deleted.
pub static RULE: Rule = Rule {
    id: "space/held-by-snapshots",
    severity: Severity::Note,
    title: "What is deleted will stay in snapshots",
    means: "The filesystem has snapshots that hold what was deleted since, and something on it \
            could be taken away.",
    hurts: "Nothing comes back of what is deleted before the last snapshot that holds it is gone.",
    fix: "Delete first, and let the snapshots run out; or destroy those that are not needed.",
    example: "Snapshots of loft/media hold 1.2 TiB; what waste could free stays in them for 30 \
              days.",
};

/// Judges every filesystem with a library or intake and with waste in it.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut findings: Vec<Finding> = Vec::new();
    let Some(all) = wasted(site, cases) else { return findings };
    for (case, end) in cases.iter().filter_map(|case| Some((case, case.end()?))) {
        let Some(facts) = site.facts(&end.host) else { continue };
        let Some(mount) = facts.mounts.as_ref().and_then(|table| table.at(&end.path)) else {
            continue;
        };
        let dataset = Name::from(String::from_utf8_lossy(&mount.source).as_ref());
        let held = facts.told.property(&dataset, "usedbysnapshots");
        let Some(held) = held.and_then(|held| size(held.raw())).filter(|held| *held > 0) else {
            continue;
        };
        let place = Place::new(&end.host, &mount.point);
        if let Some(known) =
            findings.iter_mut().find(|known| known.place.path.as_ref() == Some(&place.path))
        {
            if !known.affects.contains(&case.affected()) {
                known.affects.push(case.affected());
            }
            continue;
        }
        let waste = could_free(all, &end.host, &mount.point);
        if waste == 0 {
            continue;
        }
        let message = format!(
            "snapshots of {} hold {}; of what waste could free ({} at most) nothing comes back \
             before they are gone",
            dataset,
            bytes(held),
            bytes(waste)
        );
        let list =
            Command::new("zfs list -t snapshot -o name,used,creation -r").operand(dataset.raw());
        let words = format!(
            "take the waste away first (`tarvek waste --review waste.csv`), then destroy the \
             snapshots that nobody needs: {list}"
        );
        let finding =
            RULE.finding(About::Host(end.host.clone())).at(&place).known(Evidence::Observed);
        findings.push(
            finding.says(message).remedy(Step::on(&end.host, words)).affects([case.affected()]),
        );
    }
    findings
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::facts::host_report::Property;
    use crate::rules::promise::{COPY, Promise, equal_files};
    use crate::tests::{Scene, mounts};

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            let mut scene = equal_files(COPY);
            let facts = scene.facts("granary");
            facts.mounts = Some(mounts(
                "1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 0:9 / /loft/media zfs loft/media rw",
            ));
            let (dataset, name) = ("loft/media".into(), "usedbysnapshots".to_owned());
            facts.told.properties.push(Property { dataset, name, value: "12G".into() });
            scene
        },
        by_hand: |scene| {
            scene.without("granary", COPY);
            scene.facts("granary").told.properties[0].value = "0B".into();
        },
    };

    #[test]
    fn snapshots_matter_where_something_could_go() {
        let mut scene = Scene::local();
        let facts = scene.facts("granary");
        facts.mounts = Some(mounts("1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 0:9 / /loft zfs loft rw"));
        let (name, value) = ("usedbysnapshots".to_owned(), "2G".into());
        facts.told.properties.push(Property { dataset: "loft".into(), name, value });
        assert_eq!(scene.messages_of(&RULE), "");
        let copy = "/loft/media/films/ebb.mkv";
        scene.tree("granary", &format!("f 0664 1101:2100 {copy}")).equal_to_the_film(copy);
        let told = scene.messages_of(&RULE);
        assert!(
            told.starts_with(
                "snapshots of loft hold 2.0 GiB; of what waste could free (3.0 MiB at most)"
            ),
            "{told}"
        );
    }
}
