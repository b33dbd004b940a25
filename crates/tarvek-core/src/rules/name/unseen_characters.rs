//! `name/unseen-characters`.

use crate::rules::name::below_root::of_case;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};

/// Names with characters that nobody sees.
pub static RULE: Rule = Rule {
    id: "name/unseen-characters",
    severity: Severity::Risk,
    title: "Names with characters that nobody sees",
    means: "A name has a control character, a mark that turns the direction of text, or a \
            character of no width.",
    hurts: "It can not be typed or found, two such names look alike, and a terminal or a list may \
            show something else than there is.",
    fix: "Rename it: tarvek forecast --renames FILE proposes the name without them.",
    example: "A name that was copied from a web page has a space of no width in it.",
};

pub(super) const REMEDY: &str =
    "rename them; `tarvek forecast --renames FILE` proposes the name without them";

/// Judges the names below one root.
pub fn find(site: &Site, case: &UsedPath) -> Vec<Finding> {
    of_case(site, case, &RULE, |names| &names.unseen_characters, REMEDY)
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, named, renamed};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || named("Low Water (2003)/E\u{200b}bb.nfo"),
        by_hand: |scene| {
            renamed(scene, "Low Water (2003)/E\u{200b}bb.nfo", "Low Water (2003)/Ebb.nfo")
        },
    };

    #[test]
    fn it_fires_where_there_is_such_a_name() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.tree("granary", "f 0644 0:0 /loft/media/films/Har\u{200b}bour (1999).mkv");
        let told = scene.messages_of(&RULE);
        assert!(told.contains("(it has U+200B)"), "{told}");
    }
}
