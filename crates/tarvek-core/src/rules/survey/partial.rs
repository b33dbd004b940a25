//! `survey/partial`.

use crate::rules::survey::of_host;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};

/// A survey that was broken off.
pub static RULE: Rule = Rule {
    id: "survey/partial",
    severity: Severity::Risk,
    title: "A survey was broken off",
    means: "The program that made the survey ended before it was done, and the file says so.",
    hurts: "What it lacks is not part of any verdict.",
    fix: "Survey the host again, into the same file.",
    example: "The machine was shut down while the survey was being written.",
};

/// Judges every host that was looked at.
pub fn find(site: &Site, _: &[UsedPath]) -> Vec<Finding> {
    site.partial()
        .map(|host| of_host(&RULE, host).says(format!("the survey of {host} was broken off")))
        .collect()
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, local};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || local(|scene| scene.facts("granary").complete = false),
        by_hand: |scene| scene.facts("granary").complete = true,
    };

    #[test]
    fn a_survey_that_did_not_come_to_its_end_says_so() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.facts("granary").complete = false;
        assert_eq!(
            scene.messages_of(&RULE),
            "the survey of granary was broken off → survey granary again"
        );
    }
}
