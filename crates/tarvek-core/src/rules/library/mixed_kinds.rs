//! `library/mixed-kinds`.

use crate::forecast::titles::Fault;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};
use crate::words::terms::Kind;
use crate::words::text::counted;

/// Films and episodes in one root.
pub static RULE: Rule = Rule {
    id: "library/mixed-kinds",
    severity: Severity::Risk,
    title: "Films and episodes in one root",
    means: "In a library of films some files are named as episodes are, or in one of series some \
            are named as films are.",
    hurts: "Each episode is shown as a film of its own, or the films are not shown at all.",
    fix: "Give each kind a root of its own.",
    example: "Ferry Nine S01E01.mkv lies among the films.",
};

/// Judges one root.
pub fn find(_: &Site, case: &UsedPath) -> Vec<Finding> {
    let other = case.forecast.as_ref().and_then(|forecast| forecast.of(Fault::OtherKind));
    let (Some(other), Some(library)) = (other, case.library()) else { return Vec::new() };
    let Some(first) = other.told.first() else { return Vec::new() };
    let (are, belong) = match library.kind {
        Kind::Series => ("films are", "a library of films"),
        _ => ("episodes are", "a library of series"),
    };
    let message = format!(
        "{} in {} {} named as {are}, such as {}",
        counted(other.count, "file"),
        case.root.written,
        if other.count == 1 { "is" } else { "are" },
        first.file.place.path
    );
    let finding = case.finding(&RULE).at(&first.file.place).known(Evidence::Observed).says(message);
    vec![finding.remedy(format!("move them to {belong}, with a root of its own"))]
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, done, named};
    use crate::tests::Scene;
    use crate::words::terms::Kind;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || named("Ferry Nine/Ferry Nine S01E02.mkv"),
        by_hand: |scene| done(scene.without("granary", "/loft/media/films/Ferry Nine")),
    };

    #[test]
    fn kinds_lie_apart() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.tree("granary", "f 0644 0:0 /loft/media/films/Ferry Nine/Ferry Nine S01E02.mkv");
        assert!(
            scene.messages_of(&RULE).starts_with("1 file in /media/films is named as episodes are")
        );
        scene.service("lantern").libraries[0].kind = Kind::Series;
        assert!(
            scene.messages_of(&RULE).starts_with("1 file in /media/films is named as films are")
        );
    }
}
