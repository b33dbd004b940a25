//! `dataset/nearly-full`.

use crate::rules::case::Case;
use crate::site::join::Site;
use crate::words::about::About;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::place::Place;
use crate::words::rule::{Rule, Severity};
use crate::words::text::bytes;

/// Little room.
pub static RULE: Rule = Rule {
    id: "dataset/nearly-full",
    severity: Severity::Risk,
    title: "A filesystem is nearly full",
    means: "More than 85 % of what it or its quota holds is taken; above 97 % it is a blocker.",
    hurts: "Downloads fail half way, copy-on-write filesystems become slow long before the end, and nothing can be deleted from a \
            full one without trouble.",
    fix: "Delete what is not needed, raise the quota, or add storage.",
    example: "/loft/media is at 91 %: the next season will not fit.",
};

/// Judges every filesystem in which a library lies, each once.
pub fn find(site: &Site, cases: &[Case]) -> Vec<Finding> {
    let mut full: Vec<Place> = Vec::new();
    let mut findings = Vec::new();
    for (case, end) in cases.iter().filter_map(|case| Some((case, case.end()?))) {
        let capacity = site.facts(&end.host).and_then(|facts| facts.told.capacity(&end.path));
        let Some(capacity) = capacity else { continue };
        let place = Place::new(&end.host, &capacity.point);
        let taken = capacity.used as f64 / (capacity.used + capacity.available).max(1) as f64;
        if taken <= 0.85 || full.contains(&place) {
            continue;
        }
        let message = format!(
            "{} is full to {:.0} %: {} are left",
            place.on(),
            taken * 100.0,
            bytes(capacity.available)
        );
        let remedy = format!(
            "delete what is not needed in {}, raise its quota, or add storage",
            capacity.point
        );
        let finding = RULE.finding(About::Host(end.host.clone())).at(&place);
        findings.push(
            finding
                .known(Evidence::Observed)
                .weighs(if taken > 0.97 { Severity::Blocker } else { RULE.severity })
                .says(message)
                .remedy(remedy)
                .affects([case.affected()]),
        );
        full.push(place);
    }
    findings
}

#[cfg(test)]
mod tests {
    use super::RULE;
    use crate::facts::told::Capacity;
    use crate::tests::{Scene, abs};
    use crate::words::rule::Severity;

    #[test]
    fn a_filesystem_above_85_percent_is_nearly_full_and_above_97_a_blocker() {
        let mut scene = Scene::local();
        let mut with = |used: u64, available: u64| {
            let capacity =
                |point: &str, used, available| Capacity { point: abs(point), used, available };
            scene.facts("granary").told.capacities =
                vec![capacity("/", 100, 0), capacity("/loft", used << 20, available << 20)];
            let severity = scene.findings().iter().find(|f| f.rule == &RULE).map(|f| f.severity);
            (severity, scene.told(&RULE))
        };
        assert_eq!(with(85, 15), (None, String::new()));
        let told = "/loft on granary is full to 86 %: 14.0 MiB are left → delete what is not needed in /loft, raise its quota, or add storage";
        assert_eq!(with(86, 14), (Some(Severity::Risk), told.to_owned()));
        assert_eq!(with(98, 2).0, Some(Severity::Blocker));
    }
}
