//! The ways of an intake, and what its services make on them.

use crate::judge::access_check::judge;
use crate::judge::made::{judge_within, new_entry};
use crate::judge::verdict::{Answer, Need};
use crate::kernel::acl::Tag;
use crate::kernel::decide::{R, W, X, decide};
use crate::kernel::entry::EntryKind;
use crate::kernel::new_entry::Making;
use crate::kernel::object::{Edit, Grant, Object};
use crate::link::intake::{Way, Ways};
use crate::remedy::apply_on_host::set_and_restart;
use crate::remedy::effects::effects;
use crate::remedy::plan::takes_posix_acls;
use crate::rules::access::admission;
use crate::site::join::Site;
use crate::site::suppose::Change;
use crate::used::used_path::UsedPath;
use crate::words::about::{About, Affected};
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::part::Part;
use crate::words::remedy::{Command, Remedy, Step};
use crate::words::rule::RuleId;

impl<'a> Ways<'a> {
    /// The libraries whose root lies at or above the folder that is filed into, with the way of the
    /// service that serves them.
    pub(in crate::rules) fn served(&self, site: &'a Site, cases: &[UsedPath]) -> Vec<Way<'a>> {
        let Some(into) = &self.files_into else { return Vec::new() };
        let place = into.route.here();
        let mut ways = Vec::new();
        for case in cases.iter().filter(|case| case.library().is_some()) {
            let Some(route) = &case.route else { continue };
            let root = route.here();
            if let Some(rest) = place.path.below(&root.path).filter(|_| root.host == place.host) {
                ways.extend(Way::of(site, &case.service.name, &route.asked.join(rest)));
            }
        }
        ways
    }

    /// A finding about a way of it.
    pub(in crate::rules) fn finding(&self, rule: RuleId, way: &Way, answer: &Answer) -> Finding {
        let seen = way.route.entry().is_some();
        let (service, intake) = (way.service.name.clone(), self.intake.name.clone());
        rule.finding(About::Intake { service, intake })
            .at(&answer.decided_at)
            .line(self.intake.origin.line)
            .known(if seen { Evidence::Observed } else { answer.evidence })
            .affects([Affected::Intake(self.intake.name.clone())])
    }

    /// A finding that a service may not do what it has to; `None` if it may, or nobody knows. A way
    /// that leads nowhere is a finding of its own.
    pub(in crate::rules) fn refused(
        &self,
        site: &Site,
        rule: RuleId,
        way: &Way,
        answer: &Answer,
        what: &str,
    ) -> Option<Finding> {
        let not_admitted = admission::remedy(site, &way.route);
        if !answer.is_refused() || way.route.entry().is_none() && not_admitted.is_none() {
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
        let finding = self.finding(rule, way, answer).says(message);
        Some(finding.remedy(not_admitted.unwrap_or_default()))
    }

    /// A finding that somebody can't read what another service makes; `moved` says how it comes to
    /// them.
    pub(in crate::rules) fn unusable(
        &self,
        site: &Site,
        rule: RuleId,
        reader: &Way,
        made: &Object,
        place: &Way,
        moved: &str,
    ) -> Option<Finding> {
        let maker = place.service;
        let answer = judge_within(site, &reader.route, made, Need::Read);
        // Where the folder itself can't be entered, that is the finding.
        let entered = judge(site, &reader.route, Need::Enter).is_allowed();
        if !answer.is_refused() || !entered {
            return None;
        }
        let message = format!(
            "a {} that {} makes in {} will be {}{moved} and {} ({}) can't read it in {}",
            made.meta.kind.word(),
            maker.name,
            place.route.asked,
            describe(site, reader, made),
            reader.service.name,
            reader.route.subject,
            reader.route.asked
        );
        let finding = self.finding(rule, reader, &answer).says(message);
        Some(finding.remedy(inherited(site, place, reader, made.is_folder())))
    }
}

/// `0600 drover:keepers`.
pub(in crate::rules) fn describe(site: &Site, reader: &Way, made: &Object) -> String {
    let acl = if made.acl.is_some() { " with an ACL" } else { "" };
    let owner = site.owner_text(&reader.route.here().host, &made.meta);
    format!("{:04o} {owner}{acl}", made.meta.mode)
}

/// The smallest change after which whoever reads can read what is made: another umask, else an
/// entry that the folder in which it is made hands on.
fn inherited(site: &Site, place: &Way, reader: &Way, folder: bool) -> Remedy {
    let maker = place.service;
    let readable = |site: &Site, made: Option<Object>| {
        made.is_some_and(|made| judge_within(site, &reader.route, &made, Need::Read).is_allowed())
    };
    let umask = maker.umask.unwrap_or(0o022);
    let wider = [0o050, 0o005, 0o055].map(|bits| umask & !bits);
    let wide = wider.into_iter().find(|wider| {
        let making = Making::usual(folder, *wider);
        *wider != umask && readable(site, new_entry(site, &place.route, making))
    });
    if let Some(wide) = wide {
        let part = Part::Service(maker.name.clone());
        return Remedy::of(vec![
            site.layout.set(part, "umask", format!("{wide:03o}")),
            set_and_restart(maker),
        ]);
    }
    let handed_on = || {
        let (end, node) = place.route.entry()?;
        let (last, host) = (reader.route.trail.last()?, &end.seen_on);
        let who = &last.subject;
        let edit = Edit::Inherited { tag: Tag::User(who.uid), grant: Grant::below(R | X) };
        let change = Change { host: host.clone(), at: node, below: false, edit };
        let after = site.supposing(change.clone());
        let making = Making::usual(folder, umask);
        // An entry that says more already is not cut down to this one.
        let objects = site.objects(host)?;
        let more = |object: Object| {
            object.default_acl.is_some_and(|acl| acl.perm(Tag::User(who.uid)).unwrap_or(0) & W != 0)
        };
        let cut = objects.tree.below(node).any(|below| more(objects.of(below)));
        let fits = !cut && last.seen_on == *host && takes_posix_acls(site, host, node);
        if !fits || !readable(&after, new_entry(&after, &place.route, making)) {
            return None;
        }
        let entry = format!("d:u:{}:rX", site.user_text(host, who.uid));
        let command = Command::new("find").arg(&end.at.path).args("-type d -exec setfacl -m");
        let command = command.arg(entry).args("{} +");
        Some(Remedy {
            steps: vec![Step::run(host, command)],
            effects: effects(site, &after, &[change], who, false),
        })
    };
    handed_on().unwrap_or_else(|| {
        let (name, reader) = (&maker.name, &reader.service.name);
        let words = format!(
            "put {name} and {reader} into one group, give the folder in which {name} makes it ({}) \
             that group with g+s, and set umask = \"002\" for {name}",
            place.route.asked
        );
        words.into()
    })
}

/// What lets whoever reads read files that were made for their maker alone, and keeps more of them
/// from being made.
pub(in crate::rules) fn opened(site: &Site, place: &Way, reader: &Way) -> Remedy {
    let name = &place.service.name;
    let first = Step::on(
        &place.service.host,
        format!(
            "have {name} make files that others may read: it is its own setting that asks for less \
             than the umask leaves"
        ),
    );
    let (Some((end, node)), Some(last)) = (place.route.entry(), reader.route.trail.last()) else {
        return first.into();
    };
    let (host, who) = (&end.seen_on, site.user_text(&end.seen_on, last.subject.uid));
    let Some(objects) = site.objects(host) else { return first.into() };
    let files = || {
        let objects = objects.tree.below(node).map(|below| objects.of(below));
        objects.filter(|object| object.meta.kind == EntryKind::File)
    };
    let may = |object: &Object, want| decide(object, &last.subject, want).allowed;
    let find = Command::new("find").arg(&end.at.path).args("-type f");
    // Who may write one of them is not cut down to reading.
    let find = if !files().any(|object| may(&object, W)) {
        find
    } else if files().all(|object| may(&object, R) || object.meta.mode & 0o066 == 0) {
        find.args("! -perm /066")
    } else {
        return Remedy::of(vec![first, Step::on(host, format!("let {who} read those files"))]);
    };
    let find = find.args("-exec");
    let grant = Grant::exactly(R);
    let (give, edit) = if takes_posix_acls(site, host, node) {
        let tag = Tag::User(last.subject.uid);
        let edit = Edit::Entry { tag, grant, mask: None, inherit: false };
        (find.args("setfacl -m").arg(format!("u:{who}:r")).args("{} +"), edit)
    } else {
        (find.args("chmod g+r {} +"), Edit::Class { shift: 3, grant })
    };
    let changes = [Change { host: host.clone(), at: node, below: true, edit }];
    let after = site.supposing(changes[0].clone());
    let effects = effects(site, &after, &changes, &last.subject, false);
    Remedy { steps: vec![first, Step::run(host, give)], effects }
}
