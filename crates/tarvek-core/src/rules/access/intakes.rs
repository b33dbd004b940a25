//! The ways of an intake, and what its services make on them.

use crate::judge::along::judge;
use crate::judge::made::{judge_within, new_entry};
use crate::judge::verdict::{Answer, Need};
use crate::kernel::new_entry::Making;
use crate::kernel::object::Object;
use crate::layout::intake::Intake;
use crate::layout::service::Service;
use crate::route::follow;
use crate::route::hops::{Route, View};
use crate::rules::case::Case;
use crate::site::join::Site;
use crate::words::about::{About, Affected};
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::remedy::{Remedy, Step};
use crate::words::rule::RuleId;

/// A service's way to a folder.
pub(super) struct Way<'a> {
    pub(super) service: &'a Service,
    pub(super) route: Route,
}

impl<'a> Way<'a> {
    fn of(site: &'a Site, service: &Name, path: &AbsPath) -> Option<Self> {
        let service = site.layout.service(service)?;
        let (subject, _) = site.subject_of(service);
        let view = View::service(&service.name);
        Some(Self { service, route: follow(site, &view, path, &subject) })
    }

    /// What its service makes at its end, with its own umask.
    pub(super) fn made(&self, site: &'a Site, folder: bool) -> Option<Object<'a>> {
        let making = Making::usual(folder, self.service.umask.unwrap_or(0o022));
        let adds = judge(site, &self.route, Need::Add).is_allowed();
        adds.then(|| new_entry(site, &self.route, making)).flatten()
    }
}

/// The ways of one intake, as far as it declares them.
pub(super) struct Ways<'a> {
    pub(super) intake: &'a Intake,
    pub(super) partial: Option<Way<'a>>,
    pub(super) done: Option<Way<'a>>,
    pub(super) reads: Option<Way<'a>>,
    pub(super) files_into: Option<Way<'a>>,
}

/// The ways of every intake of a site.
pub(super) fn ways(site: &Site) -> impl Iterator<Item = Ways<'_>> {
    site.layout.intakes.iter().map(move |intake| {
        let fetch = intake.fetch.as_ref();
        let sort = intake.sort.as_ref();
        let fetched = |path: &AbsPath| Way::of(site, &fetch?.service, path);
        let sorted = |path: &AbsPath| Way::of(site, &sort?.service, path);
        Ways {
            intake,
            partial: fetch.and_then(|fetch| fetched(fetch.partial.as_ref()?)),
            done: fetch.and_then(|fetch| fetched(&fetch.done)),
            reads: sort.and_then(|sort| sorted(&sort.reads)),
            files_into: sort.and_then(|sort| sorted(&sort.files_into)),
        }
    })
}

impl<'a> Ways<'a> {
    /// A file as the fetching service makes it: in the partial folder, if there is one.
    pub(super) fn fetched(&self, site: &'a Site) -> Option<Object<'a>> {
        let done = self.done.as_ref()?;
        self.partial.as_ref().unwrap_or(done).made(site, false)
    }

    /// The libraries whose root lies at or above the folder that is filed into, with the way of the service that serves them.
    pub(super) fn served(&self, site: &'a Site, cases: &[Case]) -> Vec<Way<'a>> {
        let Some(into) = &self.files_into else { return Vec::new() };
        let place = into.route.here();
        let mut ways = Vec::new();
        for case in cases {
            let Some(route) = &case.route else { continue };
            let root = route.here();
            if let Some(rest) = place.path.below(&root.path).filter(|_| root.host == place.host) {
                ways.extend(Way::of(site, &case.service.name, &route.asked.join(rest)));
            }
        }
        ways
    }

    /// A finding about a way of it.
    pub(super) fn finding(&self, rule: RuleId, way: &Way, answer: &Answer) -> Finding {
        let seen = way.route.entry().is_some();
        let (service, intake) = (way.service.name.clone(), self.intake.name.clone());
        rule.finding(About::Intake { service, intake })
            .at(&answer.decided_at)
            .line(self.intake.origin.line)
            .known(if seen { Evidence::Observed } else { answer.evidence })
            .affects([Affected::Intake(self.intake.name.clone())])
    }

    /// A finding that a service may not do what it has to; `None` if it may, or nobody knows. A way that leads nowhere is a
    /// finding of its own.
    pub(super) fn refused(
        &self,
        rule: RuleId,
        way: &Way,
        answer: &Answer,
        what: &str,
    ) -> Option<Finding> {
        if !answer.is_refused() || way.route.entry().is_none() {
            return None;
        }
        let message = format!(
            "{} ({}) can't {what} {}: {}: {}",
            way.service.name,
            way.route.subject,
            way.route.asked,
            answer.decided_at.on(),
            answer.reason()
        );
        Some(self.finding(rule, way, answer).says(message))
    }

    /// A finding that somebody can't read what another service makes; `moved` says how it comes to them.
    pub(super) fn unusable(
        &self,
        site: &Site,
        rule: RuleId,
        reader: &Way,
        made: &Object,
        maker: &Service,
        moved: &str,
    ) -> Option<Finding> {
        let answer = judge_within(site, &reader.route, made, Need::Read);
        // Where the folder itself can't be entered, that is the finding.
        let entered = judge(site, &reader.route, Need::Enter).is_allowed();
        if !answer.is_refused() || !entered {
            return None;
        }
        let message = format!(
            "a {} that {} makes will be {}{moved} and {} ({}) can't read it in {}",
            made.meta.kind.word(),
            maker.name,
            describe(site, reader, made),
            reader.service.name,
            reader.route.subject,
            reader.route.asked
        );
        let finding = self.finding(rule, reader, &answer).says(message);
        Some(finding.remedy(inherited(site, reader, &maker.name, made)))
    }
}

/// `0600 drover:keepers`.
pub(super) fn describe(site: &Site, reader: &Way, made: &Object) -> String {
    let acl = if made.acl.is_some() { " with an ACL" } else { "" };
    let owner = site.owner_text(&reader.route.here().host, &made.meta);
    format!("{:04o} {owner}{acl}", made.meta.mode)
}

/// A default ACL where the filesystem has one, else the group and the umask.
pub(super) fn inherited(site: &Site, reader: &Way, maker: &Name, made: &Object) -> Remedy {
    let Some(last) = reader.route.trail.last() else { return Remedy::default() };
    if last.subject.is_in(made.meta.gid) {
        let words =
            format!("set umask = \"002\" for {maker}, in the layout and in its own settings");
        return words.into();
    }
    let who = site.user_text(&last.seen_on, last.subject.uid);
    let words = format!(
        "setfacl -m d:u:{who}:rX on the folder in which {maker} makes it, and on those below; or put both accounts into its \
         group, with g+s on the folder and umask 002"
    );
    Step::on(&last.at.host, words).into()
}
