//! `access/not-inherited`.

use crate::link::intake::ways;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};

/// New entries that others can't use.
pub static RULE: Rule = Rule {
    id: "access/not-inherited",
    severity: Severity::Blocker,
    title: "What one service makes, another can't use",
    means: "A file that the fetching service makes in the done folder can't be read by the sorting \
            one; or a folder that the \
            sorting one makes in the library can't be read by the serving one.",
    hurts: "What is there today works, and what comes tomorrow does not.",
    fix: "A default ACL on the folder that names the reading account; or a setgid folder, one \
          group for both, and umask 002.",
    example: "drover's umask is 077, and the done folder has no default ACL.",
};

/// Judges every intake.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for ways in ways(site) {
        if let (Some(reads), Some(place), Some(made)) =
            (&ways.reads, ways.made_in(), ways.fetched(site))
        {
            findings.extend(ways.unusable(site, &RULE, reads, &made, place, ""));
        }
        let Some(into) = &ways.files_into else { continue };
        let Some(folder) = into.made(site, true) else { continue };
        for server in ways.served(site, cases) {
            findings.extend(ways.unusable(site, &RULE, &server, &folder, into, ""));
        }
    }
    findings
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, intake};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || intake(|scene| scene.service("joiner").umask = Some(0o027)),
        by_hand: |scene| scene.service("joiner").umask = Some(0o022),
    };

    #[test]
    fn what_one_makes_the_next_has_to_read() {
        let mut scene = Scene::local().with_intake();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.service("joiner").umask = Some(0o027);
        let told = "a folder that joiner makes in /data/films will be 2750 joiner:keepers and \
                    lantern (840:840) can't read it in /media/films → in the layout line 5: set \
                    umask = \"022\" for service joiner; on granary: set it in joiner as well, and \
                    restart it";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.service("joiner").umask = Some(0o002);
        scene.service("drover").umask = Some(0o077);
        let told = "a file that drover makes in /data/intake/partial will be 0600 drover:keepers \
                    and joiner (842:2100) can't read it in /data/intake/done → in the layout line \
                    5: set umask = \"027\" for service drover; on granary: set it in drover as \
                    well, and restart it";
        assert_eq!(scene.messages_of(&RULE), told);
    }
}
