//! `space/copies`.

use crate::rules::space::of_kind;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::waste::group::Waste;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};

/// Files of equal bytes lie in the libraries.
pub static RULE: Rule = Rule {
    id: "space/copies",
    severity: Severity::Note,
    title: "Files of equal bytes lie in the libraries",
    means: "Several files hold the same bytes, and are not one file. It is known where a survey \
            has their digests.",
    hurts: "Each of them takes its space once more than needed.",
    fix: "Decide file by file: `tarvek waste --review FILE` lists them, `tarvek reclaim` takes \
          away what is decided, and can put it back.",
    example: "/loft/media/films/Low Water (2003)/Low Water (2003).mkv lies in \
              /loft/media/films/new as well.",
};

/// Judges each library and intake.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    of_kind(site, cases, Waste::Copy, &RULE)
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{COPY, Promise, done, equal_files};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || equal_files(COPY),
        by_hand: |scene| done(scene.without("granary", COPY)),
    };

    #[test]
    fn what_the_survey_knows_to_be_equal_is_told_once() {
        let copy = "/loft/media/films/ebb.mkv";
        let mut scene = Scene::local();
        scene.tree("granary", &format!("f 0664 1101:2100 {copy}"));
        assert_eq!(scene.messages_of(&RULE), "");
        scene.equal_to_the_film(copy);
        let told = scene.messages_of(&RULE);
        assert!(
            told.starts_with(
                "library:Films: 1 group of waste, copy, that would give back at \
                                  most 3.0 MiB; such as /loft/media/films/ebb.mkv"
            ),
            "{told}"
        );
    }
}
