//! `space/leftovers`.

use crate::rules::space::of_kind;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::waste::group::Waste;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};

/// Something is left over.
pub static RULE: Rule = Rule {
    id: "space/leftovers",
    severity: Severity::Note,
    title: "Something is left over",
    means: "Files are left over from something else: partial downloads, samples, archives beside \
            what they held, sidecars without their film, what systems and desktops leave behind, \
            trash, converted versions.",
    hurts: "They take space, and show up where somebody browses.",
    fix: "Look through them: `tarvek waste --kind leftover --review FILE`, then `tarvek reclaim`. \
          A layout adds patterns of its own: [waste] leftovers = [\"*.bak\"].",
    example: "/loft/media/films/.Trash-1000 holds what was deleted in March.",
};

/// Judges each library and intake.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    of_kind(site, cases, Waste::Leftover, &RULE)
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, done, local};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            local(|scene| {
                let debris = "/loft/media/films/Low Water (2003)/Thumbs.db";
                done(scene.tree("granary", &format!("f 0664 1101:2100 {debris}")));
            })
        },
        by_hand: |scene| {
            done(scene.without("granary", "/loft/media/films/Low Water (2003)/Thumbs.db"));
        },
    };

    #[test]
    fn debris_is_told_with_an_example() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.tree("granary", "f 0664 1101:2100 /loft/media/films/Low Water (2003)/Thumbs.db");
        let told = scene.messages_of(&RULE);
        assert!(told.starts_with("library:Films: 1 group of waste, leftover"), "{told}");
        assert!(told.contains("; such as /loft/media/films/Low Water (2003)/Thumbs.db"), "{told}");
    }
}
