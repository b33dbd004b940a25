//! `share/file-refused`.

use crate::facts::configured::Flaw;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::about::About;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::remedy::Step;
use crate::words::rule::{Rule, Severity};

/// A line at which a server stops.
pub static RULE: Rule = Rule {
    id: "share/file-refused",
    severity: Severity::Blocker,
    title: "A server stops reading its configuration",
    means: "A line of exports or smb.conf is wrong, so that the server takes nothing of the file \
            from there on, or nothing at all.",
    hurts: "What stands behind it is not offered, and nobody is told but whoever reads the log.",
    fix: "Mend the line.",
    example: "A bracket in line 4 of /etc/exports is not closed: the exports behind it are not \
              there.",
};

/// Judges the configuration of every host that was looked at.
pub fn find(site: &Site, _: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (host, facts) in site.observed() {
        for (spot, flaw) in &facts.told.configured.flaws {
            let Flaw::Refused { by, why } = flaw else { continue };
            let message = format!("{by} stops at {spot}: {why}");
            let step = Step::on(host, format!("mend {spot}, and let {by} read it again"));
            findings.push(
                RULE.finding(About::Host(host.clone()))
                    .on(host)
                    .written(spot)
                    .known(Evidence::Observed)
                    .says(message)
                    .remedy(step),
            );
        }
    }
    findings
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::facts::configured::Flaw;
    use crate::rules::promise::{Promise, local};
    use crate::tests::Scene;
    use crate::words::spot::Spot;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            local(|scene| {
                let spot = Spot { file: "/etc/exports".into(), line: 4 };
                let flaw = Flaw::Refused { by: "exportfs", why: "a stray bracket".into() };
                scene.facts("granary").told.configured.flaws = vec![(spot, flaw)];
            })
        },
        by_hand: |scene| scene.facts("granary").told.configured.flaws.clear(),
    };

    #[test]
    fn where_a_server_stops_is_told() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        let spot = Spot { file: "/etc/exports".into(), line: 4 };
        let flaw = Flaw::Refused { by: "exportfs", why: "a stray bracket".into() };
        scene.facts("granary").told.configured.flaws = vec![(spot, flaw)];
        let told = "exportfs stops at /etc/exports:4: a stray bracket → on granary: mend \
                    /etc/exports:4, and let exportfs read it again";
        assert_eq!(scene.messages_of(&RULE), told);
    }
}
