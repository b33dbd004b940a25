//! What an intake needs at each of its steps, of the accounts of its services and of what they make.

use super::super::{Rule, RuleId, Severity};
use super::repaired_for;
use crate::access::{Need, R, Verdict, decide as decide_on, judge as decide, judge_within};
use crate::check::{Case, Finding, Where};
use crate::facts::tree::EntryKind;
use crate::layout::{Intake, Service, Want};
use crate::newfile::Making;
use crate::object::Object;
use crate::path::AbsPath;
use crate::route::{Evidence, Route, View, follow};
use crate::site::Site;
use crate::text::{counted, shell_quoted, shown};

/// A folder that has to be added to, and can't be.
pub static CANNOT_ADD: Rule = Rule {
    id: "access/cannot-add",
    severity: Severity::Blocker,
    title: "A service can't create where it has to",
    means: "A fetching service can't add to its partial or done folder, or a sorting one to the library that it files into.",
    hurts: "Downloads fail, or are never filed.",
    fix: "Give the account write and search at the folder named, and see that nothing on the way is read-only.",
    example: "joiner files into /data/films, which only keepers may write.",
};

/// A folder that has to be emptied, and can't be.
pub static CANNOT_REMOVE: Rule = Rule {
    id: "access/cannot-remove",
    severity: Severity::Risk,
    title: "A sorting service can't remove from the done folder",
    means: "Removing and renaming need write and search on the folder that holds the name; in a sticky folder also ownership.",
    hurts: "What was filed stays in the done folder too; an intake that should move files copies them.",
    fix: "Give the account write and search at the done folder, and take its sticky bit away if it has one.",
    example: "The done folder is mode 1777, and the files in it are drover's.",
};

/// New entries that others can't use.
pub static NOT_INHERITED: Rule = Rule {
    id: "access/not-inherited",
    severity: Severity::Blocker,
    title: "What one service makes, another can't use",
    means: "A file that the fetching service makes in the done folder can't be read by the sorting one; or a folder that the \
            sorting one makes in the library can't be read by the serving one.",
    hurts: "What is there today works, and what comes tomorrow does not.",
    fix: "A default ACL on the folder that names the reading account; or a setgid folder, one group for both, and umask 002.",
    example: "drover's umask is 077, and the done folder has no default ACL.",
};

/// Files that bring their rights along.
pub static MOVED_STAYS_PRIVATE: Rule = Rule {
    id: "access/moved-stays-private",
    severity: Severity::Blocker,
    title: "Files stay private when they are moved or linked into the library",
    means: "Renaming and linking inherit nothing: a file keeps the owner, group, mode and ACL that it was made with. What the \
            fetching service makes can't be read by the serving account, whatever the library's defaults say.",
    hurts: "Every new title is in its place and can't be played.",
    fix: "Let the fetching service make readable files: its umask, its own mode setting, or a default ACL on the folder where it \
          makes them.",
    example: "drover makes files with mode 0600; joiner links them into the library, and lantern can't read them.",
};

struct Judge<'a> {
    site: &'a Site,
    cases: &'a [Case<'a>],
}

/// Judges every intake.
pub(super) fn judge(site: &Site, cases: &[Case], findings: &mut Vec<Finding>) {
    let intakes = Judge { site, cases };
    for intake in &site.layout.intakes {
        intakes.intake(intake, findings);
    }
}

/// A service's way to a folder.
struct Way<'a> {
    service: &'a Service,
    route: Route,
}

impl Judge<'_> {
    fn way(&self, service: &str, path: &AbsPath) -> Option<Way<'_>> {
        let service = self.site.layout.service(service)?;
        let (subject, _) = self.site.subject_of(service);
        let view = View::Service(service.name.clone());
        Some(Way { service, route: follow(self.site, &view, path, &subject) })
    }

    fn intake(&self, intake: &Intake, findings: &mut Vec<Finding>) {
        let fetch = intake.fetch.as_ref();
        let sort = intake.sort.as_ref();
        let partial = fetch.and_then(|fetch| self.way(&fetch.service, fetch.partial.as_ref()?));
        let done = fetch.and_then(|fetch| self.way(&fetch.service, &fetch.done));
        let reads = sort.and_then(|sort| self.way(&sort.service, &sort.reads));
        let files_into = sort.and_then(|sort| self.way(&sort.service, &sort.files_into));
        for way in [&partial, &done, &files_into].into_iter().flatten() {
            self.must(way, Need::Add, &CANNOT_ADD, intake, findings);
        }
        let made =
            done.as_ref().and_then(|done| self.made(partial.as_ref().unwrap_or(done), false));
        if let (Some(reads), Some(made)) = (&reads, &made) {
            let verdict = judge_within(self.site, &reads.route, made, Need::Remove);
            self.refused(reads, &verdict, &CANNOT_REMOVE, intake, findings);
            let verdict = judge_within(self.site, &reads.route, made, Need::Read);
            let fetcher = done.as_ref().map(|done| done.service);
            self.unusable(reads, &verdict, made, fetcher, &NOT_INHERITED, intake, findings);
        }
        let Some(into) = &files_into else { return };
        for server in self.served_from(&into.route) {
            if let Some(folder) = self.made(into, true) {
                let verdict = judge_within(self.site, &server.route, &folder, Need::Read);
                self.unusable(
                    &server,
                    &verdict,
                    &folder,
                    Some(into.service),
                    &NOT_INHERITED,
                    intake,
                    findings,
                );
            }
            if intake.want == Want::Copy {
                continue;
            }
            let before = findings.len();
            let fetcher = done.as_ref().map(|done| done.service);
            if let Some(made) = &made {
                let verdict = judge_within(self.site, &server.route, made, Need::Read);
                let rule = &MOVED_STAYS_PRIVATE;
                self.unusable(&server, &verdict, made, fetcher, rule, intake, findings);
            }
            // Whatever the umask says, some programs ask for less: what they have made is there to be seen.
            if let Some(done) = done.as_ref().filter(|_| findings.len() == before) {
                self.waiting(done, &server, intake, findings);
            }
        }
    }

    /// Files that wait in a done folder, and that the serving account could not read in the library.
    fn waiting(&self, done: &Way, server: &Way, intake: &Intake, findings: &mut Vec<Finding>) {
        let (Some((step, folder)), Some((reader, _))) = (done.route.entry(), server.route.entry())
        else {
            return;
        };
        let entered = decide(self.site, &server.route, Need::Enter);
        let Some(objects) = self.site.objects(&step.seen_on) else { return };
        if entered.allowed != Some(true) || reader.seen_on != step.seen_on {
            return;
        }
        let (mut private, mut todo) = (Vec::new(), vec![folder]);
        while let Some(node) = todo.pop() {
            todo.extend(objects.tree.children(node));
            let object = objects.of(node);
            if object.meta.kind == EntryKind::File
                && !decide_on(&object, &reader.subject, R).allowed
            {
                private.push(node);
            }
        }
        let Some(first) = private.iter().min() else { return };
        let (object, place) = (objects.of(*first), objects.tree.path(*first));
        let name = shown(server.service.name.as_bytes());
        let fetcher = shown(done.service.name.as_bytes());
        let count = counted(private.len() as u64, "file");
        let mut finding = self.finding(&MOVED_STAYS_PRIVATE, server, &entered, intake);
        finding.place.path = Some(place.clone());
        findings.push(Finding {
            message: format!(
                "{count} in {}, such as {place} ({}), keep their rights when they are linked or moved into {}, and {name} ({}) \
                 can't read them",
                done.route.asked,
                describe(self.site, server, &object),
                server.route.asked,
                server.route.subject
            ),
            remedy: self.inherited_remedy(server, &fetcher, &object),
            ..finding
        });
    }

    /// What a service makes at the end of its way, with its own umask.
    fn made(&self, way: &Way, folder: bool) -> Option<Object<'_>> {
        let added = decide(self.site, &way.route, Need::Add);
        let making = Making::usual(folder, way.service.umask.unwrap_or(0o022));
        (added.allowed == Some(true)).then(|| way.route.new_entry(self.site, making)).flatten()
    }

    /// The libraries whose root lies at or above the end of a route, with the way of the service that serves them.
    fn served_from(&self, into: &Route) -> Vec<Way<'_>> {
        let (host, path) = into.here();
        let mut ways = Vec::new();
        for case in self.cases {
            let Some(route) = &case.route else { continue };
            let (root_host, root) = route.here();
            if root_host == host && path.within(&root) {
                let rest = path.below(&root).unwrap_or_default();
                ways.extend(self.way(&case.service.name, &route.asked.join(rest)));
            }
        }
        ways
    }

    fn must(
        &self,
        way: &Way,
        need: Need,
        rule: RuleId,
        intake: &Intake,
        findings: &mut Vec<Finding>,
    ) {
        let verdict = decide(self.site, &way.route, need);
        self.refused(way, &verdict, rule, intake, findings);
    }

    fn refused(
        &self,
        way: &Way,
        verdict: &Verdict,
        rule: RuleId,
        intake: &Intake,
        findings: &mut Vec<Finding>,
    ) {
        // A way that leads nowhere is a finding of its own.
        if verdict.allowed != Some(false) || way.route.entry().is_none() {
            return;
        }
        let (host, path) = &verdict.decided_at;
        let what = if verdict.need == Need::Remove { "remove from" } else { "add to" };
        let name = shown(way.service.name.as_bytes());
        let asked = &way.route.asked;
        let sticky = verdict.errno == Some("EPERM") && verdict.need == Need::Remove;
        findings.push(Finding {
            message: format!(
                "{name} ({}) can't {what} {asked}: {path} on {host}: {}",
                way.route.subject, verdict.reason
            ),
            ..match sticky {
                true => Finding {
                    remedy: format!("on {host}: chmod -t {}", shell_quoted(path.as_bytes())),
                    ..self.finding(rule, way, verdict, intake)
                },
                false => {
                    let finding = self.finding(rule, way, verdict, intake);
                    repaired_for(self.site, &way.route, &[Need::Add], false, finding)
                }
            }
        });
    }

    #[expect(clippy::too_many_arguments, reason = "one sentence needs all of them")]
    fn unusable(
        &self,
        reader: &Way,
        verdict: &Verdict,
        made: &Object,
        maker: Option<&Service>,
        rule: RuleId,
        intake: &Intake,
        findings: &mut Vec<Finding>,
    ) {
        // Where the folder itself can't be entered, that is the finding.
        let entered = decide(self.site, &reader.route, Need::Enter).allowed == Some(true);
        let (Some(false), true, Some(maker)) = (verdict.allowed, entered, maker) else { return };
        let maker = shown(maker.name.as_bytes());
        let name = shown(reader.service.name.as_bytes());
        let what = if made.is_folder() { "folder" } else { "file" };
        let subject = &reader.route.subject;
        let moved = if rule == &MOVED_STAYS_PRIVATE { ", linked or moved there," } else { "" };
        findings.push(Finding {
            message: format!(
                "a {what} that {maker} makes will be {}{moved} and {name} ({subject}) can't read it in {}",
                describe(self.site, reader, made),
                reader.route.asked
            ),
            remedy: self.inherited_remedy(reader, &maker, made),
            ..self.finding(rule, reader, verdict, intake)
        });
    }

    /// A default ACL where the filesystem has one, else the group and the umask.
    fn inherited_remedy(&self, reader: &Way, maker: &str, made: &Object) -> String {
        let step = reader.route.trail.last();
        let in_group = step.is_some_and(|step| step.subject.is_in(made.meta.gid));
        if in_group {
            return format!(
                "set umask = \"002\" for {maker}, in the layout and in its own settings"
            );
        }
        let Some(step) = step else { return String::new() };
        let who = self.site.user_text(&step.seen_on, step.subject.uid);
        format!(
            "on {}: setfacl -m d:u:{who}:rX on the folder in which {maker} makes it, and on those below; or put both accounts into \
             its group, with g+s on the folder and umask 002",
            step.host
        )
    }

    fn finding(&self, rule: RuleId, way: &Way, verdict: &Verdict, intake: &Intake) -> Finding {
        Finding {
            rule,
            severity: rule.severity,
            evidence: if way.route.entry().is_some() {
                Evidence::Observed
            } else {
                verdict.evidence
            },
            subject: format!(
                "service:{} intake:{}",
                shown(way.service.name.as_bytes()),
                shown(intake.name.as_bytes())
            ),
            message: String::new(),
            place: Where {
                host: Some(verdict.decided_at.0.clone()),
                path: Some(verdict.decided_at.1.clone()),
                line: Some(intake.origin.line),
            },
            remedy: String::new(),
            affects: vec![format!("intake:{}", shown(intake.name.as_bytes()))],
            effects: Vec::new(),
            because: None,
        }
    }
}

/// `0600 drover:stagehands`.
fn describe(site: &Site, reader: &Way, made: &Object) -> String {
    let host = reader.route.here().0;
    let acl = if made.acl.is_some() { " with an ACL" } else { "" };
    format!("{:04o} {}{acl}", made.meta.mode, site.owner_text(&host, &made.meta))
}
