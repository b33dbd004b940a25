//! `space/hollow`.

use crate::rules::space::of_kind;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::waste::group::Waste;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};

/// Folders hold nothing but debris.
pub static RULE: Rule = Rule {
    id: "space/hollow",
    severity: Severity::Note,
    title: "Folders hold nothing but debris",
    means: "A folder holds nothing, or nothing but debris: its film is gone.",
    hurts: "They show up as titles that do not play, and hide what is missing.",
    fix: "Look through them: `tarvek waste --kind hollow --review FILE`, then `tarvek reclaim`.",
    example: "/loft/media/films/Low Water (2003) holds a poster and nothing else.",
};

/// Judges each library and intake.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    of_kind(site, cases, Waste::Hollow, &RULE)
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, done, local};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            local(|scene| {
                let poster = "/loft/media/films/High Water (2004)/poster.jpg";
                done(scene.tree("granary", &format!("f 0664 1101:2100 {poster}")));
            })
        },
        by_hand: |scene| done(scene.without("granary", "/loft/media/films/High Water (2004)")),
    };

    #[test]
    fn an_empty_folder_is_hollow_if_somebody_looked() {
        let mut scene = Scene::local();
        scene.tree("granary", "d 0775 1101:2100 /loft/media/films/High Water (2004)");
        let told = scene.messages_of(&RULE);
        assert!(
            told.starts_with(
                "library:Films: 1 group of waste, hollow; such as \
                                  /loft/media/films/High Water (2004)"
            ),
            "{told}"
        );
        // Of what nobody looked into nothing is said.
        scene.unread("granary", "/loft/media/films/High Water (2004)");
        assert_eq!(scene.messages_of(&RULE), "");
    }
}
