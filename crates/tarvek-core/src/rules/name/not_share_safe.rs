//! `name/not-share-safe`.

use crate::rules::name::below_root::of_case;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};

/// Names that SMB clients can not show or open.
pub static RULE: Rule = Rule {
    id: "name/not-share-safe",
    severity: Severity::Risk,
    title: "Names that SMB clients can not show or open",
    means: "A name has a character that SMB clients keep for themselves, ends with a dot or a \
            blank, or is that of a device.",
    hurts: "The client shows another name in its place, or none, and can not open it. What plays \
            from the share breaks for this title alone.",
    fix: "Rename it: tarvek forecast --renames FILE proposes a safe name for each.",
    example: "A film is called Low Water: Ebb, and the viewing room sees LOW~1.",
};

pub(super) const REMEDY: &str =
    "rename them; `tarvek forecast --renames FILE` proposes a safe name for each";

/// Judges the names below one root.
pub fn find(site: &Site, case: &UsedPath) -> Vec<Finding> {
    of_case(site, case, &RULE, |names| &names.not_share_safe, REMEDY)
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, named, renamed};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || named("Low Water (2003)/Why?.nfo"),
        by_hand: |scene| renamed(scene, "Low Water (2003)/Why?.nfo", "Low Water (2003)/Why.nfo"),
    };

    #[test]
    fn it_fires_where_there_is_such_a_name() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.tree("granary", "f 0644 0:0 /loft/media/films/Low Water: Ebb (2004).mkv");
        let told = scene.messages_of(&RULE);
        assert!(
            told.contains(
                "1 name below /media/films: /loft/media/films/Low Water: Ebb (2004).mkv (it has \
                 ':': SMB clients show it under another name)"
            ),
            "{told}"
        );
    }
}
