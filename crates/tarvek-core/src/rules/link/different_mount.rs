//! `link/different-mount`.

use crate::link::filing::{Filing, filings};
use crate::link::verdict::Reason;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};

use crate::remedy::verified_fix::{JudgeAgain, OneMappings, files_well};
use crate::words::remedy::Remedy;

/// Two mappings of one filesystem.
pub static RULE: Rule = Rule {
    id: "link/different-mount",
    severity: Severity::Risk,
    title: "One filesystem, but two mappings: nothing can be linked",
    means: "Each mapping is a mount of its own in the service's view, and link(2) and rename(2) do \
            not go from one mount to another \
            (EXDEV), although both show folders of one filesystem.",
    hurts: "Every import is silently copied: twice the space, and hours of disk traffic.",
    fix: "Map the one folder that is parent to both, and use paths below it, in every service that \
          names them.",
    example: "joiner has /tank/downloads mapped to /downloads and /tank/media to /media; one \
              mapping of /tank to /data makes both one \
              mount.",
};

/// Judges the filing step of every intake.
pub fn find(site: &Site, _: &[UsedPath], judge_again: JudgeAgain) -> Vec<Finding> {
    let refused = filings(site).filter(|filing| filing.is_refused_for(Reason::DifferentMount));
    let mut mappings = OneMappings::default();
    let told = |filing: Filing| {
        let step = &filing.step;
        let finding = filing.finding(&RULE);
        if site.is_trial {
            return finding;
        }
        let one = mappings.of(judge_again, site, &step.service, &step.from, &step.to);
        match one.filter(|one| files_well(&one.site, &filing.ways.intake.name)) {
            Some(one) => {
                let (steps, effects) = (one.steps.clone(), one.effects.clone());
                finding.remedy(Remedy { steps, effects })
            }
            None => finding.remedy(format!(
                "give {} one mapping of a folder that is parent to both, and paths below it",
                step.service
            )),
        }
    };
    refused.map(told).collect()
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::layout::intake::InView;
    use crate::rules::promise::{Promise, done, intake};
    use crate::tests::{Scene, abs, mapping};
    use crate::words::terms::Access;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || intake(|scene| done(scene.two_mappings())),
        by_hand: |scene| {
            scene.service("joiner").map.as_mut().unwrap().truncate(1);
        },
    };

    #[test]
    fn two_mappings_of_one_filesystem_are_two_mounts() {
        let mut scene = Scene::local().with_intake();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.two_mappings();
        let told = scene.messages_of(&RULE);
        assert!(
            told.starts_with(
                "joiner can't link files of /downloads/done into /media/films: \
                                  one filesystem, by two mounts: "
            ),
            "{told}"
        );
        for step in [
            "set from = \"/loft/media\" for joiner's mapping to /downloads; set to = \"/data\" for",
            "in the layout line 22: remove joiner's mapping to /media/films",
            "set reads = \"/data/intake/done\" for sort of intake films",
            "set files_into = \"/data/films\" for sort of intake films",
            "set the new paths in joiner: /downloads/done becomes /data/intake/done, /media/films \
             becomes /data/films",
            "recreate joiner's container with { from = \"/loft/media\", to = \"/data\" }",
            // The one that fetches goes on naming the folder as joiner does.
            "set to = \"/data/intake\" for drover's mapping to /downloads",
            "set the new paths in drover: /downloads/partial becomes /data/intake/partial, \
             /downloads/done becomes /data/intake/done",
        ] {
            assert!(told.contains(step), "{step}\n{told}");
        }
        // Where the paths inside are alike already, none of them changes.
        let mut scene = Scene::local().with_intake();
        scene.service("joiner").map = Some(vec![
            mapping("/loft/media/intake", "/data/intake", Access::ReadWrite),
            mapping("/loft/media/films", "/data/films", Access::ReadWrite),
        ]);
        let told = scene.messages_of(&RULE);
        assert!(
            told.contains("{ from = \"/loft/media\", to = \"/data\" }")
                && !told.contains("becomes"),
            "{told}"
        );
        // A copy is what is wanted.
        scene.layout.intakes[0].want = crate::layout::intake::Want::Copy;
        assert_eq!(scene.messages_of(&RULE), "");
        scene.layout.intakes[0].sort.as_mut().unwrap().files_into = InView::of(abs("/data/none"));
        assert_eq!(scene.messages_of(&RULE), "");
    }
}
