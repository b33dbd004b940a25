//! `library/unrecognised-names`.

use crate::forecast::renames::usual_form;
use crate::forecast::titles::Fault;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};
use crate::words::text::counted;

/// Names that give no title or no episode.
pub static RULE: Rule = Rule {
    id: "library/unrecognised-names",
    severity: Severity::Note,
    title: "Names that give no title or no episode",
    means: "From the names of some files and of the folders above them no title can be read, or of \
            a series no episode.",
    hurts: "A scan passes them over, or shows them under a name that nobody looks for.",
    fix: "Name them in the usual form; tarvek forecast --problems lists them.",
    example: "A camera's VID_0001.mp4 lies among the films.",
};

/// Judges one root.
pub fn find(_: &Site, case: &UsedPath) -> Vec<Finding> {
    let unread = case.forecast.as_ref().and_then(|forecast| forecast.of(Fault::Unrecognised));
    let (Some(unread), Some(library)) = (unread, case.library()) else { return Vec::new() };
    let Some(first) = unread.told.first() else { return Vec::new() };
    let why = first.why(library.kind);
    let message = format!(
        "{} in {} {}, such as {}: {why}",
        counted(unread.count, "file"),
        case.root.written,
        if unread.count == 1 { "is not recognised" } else { "are not recognised" },
        first.file.place.path
    );
    let finding = case.finding(&RULE).at(&first.file.place).known(Evidence::Observed).says(message);
    vec![finding.remedy(format!("name them in the usual form: {}", usual_form(library.kind)))]
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, named, renamed};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || named("1080p/VID_0001.mp4"),
        by_hand: |scene| renamed(scene, "1080p", "Ebb (1999)/Ebb (1999).mp4"),
    };

    #[test]
    fn a_name_gives_a_title() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.tree("granary", "f 0644 0:0 /loft/media/films/VID_0001.mp4");
        let told = "1 file in /media/films is not recognised, such as \
                    /loft/media/films/VID_0001.mp4: no title can be read from it → name \
                    them in the usual form: Title (Year)/Title (Year).mkv";
        assert_eq!(scene.messages_of(&RULE), told);
    }
}
