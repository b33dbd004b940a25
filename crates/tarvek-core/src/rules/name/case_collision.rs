//! `name/case-collision`.

use crate::rules::name::below_root::of_case;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};

/// Names that differ in case only.
pub static RULE: Rule = Rule {
    id: "name/case-collision",
    severity: Severity::Risk,
    title: "Names that differ in case only",
    means: "Two names in one folder differ in nothing but upper and lower case.",
    hurts: "SMB clients and systems that fold case show one of them, open the other, or delete the \
            wrong one.",
    fix: "Give one of them another name, or put both into one folder.",
    example: "A folder has Ferry Nine and ferry nine.",
};

pub(super) const REMEDY: &str = "rename one of the two, or join them if they are one title";

/// Judges the names below one root.
pub fn find(site: &Site, case: &UsedPath) -> Vec<Finding> {
    of_case(site, case, &RULE, |names| &names.case_collision, REMEDY)
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, named, renamed};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || named("LOW WATER (2003)/Ebb.nfo"),
        by_hand: |scene| renamed(scene, "LOW WATER (2003)", "Low Water (2003)/Ebb.nfo"),
    };

    #[test]
    fn it_fires_where_there_is_such_a_name() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.tree(
            "granary",
            "f 0644 0:0 /loft/media/films/Harbour (1999)/a.mkv\nf 0644 0:0 \
                               /loft/media/films/harbour (1999)/a.mkv",
        );
        let told = scene.messages_of(&RULE);
        assert!(told.contains("2 names below /media/films: "), "{told}");
    }
}
