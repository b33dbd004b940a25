//! `library/inside-intake`.

use crate::layout::intake::Station;
use crate::site::join::Site;
use crate::used::used_path::{Use, UsedPath};
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};

/// A library and an intake inside each other.
pub static RULE: Rule = Rule {
    id: "library/inside-intake",
    severity: Severity::Risk,
    title: "A library lies in an intake, or an intake in a library",
    means: "A library root and a folder of unfinished or unsorted downloads are the same folder, \
            or one lies in the other.",
    hurts: "A scan takes unfinished files for titles, reads them again each time they grow, and \
            shows everything twice once it is filed.",
    fix: "Keep intake and libraries beside each other, below one parent.",
    example: "The root is /data/media, and unfinished downloads lie in /data/media/intake/partial.",
};

/// Judges every library against the folders of every intake.
pub fn find(_: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let passes = |case: &&UsedPath| {
        matches!(case.used, Use::Intake(_, Station::Partial | Station::Done | Station::Reads))
    };
    let mut findings: Vec<Finding> = Vec::new();
    for library in cases.iter().filter(|case| case.library().is_some()) {
        let Some(root) = library.end() else { continue };
        let mut told = Vec::new();
        for intake in cases.iter().filter(passes) {
            let (Some(folder), Use::Intake(declared, station)) = (intake.end(), intake.used) else {
                continue;
            };
            let (inside, outside) =
                (folder.path.within(&root.path), root.path.within(&folder.path));
            // One that was told of already says it of what lies in it, too.
            let known = told.contains(&folder);
            if folder.host != root.host || !(inside || outside) || known {
                continue;
            }
            told.push(folder);
            let what = match station {
                Station::Partial => "unfinished files",
                _ => "files that are not filed yet",
            };
            let message = if inside {
                format!(
                    "the {} of intake {} ({folder}) lies in the root {} ({root}): a scan finds \
                     {what}",
                    intake.what(),
                    declared.name,
                    library.root.written
                )
            } else {
                format!(
                    "the root {} ({root}) lies in the {} of intake {} ({folder}), among {what}",
                    library.root.written,
                    intake.what(),
                    declared.name
                )
            };
            let evidence = library.route.as_ref().map(|route| route.evidence());
            let finding =
                library.finding(&RULE).at(root).says(message).affects([intake.affected()]);
            let finding = evidence.into_iter().fold(finding, Finding::known);
            let above = if inside { &root.path } else { &folder.path };
            findings.push(
                finding.remedy(match above.parent().filter(|parent| !parent.is_root()) {
                    Some(parent) => format!(
                        "move the intake or the library so that neither lies in the other, such as \
                     into two folders of {parent}; then name the \
                     new folders, in the layout and in the services"
                    ),
                    None => {
                        "move one of the two out of the other; then name the new folder, in the \
                         layout and in the services"
                            .to_owned()
                    }
                }),
            );
        }
    }
    findings
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, intake};
    use crate::tests::{Scene, abs, mapping};
    use crate::words::terms::Access;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            intake(|scene| {
                scene.root("/media");
                scene.tree("granary", "d 2770 841:2100 /loft/new\nd 2770 841:2100 /loft/new/done");
                scene.tree("granary", "d 2770 841:2100 /loft/new/partial");
            })
        },
        by_hand: |scene| {
            scene.without("granary", "/loft/media/intake");
            for name in ["drover", "joiner"] {
                scene.service(name).map = Some(vec![mapping("/loft", "/data", Access::ReadWrite)]);
            }
            let way = &mut scene.layout.intakes[0];
            let fetch = way.fetch.as_mut().unwrap();
            fetch.partial.as_mut().unwrap().path = abs("/data/new/partial");
            fetch.done.path = abs("/data/new/done");
            let sort = way.sort.as_mut().unwrap();
            sort.reads.path = abs("/data/new/done");
            sort.files_into.path = abs("/data/media/films");
        },
    };

    #[test]
    fn neither_lies_in_the_other() {
        let mut scene = Scene::local().with_intake();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.root("/media");
        let told = scene.messages_of(&RULE);
        let partial = "the partial folder of intake films (granary:/loft/media/intake/partial) \
                       lies in the root /media (granary:/loft/media): a scan \
                       finds unfinished files → ";
        assert!(told.starts_with(partial), "{told}");
        assert_eq!(told.lines().count(), 2, "partial and done: {told}");
        let mut scene = Scene::local().with_intake();
        scene
            .tree("granary", "f 0664 841:2100 /loft/media/intake/done/films/A (2001)/A (2001).mkv");
        scene.root("/media/intake/done/films");
        let told = scene.messages_of(&RULE);
        assert!(
            told.starts_with(
                "the root /media/intake/done/films \
                                  (granary:/loft/media/intake/done/films) lies in the done folder \
                                  of intake films"
            ),
            "{told}"
        );
    }
}
