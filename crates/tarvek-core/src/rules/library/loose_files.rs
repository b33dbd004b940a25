//! `library/loose-files`.

use crate::forecast::titles::Fault;
use crate::rules::library::too_deep;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};
use crate::words::text::counted;

/// Titles lie loose in the root.
pub static RULE: Rule = Rule {
    id: "library/loose-files",
    severity: Severity::Note,
    title: "Titles lie loose in the root",
    means: "Files stand in the root itself, not in a folder of their title.",
    hurts: "Sidecars, artwork and further parts of several titles mix in one folder, and some \
            servers read only one title from a folder.",
    fix: "Give each title a folder: tarvek forecast --renames FILE proposes one for each.",
    example: "Three films were dropped into /media/films beside the folders of all others.",
};

/// Judges one root.
pub fn find(site: &Site, case: &UsedPath) -> Vec<Finding> {
    // Where the root itself is a title, its files lie right.
    if !too_deep::find(site, case).is_empty() {
        return Vec::new();
    }
    let loose = case.forecast.as_ref().and_then(|forecast| forecast.of(Fault::Loose));
    let Some((loose, first)) = loose.and_then(|loose| Some((loose, loose.told.first()?))) else {
        return Vec::new();
    };
    let message = format!(
        "{} in {} itself, such as {}",
        match loose.count {
            1 => "1 file lies loose".to_owned(),
            count => format!("{} lie loose", counted(count, "file")),
        },
        case.root.written,
        first.file.place.path
    );
    let finding = case.finding(&RULE).at(&first.file.place).known(Evidence::Observed).says(message);
    vec![finding.remedy(
        "put each title into a folder of its own; `tarvek forecast --renames FILE` proposes one \
         for each",
    )]
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, named, renamed};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || named("Ebb (1999).mkv"),
        by_hand: |scene| renamed(scene, "Ebb (1999).mkv", "Ebb (1999)/Ebb (1999).mkv"),
    };

    #[test]
    fn a_title_has_a_folder() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.tree(
            "granary",
            "f 0644 0:0 /loft/media/films/Ebb.1999.mkv\nf 0644 0:0 /loft/media/films/notes.txt",
        );
        let told = "1 file lies loose in /media/films itself, such as \
                    /loft/media/films/Ebb.1999.mkv → put each title into a folder";
        assert!(scene.messages_of(&RULE).starts_with(told), "{}", scene.messages_of(&RULE));
    }
}
