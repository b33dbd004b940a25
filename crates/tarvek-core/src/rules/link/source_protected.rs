//! `link/source-protected`.

use std::collections::HashMap;

use crate::kernel::object::{Edit, Grant};
use crate::layout::intake::Want;
use crate::layout::service::{GroupRef, RunAs, Service};
use crate::link::below::holds;
use crate::link::filing::{Filing, filings};
use crate::link::link_paths::LinkPaths;
use crate::link::verdict::Reason;
use crate::remedy::apply_on_host::run_as_account;
use crate::remedy::apply_on_host::set_and_restart;
use crate::remedy::verified_fix::{JudgeAgain, brings_nothing_about, files_well};
use crate::site::join::Site;
use crate::site::suppose::Change;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::part::Part;
use crate::words::remedy::{Command, Remedy, Step};
use crate::words::rule::{Rule, Severity};
use crate::words::text::counted;

/// Links that the kernel refuses to those who do not own the file.
pub static RULE: Rule = Rule {
    id: "link/source-protected",
    severity: Severity::Risk,
    title: "The kernel keeps the sorting service from linking what the fetching one made",
    means: "With fs.protected_hardlinks, which is usually on, whoever does not own a file may link \
            it only if they may read and write \
            it (EPERM otherwise). Renaming has no such rule.",
    hurts: "Every import is copied, though everything lies on one filesystem and in one mapping.",
    fix: "Run both services as one account; or put both into one group, give the intake that group \
          with g+s, and set umask 002 for the \
          fetching one, so that its files are group-writable.",
    example: "drover makes files with mode 0644, and joiner, another account, links them.",
};

/// Judges the filing step of every intake: files as they will be made, and those that wait.
pub fn find(site: &Site, _: &[UsedPath], judge_again: JudgeAgain) -> Vec<Finding> {
    let mut cures = Cures::default();
    let linking = filings(site).filter(|filing| filing.ways.intake.want == Want::Hardlink);
    linking.filter_map(|filing| judge_pairs(site, &filing, &mut cures, judge_again)).collect()
}

fn judge_pairs(
    site: &Site,
    filing: &Filing,
    cures: &mut Cures,
    judge_again: JudgeAgain,
) -> Option<Finding> {
    let waiting = waiting(site, filing);
    if filing.is_refused_for(Reason::SourceProtected) {
        let finding = filing.finding(&RULE);
        return Some(if site.is_trial {
            finding
        } else {
            finding.remedy(cures.remedy(site, filing, waiting.is_some(), judge_again))
        });
    }
    let (count, example, detail) = waiting.filter(|_| filing.verdict().possible != Some(false))?;
    let message =
        format!("{}: {} there, such as {example}: {detail}", filing.cant(), counted(count, "file"));
    Some(filing.finding(&RULE).says(message).remedy(opened(site, filing).unwrap_or_default()))
}

/// How many files wait in the done folder that could not be linked for this reason, one of them,
/// and why.
fn waiting(site: &Site, filing: &Filing) -> Option<(u64, String, String)> {
    let (reads, _) = filing.ends();
    let view = &reads.route.view;
    let (from, to) = (filing.step.from.as_bytes(), filing.step.to.as_bytes());
    let ends = LinkPaths::of(site, view, &reads.route.subject, from, to);
    let held = holds(&ends)?;
    let cause = held.causes.into_iter().find(|cause| cause.reason == Reason::SourceProtected)?;
    let example = cause.examples.first()?.to_string();
    Some((cause.count, example, cause.detail))
}

/// What makes files linkable that one service fetches and another sorts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Cure {
    /// A umask that leaves them group-writable.
    Umask,
    /// The same, and the group joined.
    Group,
    /// One account for both.
    Account,
}

/// The cure of each pair of services, judged once: the first that lets files be linked, and of
/// which nothing else comes.
#[derive(Default)]
struct Cures(HashMap<(Name, Name), Option<Cure>>);

/// The two services of an intake, and what is to be changed of them.
struct Pair<'a> {
    fetcher: &'a Service,
    sorter: &'a Service,
    umask: u16,
    /// Of the files that are made.
    group: u32,
}

impl Cures {
    fn remedy(
        &mut self,
        site: &Site,
        filing: &Filing,
        waits: bool,
        judge_again: JudgeAgain,
    ) -> Remedy {
        let pair = Pair::of(site, filing);
        let cure = pair.as_ref().and_then(|pair| {
            let key = (pair.fetcher.name.clone(), pair.sorter.name.clone());
            let intake = &filing.ways.intake.name;
            let holds = |cure: &Cure| {
                if *cure == Cure::Account && pair.fetcher.runs_as == RunAs::Unset {
                    return false;
                }
                let after = pair.after(site, *cure);
                let (fetcher, sorter) = (&pair.fetcher.name, &pair.sorter.name);
                let changed: &[&Name] = match cure {
                    Cure::Umask => &[fetcher],
                    Cure::Group => &[fetcher, sorter],
                    Cure::Account => &[sorter],
                };
                files_well(&after, intake)
                    && brings_nothing_about(site, &after, changed, judge_again)
            };
            let find = || [Cure::Umask, Cure::Group, Cure::Account].into_iter().find(holds);
            let known = *self.0.entry(key).or_insert_with(find);
            known.filter(|cure| files_well(&pair.after(site, *cure), intake))
        });
        match (pair, cure) {
            (Some(pair), Some(cure)) => pair.remedy_of(site, filing, cure, waits),
            _ => Remedy::from(format!(
                "run {} as the account of the fetching service, or put both into one group and let \
                 files be group-writable",
                filing.step.service
            )),
        }
    }
}

impl<'a> Pair<'a> {
    fn of(site: &'a Site, filing: &Filing) -> Option<Self> {
        let fetcher = site.layout.service(&filing.ways.intake.fetch.as_ref()?.service)?;
        let sorter = site.layout.service(&filing.step.service)?;
        let group = filing.ways.fetched(site)?.meta.gid;
        let umask = fetcher.umask.unwrap_or(0o022) & !0o060;
        Some(Self { fetcher, sorter, umask, group })
    }

    /// The site with the cure made.
    fn after(&self, site: &Site, cure: Cure) -> Site {
        let mut after = site.as_trial();
        for service in after.layout.services.iter_mut() {
            if service.name == self.fetcher.name && cure != Cure::Account {
                service.umask = Some(self.umask);
            }
            if service.name == self.sorter.name {
                match cure {
                    Cure::Umask => {}
                    Cure::Group => service.groups.push(GroupRef::Gid(self.group)),
                    Cure::Account => service.runs_as.clone_from(&self.fetcher.runs_as),
                }
            }
        }
        after
    }

    fn remedy_of(&self, site: &Site, filing: &Filing, cure: Cure, waits: bool) -> Remedy {
        let (maker, sorter) = (&self.fetcher.name, &self.sorter.name);
        if cure == Cure::Account {
            let subject = site.subject_of(self.fetcher).0;
            let account = format!("{}:{}", subject.uid, subject.gid);
            let edit = site.layout.set(Part::Service(sorter.clone()), "runs_as", account);
            let effects = vec![format!(
                "{sorter} can then do all that {maker} can, and no longer what only its own \
                 account could"
            )];
            return Remedy { steps: vec![edit, run_as_account(self.sorter)], effects };
        }
        let mut steps = Vec::new();
        if cure == Cure::Group {
            let part = Part::Service(sorter.clone());
            steps.push(site.layout.add(part, "groups", self.group));
            let words = format!("restart {sorter} with group {}", self.group);
            steps.push(Step::on(&self.sorter.host, words));
        }
        let part = Part::Service(maker.clone());
        steps.push(site.layout.set(part, "umask", format!("{:03o}", self.umask)));
        steps.push(set_and_restart(self.fetcher));
        if waits {
            steps.extend(opened(site, filing).into_iter().flat_map(|remedy| remedy.steps));
        }
        let group = site.group_text(&filing.ends().0.route.here().host, self.group);
        let effects = vec![format!("everyone in group {group} can then write what {maker} makes")];
        Remedy { steps, effects }
    }
}

/// Makes the files that wait group-writable, if that lets them be linked.
fn opened(site: &Site, filing: &Filing) -> Option<Remedy> {
    let (reads, _) = filing.ends();
    let (end, node) = reads.route.entry()?;
    let edit = Edit::Class { shift: 3, grant: Grant::exactly(6) };
    let change = Change { host: end.seen_on.clone(), at: node, below: true, edit };
    let after = site.supposing(change);
    // The folders themselves stay as they are; it is the files that count.
    let left = waiting(&after, filing);
    let who = site.group_text(&end.seen_on, reads.route.arrived().gid);
    if left.is_some() {
        let words = format!("let {} read and write those files", filing.step.service);
        return Some(Step::on(&end.seen_on, words).into());
    }
    let command = Command::new("find").arg(&end.at.path).args("-type f -exec chmod g+rw {} +");
    let effects = vec![format!(
        "the group of each of those files can then write it (group {who} among them)"
    )];
    Some(Remedy { steps: vec![Step::run(&end.at.host, command)], effects })
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, intake};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            intake(|scene| {
                let on = ("fs.protected_hardlinks".to_owned(), 1);
                scene.facts("granary").told.sysctls.push(on);
                scene.service("drover").umask = Some(0o022);
                scene.tree("granary", "f 0644 841:2100 /loft/media/intake/done/a.mkv");
            })
        },
        by_hand: |scene| scene.service("drover").umask = Some(0o002),
    };

    fn scene() -> Scene {
        let mut scene = Scene::local().with_intake();
        scene.facts("granary").told.sysctls = vec![("fs.protected_hardlinks".to_owned(), 1)];
        scene
    }

    #[test]
    fn files_of_others_are_linked_only_by_those_who_may_write_them() {
        assert_eq!(scene().messages_of(&RULE), "");
        let mut narrow = scene();
        narrow.service("drover").umask = Some(0o022);
        let told = "joiner can't link files of /data/intake/done into /data/films: \
                    fs.protected_hardlinks is on, 842:2100 does not own the source (uid 841), and \
                    may not both read and write it (mode 0644); moving them still costs no copy → \
                    in the layout line 5: set umask = \"002\" for service drover; on granary: set \
                    it in drover as well, and restart it";
        assert_eq!(narrow.messages_of(&RULE), told);
        narrow.facts("granary").told.sysctls[0].1 = 0;
        assert_eq!(narrow.messages_of(&RULE), "");
        narrow.facts("granary").told.sysctls[0].1 = 1;
        narrow.layout.intakes[0].want = crate::layout::intake::Want::Rename;
        assert_eq!(narrow.messages_of(&RULE), "", "a rename has no such rule");
        narrow.layout.intakes[0].want = crate::layout::intake::Want::Hardlink;
        // Not known is not refused.
        narrow.facts("granary").told.sysctls.clear();
        assert_eq!(narrow.messages_of(&RULE), "");
    }

    #[test]
    fn what_waits_is_judged_as_well() {
        let mut scene = scene();
        scene.tree(
            "granary",
            "f 0644 841:2100 /loft/media/intake/done/a.mkv\nf 0664 841:2100 \
                               /loft/media/intake/done/b/c.mkv",
        );
        let told = "joiner can't link files of /data/intake/done into /data/films: 1 file there, \
                    such as /data/intake/done/a.mkv: \
                    fs.protected_hardlinks is on, 842:2100 does not own the source (uid 841), and \
                    may not both read and write it (mode 0644) → \
                    on granary: find /loft/media/intake/done -type f -exec chmod g+rw '{}' +";
        assert_eq!(scene.messages_of(&RULE), told);
    }
}
