//! `name/too-long`.

use crate::rules::name::below_root::of_case;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};

/// Names or paths that are too long.
pub static RULE: Rule = Rule {
    id: "name/too-long",
    severity: Severity::Risk,
    title: "Names or paths that are too long",
    means: "A name has more than 255 bytes, or its path from the share on has more than 259 UTF-16 \
            units with a drive letter in front.",
    hurts: "Windows programs can neither open nor copy it, and most filesystems can not store a \
            name of more than 255 bytes, so that it can not be copied there.",
    fix: "Shorten the name or a folder above it.",
    example: "A concert recording has the names of all its players in the folder and in the file.",
};

pub(super) const REMEDY: &str = "shorten the name, or a folder above it";

/// Judges the names below one root.
pub fn find(site: &Site, case: &UsedPath) -> Vec<Finding> {
    of_case(site, case, &RULE, |names| &names.too_long, REMEDY)
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, named, renamed};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || named(&format!("Low Water (2003)/{}/a.nfo", "x".repeat(250))),
        by_hand: |scene| {
            let long = format!("Low Water (2003)/{}", "x".repeat(250));
            renamed(scene, &long, "Low Water (2003)/x/a.nfo");
        },
    };

    #[test]
    fn it_fires_where_there_is_such_a_name() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        let long = "x".repeat(130);
        scene.tree("granary", &format!("f 0644 0:0 /loft/media/films/{long}/{long}.mkv"));
        let told = scene.messages_of(&RULE);
        assert!(told.contains("its path has 268 UTF-16 units for clients"), "{told}");
    }
}
