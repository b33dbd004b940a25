//! `dataset/case-insensitive-mix`.

use crate::rules::dataset::{Used, used};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::remedy::Step;
use crate::words::rule::{Rule, Severity};
use crate::words::terms::Os;

/// Names that are one for some and two for others.
pub static RULE: Rule = Rule {
    id: "dataset/case-insensitive-mix",
    severity: Severity::Risk,
    title: "Services that tell cases apart use a dataset that does not",
    means: "The dataset takes upper and lower case for the same, and services on Linux use it.",
    hurts: "A service that makes Music and music gets one folder for both, renames that change \
            only the case fail, and a path that \
            works here fails on any other filesystem.",
    fix: "Make a new dataset with casesensitivity=sensitive and move the media; it can't be \
          changed later. SMB clients are \
          served well by it.",
    example: "loft/media was made with casesensitivity=insensitive for Windows clients.",
};

/// Judges every dataset in which a library lies.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let told = |used: &Used| {
        let (value, evidence) = used.property("casesensitivity")?;
        let linux = |case: &&&UsedPath| site.os(&case.service.host) == Os::Linux;
        let user = used.users.iter().find(linux).filter(|_| value == "insensitive")?;
        let message = format!(
            "{} takes upper and lower case for the same, and {} on Linux uses it",
            used.dataset.name, user.service.name
        );
        let remedy = "make a dataset with casesensitivity=sensitive, and move the media there";
        let finding = used.finding(&RULE).known(evidence).says(message);
        Some(finding.remedy(Step::on(&used.host.name, remedy)))
    };
    used(site, cases).iter().filter_map(told).collect()
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::Promise;
    use crate::tests::Scene;
    use crate::words::terms::Os;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || Scene::with_dataset(&[("casesensitivity", "insensitive")], &[]),
        by_hand: |scene| scene.host("granary").datasets[0].properties.clear(),
    };

    #[test]
    fn a_dataset_that_folds_case_is_none_for_linux() {
        let mut scene = Scene::with_dataset(&[("casesensitivity", "insensitive")], &[]);
        let told = "loft/media takes upper and lower case for the same, and lantern on Linux uses \
                    it → on granary: make a dataset with \
                    casesensitivity=sensitive, and move the media there";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.host("granary").os = Os::Macos;
        assert_eq!(scene.messages_of(&RULE), "");
    }
}
