//! `survey/not-seen`.

use crate::route::end::End;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::place::Place;
use crate::words::rule::{Rule, Severity};
use crate::words::text::counted;

/// Folders that could not be looked into.
pub static RULE: Rule = Rule {
    id: "survey/not-seen",
    severity: Severity::Risk,
    title: "Part of a library could not be looked into",
    means: "Whoever made the survey was refused by some folders, or they vanished while it ran. \
            What they hold is not part \
            of any verdict.",
    hurts: "The library may be less complete than it looks.",
    fix: "Survey again as root, or as an account that can read everything.",
    example: "The survey ran as an ordinary user, and mira's folder has mode 0700.",
};

/// Judges one root.
pub fn find(site: &Site, case: &UsedPath) -> Vec<Finding> {
    let Some(route) = &case.route else { return Vec::new() };
    let here = route.here();
    let (message, example) = match (&route.end, &case.scan) {
        (end @ End::Unseen { at, why }, _) => {
            let message = match why {
                Some(_) => end.words(),
                None => format!("{} could not be seen: the survey did not go there", at.on()),
            };
            (message, at.path.clone())
        }
        (_, Some(scan)) if scan.unseen > 0 => {
            let example = scan.unseen_examples.first().unwrap_or(&here.path).clone();
            let count = counted(scan.unseen, "folder");
            let asked = &route.asked;
            (format!("{count} below {asked} could not be looked into, such as {example}"), example)
        }
        _ => return Vec::new(),
    };
    let host = &here.host;
    let by = site.facts(host).and_then(|facts| facts.taken_by).filter(|uid| *uid != 0);
    let by = by.map(|uid| format!(" (it was made as uid {uid})")).unwrap_or_default();
    let remedy = match &route.end {
        End::Unseen { why: None, .. } => {
            format!("look at {host} again, with {example} among the roots")
        }
        _ => format!("look at {host} again as root"),
    };
    let finding = case.finding(&RULE).at(&Place::new(host, example)).known(Evidence::Observed);
    vec![finding.says(message + &by).remedy(remedy)]
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::facts::host::Gap;
    use crate::rules::promise::{Promise, done, local};
    use crate::tests::{Scene, abs};

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            local(|scene| done(scene.unread("granary", "/loft/media/films/Low Water (2003)")))
        },
        by_hand: |scene| done(scene.read("granary")),
    };

    #[test]
    fn what_nobody_looked_into_is_told_with_who_should() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.unread("granary", "/loft/media/films/Low Water (2003)");
        let told = "1 folder below /media/films could not be looked into, such as \
                    /loft/media/films/Low Water (2003) → look at granary \
                    again as root";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.facts("granary").taken_by = Some(1101);
        assert!(scene.messages_of(&RULE).contains("Low Water (2003) (it was made as uid 1101) →"));
    }

    #[test]
    fn a_root_that_the_survey_left_out_is_named() {
        let mut scene = Scene::local();
        scene.unread("granary", "/loft/media").without("granary", "/loft/media/films");
        let told = "/loft/media/films on granary could not be seen: the survey did not go there → \
                    look at granary again, with \
                    /loft/media/films among the roots";
        assert_eq!(scene.messages_of(&RULE), told);
        let why = "permission denied (EACCES)".to_owned();
        scene.facts("granary").gaps.push(Gap { path: abs("/loft/media"), why: why.into() });
        let told = "/loft/media/films on granary could not be seen: permission denied (EACCES) → \
                    look at granary again as root";
        assert_eq!(scene.messages_of(&RULE), told);
    }
}
