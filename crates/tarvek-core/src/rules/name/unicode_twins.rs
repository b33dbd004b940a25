//! `name/unicode-twins`.

use crate::rules::name::below_root::of_case;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};

/// Names that look the same.
pub static RULE: Rule = Rule {
    id: "name/unicode-twins",
    severity: Severity::Risk,
    title: "Names that look the same",
    means: "Two names in one folder are the same text, written in other bytes: one with composed \
            characters, one with characters that are put together from parts.",
    hurts: "Nobody can tell them apart by looking; systems that compose names see one of them \
            only, and copies between systems overwrite each other.",
    fix: "Give one of them another name, or put both into one folder.",
    example: "Ölmühle came twice: once from a machine that writes ö as one character, once from \
              one that writes o and two dots.",
};

pub(super) const REMEDY: &str = "rename one of the two, or join them if they are one title";

/// Judges the names below one root.
pub fn find(site: &Site, case: &UsedPath) -> Vec<Finding> {
    of_case(site, case, &RULE, |names| &names.unicode_twins, REMEDY)
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::FILMS;
    use crate::rules::promise::{Promise, done, named};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            let mut scene = named("\u{d6}l (1999)/a.mkv");
            scene.tree("granary", &format!("d 0755 1101:2100 {FILMS}/O\u{308}l (1999)"));
            scene
        },
        by_hand: |scene| done(scene.without("granary", &format!("{FILMS}/O\u{308}l (1999)"))),
    };

    #[test]
    fn it_fires_where_there_is_such_a_name() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.tree(
            "granary",
            "d 0755 0:0 /loft/media/films/\u{d6}l (1999)\nd 0755 0:0 \
                               /loft/media/films/O\u{308}l (1999)",
        );
        let told = scene.messages_of(&RULE);
        assert!(told.contains("is the same text in other bytes"), "{told}");
    }
}
