//! `link/different-quota-tree`.

use crate::link::filing::{Filing, filings};
use crate::link::verdict::Reason;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};

use crate::link::link_paths::of_folder;
use crate::words::remedy::{Command, Remedy, Step};

/// Two quota trees.
pub static RULE: Rule = Rule {
    id: "link/different-quota-tree",
    severity: Severity::Risk,
    title: "Intake and library belong to different project quotas",
    means: "A folder that hands its project on (chattr +P) takes in no file of another project, by \
            link or by rename (EXDEV), even \
            where no quota is in force. The file's own number counts, not that of the folder it \
            comes from.",
    hurts: "Every import is copied, on one filesystem and through one mapping.",
    fix: "Give intake and library the same project.",
    example: "/tank/media has project 7 with +P, and /tank/intake has none.",
};

/// Judges the filing step of every intake.
pub fn find(site: &Site, _: &[UsedPath]) -> Vec<Finding> {
    let refused = filings(site).filter(|filing| filing.is_refused_for(Reason::DifferentQuotaTree));
    let told = |filing: Filing| {
        let finding = filing.finding(&RULE);
        let project = of_folder(site, &filing.ends().1.route).and_then(|(_, project)| project);
        let made = filing.ways.made_in();
        let places = made.into_iter().chain(&filing.ways.done).map(|way| way.route.here());
        let mut places: Vec<_> = places.collect();
        places.dedup();
        let Some(project) = project.filter(|_| !places.is_empty()) else { return finding };
        let steps = places.iter().map(|place| {
            let number = project.id.to_string();
            let command = Command::new("chattr -R +P -p").arg(number).arg(&place.path);
            Step::run(&place.host, command)
        });
        let effects = vec![format!(
            "what lies in the intake then counts towards the quota of project {}",
            project.id
        )];
        finding.remedy(Remedy { steps: steps.collect(), effects })
    };
    refused.map(told).collect()
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::kernel::entry::Project;
    use crate::rules::promise::{Promise, done, intake, nothing};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            intake(|scene| {
                let project = Project { id: 7, inherits: true };
                done(scene.project("granary", "/loft/media/films", project))
            })
        },
        by_hand: nothing,
    };

    #[test]
    fn a_project_that_is_handed_on_lets_nothing_else_in() {
        let mut scene = Scene::local().with_intake();
        scene.project("granary", "/loft/media/films", Project { id: 7, inherits: false });
        assert_eq!(scene.messages_of(&RULE), "");
        scene.project("granary", "/loft/media/films", Project { id: 7, inherits: true });
        let told = "joiner can't link files of /data/intake/done into /data/films: the folder \
                    takes in nothing but project 7 (chattr +P), and the \
                    source belongs to project 0; each download is copied and takes its space twice \
                    → on granary: \
                    chattr -R +P -p 7 /loft/media/intake/partial; chattr -R +P -p 7 \
                    /loft/media/intake/done";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.project("granary", "/loft/media/intake/partial", Project { id: 7, inherits: true });
        assert_eq!(scene.messages_of(&RULE), "", "it is where the file is made that counts");
    }
}
