//! `space/versions`.

use crate::rules::space::of_kind;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::waste::group::Waste;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};

/// A title lies there in several versions.
pub static RULE: Rule = Rule {
    id: "space/versions",
    severity: Severity::Note,
    title: "A title lies there in several versions",
    means: "Several files are one title by their names and headers, and one of them is better. It \
            is known where a survey has their headers.",
    hurts: "The others take space, and a service may play any of them.",
    fix: "Decide title by title: `tarvek waste --kind version --review FILE`, then `tarvek \
          reclaim`. A library says what it prefers: prefer = \"hevc, at most 1080p\".",
    example: "Low Water (2003) lies there in 1080 and in 576 lines.",
};

/// Judges each library and intake.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    of_kind(site, cases, Waste::Version, &RULE)
}

#[cfg(test)]
mod tests {
    use super::RULE;
    use crate::tests::Scene;

    #[test]
    fn names_alone_are_no_finding() {
        let mut scene = Scene::local();
        scene.tree(
            "granary",
            "f 0664 1101:2100 /loft/media/films/Low Water (2003)/Low Water (2003) 576p.mkv",
        );
        // Names alone say nothing of which is better.
        assert_eq!(scene.told(&RULE), "");
    }
}
