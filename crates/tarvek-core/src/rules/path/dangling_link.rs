//! `path/dangling-link`.

use crate::route::end::End;
use crate::rules::path::{links, told_of_links};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};

/// A symlink to nothing.
pub static RULE: Rule = Rule {
    id: "path/dangling-link",
    severity: Severity::Note,
    title: "A symlink leads to nothing",
    means: "A symlink in a library leads to a name that is not there.",
    hurts: "What it stood for is not found; often it was moved.",
    fix: "Remove it, or make it lead to where the files are now.",
    example: "films/Old -> ../old/films, and ../old is gone.",
};

/// Judges the symlinks of a library.
pub fn find(site: &Site, case: &UsedPath) -> Vec<Finding> {
    let dead = links(site, case, |end| matches!(end, End::Missing(_) | End::Loop));
    let remedy = "remove it, or make it lead to where the files are now";
    told_of_links(&RULE, case, &dead, "to nothing", remedy)
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, done, local};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            local(|scene| done(scene.tree("granary", "l 0777 0:0 /loft/media/films/Old -> gone")))
        },
        by_hand: |scene| done(scene.without("granary", "/loft/media/films/Old")),
    };

    #[test]
    fn a_symlink_leads_somewhere() {
        let mut scene = Scene::local();
        scene.tree("granary", "l 0777 0:0 /loft/media/films/near -> Low Water (2003)");
        assert_eq!(scene.messages_of(&RULE), "");
        scene.tree(
            "granary",
            "l 0777 0:0 /loft/media/films/gone -> Nothing (1999)\nl 0777 0:0 \
                               /loft/media/films/round -> round",
        );
        let told = "2 symlinks lead to nothing: /media/films/gone, /media/films/round → remove it, \
                    or make it lead to where the files are now";
        assert_eq!(scene.messages_of(&RULE), told);
    }
}
