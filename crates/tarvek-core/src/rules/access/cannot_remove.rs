//! `access/cannot-remove`.

use crate::judge::made::judge_within;
use crate::judge::verdict::{Need, Refusal};
use crate::kernel::acl::Tag;
use crate::kernel::object::{Edit, Grant, Object};
use crate::link::intake::ways;
use crate::remedy::rights;
use crate::route::hops::Route;
use crate::site::join::Site;
use crate::site::suppose::Change;
use crate::used::used_path::{UsedPath, stays_usable};
use crate::words::finding::Finding;
use crate::words::place::Place;
use crate::words::remedy::{Command, Remedy, Step};
use crate::words::rule::{Rule, Severity};

/// A folder that has to be emptied, and can't be.
pub static RULE: Rule = Rule {
    id: "access/cannot-remove",
    severity: Severity::Risk,
    title: "A sorting service can't remove from the done folder",
    means: "Removing and renaming need write and search on the folder that holds the name; in a \
            sticky folder also ownership.",
    hurts: "What was filed stays in the done folder too; an intake that should move files copies \
            them.",
    fix: "Give the account write and search at the done folder, and take its sticky bit away if it \
          has one.",
    example: "The done folder is mode 1777, and the files in it are drover's.",
};

/// Judges every intake.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for ways in ways(site) {
        let (Some(reads), Some(made)) = (&ways.reads, ways.fetched(site)) else { continue };
        let answer = judge_within(site, &reads.route, &made, Need::Remove);
        let finding = ways.refused(site, &RULE, reads, &answer, "remove from");
        findings.extend(finding.map(|finding| match answer.refusal() {
            Some(Refusal::Sticky(_)) => finding.remedy(not_sticky(&answer.decided_at)),
            _ if !finding.remedy.steps.is_empty() => finding,
            _ => {
                let keeps = |after: &Site| stays_usable(cases, site, after);
                let finding = rights::usable(site, &reads.route, &[Need::Add], finding, keeps);
                let sticky = sticky_behind(site, &reads.route, &made);
                match sticky.filter(|_| !finding.remedy.steps.is_empty()) {
                    Some(sticky) => and_then(finding, sticky),
                    None => finding,
                }
            }
        }));
    }
    findings
}

/// The sticky folder that would refuse next, once its flags and rights are as they should be.
fn sticky_behind(site: &Site, route: &Route, made: &Object) -> Option<Remedy> {
    let (end, node) = route.entry()?;
    let tag = Tag::User(end.subject.uid);
    let all = Edit::Entry { tag, grant: Grant::exactly(7), mask: Some(7), inherit: false };
    let change = |edit| Change { host: end.seen_on.clone(), at: node, below: false, edit };
    let open = site.supposing(change(Edit::NoFlags)).supposing(change(all));
    let answer = judge_within(&open, route, made, Need::Remove);
    matches!(answer.refusal(), Some(Refusal::Sticky(_))).then(|| not_sticky(&answer.decided_at))
}

fn not_sticky(place: &Place) -> Remedy {
    let Place { host, path } = place;
    Remedy {
        steps: vec![Step::run(host, Command::new("chmod -t").arg(path))],
        effects: vec![format!("whoever may write {path} can then remove what others have in it")],
    }
}

fn and_then(mut finding: Finding, next: Remedy) -> Finding {
    finding.remedy.steps.extend(next.steps);
    finding.remedy.effects.extend(next.effects);
    finding
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::kernel::subject::{IdMap, IdRange};
    use crate::layout::service::{RunAs, UserNs};
    use crate::rules::promise::{Promise, done, intake, nothing};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            intake(|scene| done(scene.tree("granary", "d 3770 1101:2100 /loft/media/intake/done")))
        },
        by_hand: nothing,
    };

    #[test]
    fn a_sticky_folder_keeps_what_others_have_made() {
        let mut scene = Scene::local().with_intake();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.tree("granary", "d 3770 841:2100 /loft/media/intake/done");
        let told = "joiner (842:2100) can't remove from /data/intake/done: /loft/media/intake/done \
                    on granary: the folder is sticky, and \
                    842:2100 owns neither it nor the entry (uid 841) → on granary: chmod -t \
                    /loft/media/intake/done";
        assert_eq!(scene.messages_of(&RULE), told);
    }

    #[test]
    fn root_of_a_namespace_is_kept_by_a_sticky_folder_of_others_too() {
        let mut scene = Scene::local().with_intake();
        scene.tree(
            "granary",
            "d 3777 841:2100 /loft/media/intake/done\nd 0777 0:0 /loft/media/intake",
        );
        let joiner = scene.service("joiner");
        joiner.runs_as = RunAs::Numbers(0, Some(0));
        let ranges = IdRange { inside: 0, outside: 100_000, count: 65_536 };
        joiner.userns = Some(UserNs::Ranges(IdMap::both(vec![ranges])));
        assert!(
            scene
                .messages_of(&RULE)
                .contains("the folder is sticky, and 100000:100000 owns neither"),
            "{}",
            scene.messages_of(&RULE)
        );
        scene.service("joiner").userns = None;
        assert_eq!(scene.messages_of(&RULE), "", "root of the host may");
    }

    #[test]
    fn without_write_permission_nothing_can_be_taken_out() {
        let mut scene = Scene::local().with_intake();
        scene.tree("granary", "d 2750 841:2100 /loft/media/intake/done");
        let told = scene.messages_of(&RULE);
        assert!(
            told.contains("does not let 842:2100 remove from it (mode 2750 drover:keepers)"),
            "{told}"
        );
        assert!(told.ends_with("setfacl -m u:joiner:rwx /loft/media/intake/done"), "{told}");
    }
}
