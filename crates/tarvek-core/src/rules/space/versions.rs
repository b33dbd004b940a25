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
pub(crate) mod tests {
    use super::RULE;
    use crate::facts::media::Media;
    use crate::rules::promise::{FILM, Promise, done, equal_files};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            let smaller = "/loft/media/films/Low Water (2003)/Low Water (2003) 576p.mkv";
            let mut scene = equal_files(smaller);
            let (large, small) = (scene.node("granary", FILM), scene.node("granary", smaller));
            let facts = scene.facts("granary");
            facts.digests.clear();
            for (node, height) in [(large, 1080), (small, 576)] {
                let (millis, width) = (Some(6_000_000), Some(height * 16 / 9));
                let (video, height) = (Some("hevc".to_owned()), Some(height));
                let media = Media { millis, width, height, video, tracks: 1, ..Media::default() };
                facts.media.insert(node, Some(media));
            }
            scene
        },
        by_hand: |scene| {
            scene.facts("granary").media.clear();
            let smaller = "/loft/media/films/Low Water (2003)/Low Water (2003) 576p.mkv";
            done(scene.without("granary", smaller));
        },
    };

    #[test]
    fn names_alone_are_no_finding() {
        let mut scene = Scene::local();
        scene.tree(
            "granary",
            "f 0664 1101:2100 /loft/media/films/Low Water (2003)/Low Water (2003) 576p.mkv",
        );
        // Names alone say nothing of which is better.
        assert_eq!(scene.messages_of(&RULE), "");
    }
}
