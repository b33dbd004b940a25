//! `link/partial-elsewhere`.

use crate::link::intake::{Stage, ways};
use crate::link::verdict::Reason;
use crate::remedy::verified_fix::{JudgeAgain, OneMappings};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::about::{About, Affected};
use crate::words::finding::Finding;
use crate::words::remedy::Remedy;
use crate::words::rule::{Rule, Severity};

/// Downloads that are written twice.
pub static RULE: Rule = Rule {
    id: "link/partial-elsewhere",
    severity: Severity::Note,
    title: "Finished downloads are copied from the partial folder",
    means: "The partial and the done folder lie on two filesystems, or are seen through two \
            mappings, so that a finished download can't be \
            renamed from one to the other.",
    hurts: "Each download is written twice.",
    fix: "Keep both below one folder of one filesystem, in one mapping; or do so on purpose, where \
          the partial folder is a fast scratch disk.",
    example: "Unfinished downloads lie on the system disk.",
};

/// Judges the first step of every intake.
pub fn find(site: &Site, _: &[UsedPath], judge_again: JudgeAgain) -> Vec<Finding> {
    let (mut findings, mut mappings) = (Vec::new(), OneMappings::default());
    for ways in ways(site) {
        let reasons =
            [Reason::DifferentFilesystem, Reason::DifferentMount, Reason::DifferentQuotaTree];
        let steps = ways.steps(site).into_iter();
        let Some(step) = { steps }.find(|step| step.stage == Stage::Finish) else { continue };
        let (Some(done), true) = (&ways.done, reasons.contains(&step.rename.reason)) else {
            continue;
        };
        let (service, intake) = (step.service.clone(), ways.intake.name.clone());
        let message = format!(
            "{} can't rename files from {} to {}: {}; each download is written twice",
            step.service, step.from, step.to, step.rename.detail
        );
        let finding = RULE
            .finding(About::Intake { service, intake: intake.clone() })
            .at(done.route.here())
            .line(ways.intake.origin.line)
            .known(step.rename.evidence)
            .affects([Affected::Intake(intake)])
            .says(message);
        let trial = site.is_trial;
        let one =
            (!trial).then(|| mappings.of(judge_again, site, &step.service, &step.from, &step.to));
        let one = one.flatten();
        findings.push(match one {
            Some(one) => {
                finding.remedy(Remedy { steps: one.steps.clone(), effects: one.effects.clone() })
            }
            None => finding.remedy(format!(
                "let {} keep unfinished files in a folder beside {} on {}, and see both through \
                 one mapping",
                step.service,
                done.route.here().path,
                done.route.here().host
            )),
        });
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
                scene.tree("granary", "d 2770 841:2100 /loft/media/intake/partial");
                let mut own = mapping("/loft/media/intake/partial", "/partial", Access::ReadWrite);
                own.origin.line = 12;
                own.to.origin.line = 12;
                scene.service("drover").map.as_mut().unwrap().push(own);
                let fetch = scene.layout.intakes[0].fetch.as_mut().unwrap();
                fetch.partial.as_mut().unwrap().path = abs("/partial");
            })
        },
        by_hand: |scene| scene.service("drover").map.as_mut().unwrap().truncate(1),
    };

    #[test]
    fn a_partial_folder_on_another_mount_is_copied_from() {
        let mut scene = Scene::local().with_intake();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.tree("granary", "d 0770 841:2100 /scratch/partial");
        let scratch = mapping("/scratch/partial", "/data/intake/partial", Access::ReadWrite);
        scene.service("drover").map.as_mut().unwrap().push(scratch);
        let told = scene.messages_of(&RULE);
        assert!(
            told.starts_with(
                "drover can't rename files from /data/intake/partial to \
                                  /data/intake/done: two filesystems: "
            ),
            "{told}"
        );
        assert!(
            told.ends_with(
                "let drover keep unfinished files in a folder beside \
                                /loft/media/intake/done on granary, and see both through one \
                                mapping"
            ),
            "{told}"
        );
        let own = mapping("/loft/media/intake/partial", "/partial", Access::ReadWrite);
        *scene.service("drover").map.as_mut().unwrap().last_mut().unwrap() = own;
        let fetch = scene.layout.intakes[0].fetch.as_mut().unwrap();
        fetch.partial.as_mut().unwrap().path = crate::tests::abs("/partial");
        let told = scene.messages_of(&RULE);
        assert!(
            told.contains("set partial = \"/data/intake/partial\" for fetch of intake films"),
            "{told}"
        );
    }
}
