//! `space/unlinked`.

use crate::rules::space::of_kind;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::waste::group::Waste;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};

/// A copy in the intake should be a link.
pub static RULE: Rule = Rule {
    id: "space/unlinked",
    severity: Severity::Note,
    title: "A copy in the intake should be a link",
    means: "A file of a library and one of an intake hold the same bytes on one filesystem, and \
            are two files. It is known where a survey has their digests.",
    hurts: "Each takes its space twice for as long as the download stays.",
    fix: "Make one file of each pair: `tarvek waste --kind unlinked --review FILE`, then `tarvek \
          reclaim`; and see why they are copied (`tarvek link`).",
    example: "/loft/media/intake/done/low.water.2003.mkv and /loft/media/films/Low Water \
              (2003)/Low Water (2003).mkv hold the same.",
};

/// Judges each library and intake.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    of_kind(site, cases, Waste::Unlinked, &RULE)
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{FILM, Promise, equal_files};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || equal_files("/loft/media/intake/done/low.water.2003.mkv"),
        by_hand: |scene| {
            for path in [FILM, "/loft/media/intake/done/low.water.2003.mkv"] {
                scene.change("granary", path, |meta| (meta.inode, meta.links) = (Some(10), 2));
            }
        },
    };

    #[test]
    fn a_copy_in_the_intake_should_be_a_link() {
        let came = "/loft/media/intake/done/ebb.mkv";
        let mut scene = Scene::local().with_intake();
        scene.tree("granary", &format!("f 0664 1101:2100 {came}"));
        assert_eq!(scene.messages_of(&RULE), "");
        scene.equal_to_the_film(came);
        let told = scene.messages_of(&RULE);
        assert!(told.starts_with("intake:films: 1 group of waste, unlinked"), "{told}");
    }
}
