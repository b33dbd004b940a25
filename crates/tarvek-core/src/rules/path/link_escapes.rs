//! `path/link-escapes`.

use crate::route::end::End;
use crate::rules::path::{links, told_of_links};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};

/// A symlink out of what a service sees.
pub static RULE: Rule = Rule {
    id: "path/link-escapes",
    severity: Severity::Risk,
    title: "A symlink leads out of what the service can see",
    means: "A symlink in a library leads to a path that exists on the storage host and is not \
            among what the service sees.",
    hurts: "On the host it works; the service finds nothing there, and drops what it had.",
    fix: "Map the folder that it leads to under the same path, or put the files themselves into \
          the library.",
    example: "films/Old -> /attic/films; lantern sees /media only.",
};

/// Judges the symlinks of a library.
pub fn find(site: &Site, case: &UsedPath) -> Vec<Finding> {
    let outside = links(site, case, |end| {
        matches!(end, End::Uncovered { .. } | End::Volume { .. } | End::LeavesShare { .. })
    });
    let remedy = "map the folder that it leads to under the same path into the service, or put a \
                  real folder in its place";
    told_of_links(&RULE, case, &outside, "out of what the service sees", remedy)
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, done, local};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            local(|scene| {
                done(scene.tree("granary", "l 0777 0:0 /loft/media/films/Old -> /attic/films"))
            })
        },
        by_hand: |scene| done(scene.without("granary", "/loft/media/films/Old")),
    };

    #[test]
    fn a_symlink_stays_in_what_the_service_sees() {
        let mut scene = Scene::local();
        scene.tree(
            "granary",
            "l 0777 0:0 /loft/media/films/near -> Low Water (2003)\nl 0777 0:0 \
                               /loft/media/films/mapped -> /media/films",
        );
        assert_eq!(scene.messages_of(&RULE), "");
        scene.tree("granary", "l 0777 0:0 /loft/media/films/Old -> /attic/films");
        let told = "a symlink leads out of what the service sees: /media/films/Old → map the \
                    folder that it leads to under the same path into \
                    the service, or put a real folder in its place";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.tree(
            "granary",
            "l 0777 0:0 /loft/media/films/Older -> /attic/x\nl 0777 0:0 \
                               /loft/media/films/a -> /b\nl 0777 0:0 /loft/media/films/c -> /d",
        );
        assert!(
            scene.messages_of(&RULE).starts_with(
                "4 symlinks lead out of what the service sees: \
                                               /media/films/Old, /media/films/Older, \
                                               /media/films/a and 1 \
                                               more"
            ),
            "{}",
            scene.messages_of(&RULE)
        );
    }
}
