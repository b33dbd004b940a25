//! `link/target-unwritable`.

use crate::link::filing::{Filing, filings};
use crate::link::verdict::Reason;
use crate::site::join::Site;
use crate::used::used_path::{UsedPath, stays_usable};
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};

use crate::judge::access_check::judge;
use crate::judge::verdict::Need;
use crate::remedy::rights;
use crate::rules::access::cannot_add;

/// A library folder that the sorter can't add to.
pub static RULE: Rule = Rule {
    id: "link/target-unwritable",
    severity: Severity::Blocker,
    title: "The sorting service can't create in the library",
    means: "A new name needs write and search on the folder that is to hold it, whether it is \
            linked, moved or copied there.",
    hurts: "Nothing is ever filed.",
    fix: "Give the account write and search at the library folder, through a mapping and mounts \
          that can be written.",
    example: "joiner files into /data/films, which only keepers may write.",
};

/// Judges the filing step of every intake.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let refused = filings(site).filter(|filing| {
        let reasons = [Reason::TargetUnwritable, Reason::ReadOnly, Reason::Flagged];
        filing.ends().1.route.entry().is_some()
            && reasons.iter().any(|reason| filing.is_refused_for(*reason))
    });
    let told = |filing: Filing| {
        let into = &filing.ends().1.route;
        // Where an account may not add, that is the finding, and clearing it clears this.
        let refused = judge(site, into, Need::Add).is_refused();
        let keeps = |after: &Site| stays_usable(cases, site, after);
        let finding = rights::usable(site, into, &[Need::Add], filing.finding(&RULE), keeps);
        finding.because(refused.then_some(&cannot_add::RULE))
    };
    refused.map(told).collect()
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, done, intake};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || intake(|scene| done(scene.tree("granary", "d 2755 1101:2100 /loft/media/films"))),
        by_hand: // It is cleared with what brings it about.
            |scene| done(scene.tree("granary", "d 2775 1101:2100 /loft/media/films")),
    };

    #[test]
    fn a_folder_of_others_takes_no_name() {
        let mut scene = Scene::local().with_intake();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.tree("granary", "d 0755 1101:2100 /loft/media/films");
        let told = "joiner can't link files of /data/intake/done into /data/films: \
                    /loft/media/films on granary: group::r-x via gid 2100 does not let \
                    842:2100 add to it (mode 0755 mira:keepers); nothing can be filed";
        assert!(scene.messages_of(&RULE).starts_with(told), "{}", scene.messages_of(&RULE));
    }
}
