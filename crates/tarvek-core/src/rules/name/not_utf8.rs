//! `name/not-utf8`.

use crate::rules::name::below_root::of_case;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};

/// Names that are not UTF-8.
pub static RULE: Rule = Rule {
    id: "name/not-utf8",
    severity: Severity::Risk,
    title: "Names that are not UTF-8",
    means: "The bytes of a name are no UTF-8, as names from old systems are.",
    hurts: "Servers show signs of replacement, refuse the name, or lose the file: what they write \
            into their database no longer names it.",
    fix: "Rename it: tarvek forecast --renames FILE proposes what the bytes most likely mean.",
    example: "A folder from an old disk has an umlaut as one byte.",
};

pub(super) const REMEDY: &str =
    "rename them; `tarvek forecast --renames FILE` proposes what they most likely mean";

/// Judges the names below one root.
pub fn find(site: &Site, case: &UsedPath) -> Vec<Finding> {
    of_case(site, case, &RULE, |names| &names.not_utf8, REMEDY)
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, done, local};
    use crate::tests::{Scene, abs};

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            local(|scene| {
                let folder = "/loft/media/films/Low Water (2003)";
                done(scene.file_of_bytes("granary", folder, b"Stra\xdfe.nfo"))
            })
        },
        by_hand: |scene| {
            let old = abs("/loft/media/films/Low Water (2003)").child(b"Stra\xdfe.nfo");
            scene.without_path("granary", &old);
            scene.tree("granary", "f 0644 0:0 /loft/media/films/Low Water (2003)/Stra\u{df}e.nfo");
        },
    };

    #[test]
    fn it_fires_where_there_is_such_a_name() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.file_of_bytes("granary", "/loft/media/films", b"Stra\xdfe (1999).mkv");
        let told = scene.messages_of(&RULE);
        assert!(told.contains("1 name below /media/films"), "{told}");
    }
}
