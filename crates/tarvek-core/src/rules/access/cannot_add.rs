//! `access/cannot-add`.

use crate::judge::access_check::judge;
use crate::judge::verdict::Need;
use crate::link::intake::ways;
use crate::remedy::rights;
use crate::site::join::Site;
use crate::used::used_path::{UsedPath, stays_usable};
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};

/// A folder that has to be added to, and can't be.
pub static RULE: Rule = Rule {
    id: "access/cannot-add",
    severity: Severity::Blocker,
    title: "A service can't create where it has to",
    means: "A fetching service can't add to its partial or done folder, or a sorting one to the \
            library that it files into.",
    hurts: "Downloads fail, or are never filed.",
    fix: "Give the account write and search at the folder named, and see that nothing on the way \
          is read-only.",
    example: "joiner files into /data/films, which only keepers may write.",
};

/// Judges every intake.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for ways in ways(site) {
        for way in [&ways.partial, &ways.done, &ways.files_into].into_iter().flatten() {
            let answer = judge(site, &way.route, Need::Add);
            let finding = ways.refused(site, &RULE, way, &answer, "add to");
            let repaired = |finding: Finding| match finding.remedy.steps.as_slice() {
                [] => rights::usable(site, &way.route, &[Need::Add], finding, |after| {
                    stays_usable(cases, site, after)
                }),
                _ => finding,
            };
            findings.extend(finding.map(repaired));
        }
    }
    findings
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, done, intake, nothing};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || intake(|scene| done(scene.tree("granary", "d 2755 1101:2100 /loft/media/films"))),
        by_hand: nothing,
    };

    #[test]
    fn each_folder_that_has_to_be_added_to_is_asked_for() {
        let mut scene = Scene::local().with_intake();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.tree("granary", "d 2755 1101:2100 /loft/media/films");
        let told = "joiner (842:2100) can't add to /data/films: /loft/media/films on granary: \
                    group::r-x via gid 2100 does not let \
                    842:2100 add to it (mode 2755 mira:keepers) → on granary: setfacl -m \
                    u:joiner:rwx /loft/media/films";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.tree("granary", "d 0755 0:0 /loft/media/intake/partial");
        scene.tree("granary", "d 0755 0:0 /loft/media/intake/done");
        assert_eq!(scene.messages_of(&RULE).lines().count(), 3);
        scene.without("granary", "/loft/media/intake");
        assert_eq!(
            scene.messages_of(&RULE).lines().count(),
            1,
            "what is not there is another finding"
        );
    }
}
