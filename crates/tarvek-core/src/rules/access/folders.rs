//! What folders and trees grant, whoever asks: more or less than is declared, to everyone, one by one, to nobody.

use std::collections::{BTreeMap, BTreeSet};

use super::super::{Rule, RuleId, Severity};
use crate::access::{R, W, X, decide};
use crate::acl::Tag;
use crate::check::{Case, Finding, Where};
use crate::facts::tree::{EntryKind, Lookup, NodeId, Tree};
use crate::identity::{NOBODY, Subject};
use crate::layout::{Folder, Mode, Right};
use crate::object::Objects;
use crate::party::seen_as;
use crate::path::AbsPath;
use crate::route::{Evidence, View, follow};
use crate::site::Site;
use crate::text::{counted, shell_quoted, shown};

/// Anyone may write.
pub static WORLD_WRITABLE: Rule = Rule {
    id: "access/world-writable",
    severity: Severity::Risk,
    title: "Anyone may write",
    means: "Files or folders of a media share grant writing to everyone: by the mode's last digit, or by an ACL entry for all.",
    hurts: "Every account and every program on every host that reaches the share can change and delete them.",
    fix: "Take the permission away (chmod -R o-w), and give it to the group that needs it.",
    example: "/silo/media/incoming has mode 0777.",
};

/// The filesystem says something else than the layout.
pub static NOT_AS_DECLARED: Rule = Rule {
    id: "access/not-as-declared",
    severity: Severity::Risk,
    title: "Rights are not as they are declared",
    means: "The layout says what an account, service or group may do in a folder and everything below; what it really may do \
            there is more, or less.",
    hurts: "Whoever reads the layout believes what is not so.",
    fix: "Bring the folder to what is declared (`tarvek emit script` does), or declare what is meant.",
    example: "lantern = \"read\" is declared for /silo/media, and 12 entries below can be written by it.",
};

/// A grant per person.
pub static PER_USER_GRANTS: Rule = Rule {
    id: "access/per-user-grants",
    severity: Severity::Note,
    title: "Several people are granted one by one",
    means: "An ACL names three or more users with the same permissions.",
    hurts: "Whoever comes or goes has to be added or taken away on every folder, and is forgotten on some.",
    fix: "Make a group of them, grant the group, and take the single entries away.",
    example: "user:mira:rwx, user:oskar:rwx and user:ines:rwx on /silo/media.",
};

/// Owners without an account.
pub static ORPHANED_OWNER: Rule = Rule {
    id: "access/orphaned-owner",
    severity: Severity::Note,
    title: "Files belong to numbers without an account",
    means: "Entries of a media share are owned by uids that the host has no account for.",
    hurts: "Nobody knows whose they are; an account that gets the number one day owns them.",
    fix: "Give them to an account (chown -R), or make the account that is missing.",
    example: "140 files are owned by 1004, an account that was deleted.",
};

/// Judges what is declared of folders, and the trees that hold media.
pub(super) fn judge(site: &Site, cases: &[Case], findings: &mut Vec<Finding>) {
    for (host, _) in site.observed() {
        let Some(objects) = site.objects(host) else { continue };
        let mut survey = Survey::default();
        for place in media_places(site, host, cases) {
            let Lookup::Found(top) = objects.tree.find(&place) else { continue };
            survey.read(objects, top);
        }
        survey.report(site, host, findings);
    }
    for folder in &site.layout.folders {
        as_declared(site, folder, findings);
    }
}

/// The folders of a host that hold media: what it shares, what is declared to be media or on its way, and what libraries lead
/// to. Of those inside each other the outer ones.
fn media_places(site: &Site, host: &str, cases: &[Case]) -> Vec<AbsPath> {
    let shares = site.layout.shares.iter().filter(|share| share.host == host).map(|s| &s.path);
    let folders = site.layout.folders.iter().filter(|f| f.host == host).map(|f| &f.path);
    let mut places: Vec<AbsPath> = shares.chain(folders).cloned().collect();
    let ends = cases.iter().filter_map(|case| case.route.as_ref()).filter(|r| r.entry().is_some());
    places
        .extend(ends.map(|route| route.here()).filter(|(at, _)| at == host).map(|(_, path)| path));
    let all: BTreeSet<AbsPath> = places.into_iter().collect();
    let inner = |place: &AbsPath| all.iter().any(|other| other != place && place.within(other));
    all.iter().filter(|place| !inner(place)).cloned().collect()
}

/// Some entries that are alike, with the first of them.
#[derive(Default)]
struct Alike {
    count: u64,
    first: Option<NodeId>,
}

impl Alike {
    fn add(&mut self, node: NodeId) {
        self.count += 1;
        self.first.get_or_insert(node);
    }
}

/// One pass over the trees of a host.
#[derive(Default)]
struct Survey {
    open: Alike,
    owners: BTreeMap<u32, Alike>,
    grants: BTreeMap<(u8, Vec<u32>), Alike>,
}

impl Survey {
    fn read(&mut self, objects: Objects, top: NodeId) {
        let mut todo = vec![top];
        while let Some(node) = todo.pop() {
            todo.extend(objects.tree.children(node));
            let object = objects.of(node);
            if object.meta.kind == EntryKind::Symlink {
                continue;
            }
            self.owners.entry(object.meta.uid).or_default().add(node);
            // What anyone may do is what a stranger may; in a sticky folder he can't touch what others have.
            let stranger = Subject::new(NOBODY - 1, NOBODY - 1, []);
            let sticky = object.is_folder() && object.meta.mode & 0o1000 != 0;
            let strange = object.meta.uid != stranger.uid && object.meta.gid != stranger.gid;
            if strange && !sticky && decide(&object, &stranger, W).allowed {
                self.open.add(node);
            }
            let Some(acl) = &object.acl else { continue };
            let mut users: BTreeMap<u8, Vec<u32>> = BTreeMap::new();
            for entry in acl.entries() {
                if let Tag::User(uid) = entry.tag {
                    users.entry(entry.perm).or_default().push(uid);
                }
            }
            for (perm, users) in users.into_iter().filter(|(_, users)| users.len() >= 3) {
                self.grants.entry((perm, users)).or_default().add(node);
            }
        }
    }

    fn report(self, site: &Site, host: &str, findings: &mut Vec<Finding>) {
        let tree = site.tree(host).expect("the host was observed");
        let finding = |rule: RuleId, some: &Alike, message: String, remedy: String| Finding {
            rule,
            severity: rule.severity,
            evidence: Evidence::Observed,
            subject: format!("host:{host}"),
            message,
            place: Where {
                host: Some(host.to_owned()),
                path: some.first.map(|n| tree.path(n)),
                line: None,
            },
            remedy,
            affects: Vec::new(),
            effects: Vec::new(),
            because: None,
        };
        let path =
            |some: &Alike| some.first.map(|node| tree.path(node)).unwrap_or_else(AbsPath::root);
        if self.open.count > 0 {
            let at = path(&self.open);
            let message = format!(
                "anyone may write {} on {host}, such as {at}",
                counted(self.open.count, "entry")
            );
            let remedy = format!("on {host}: chmod -R o-w {}", shell_quoted(at.as_bytes()));
            findings.push(finding(&WORLD_WRITABLE, &self.open, message, remedy));
        }
        let accounts: BTreeSet<u32> = site.accounts(host).map(|account| account.uid).collect();
        let orphans: Vec<(u32, Alike)> = self
            .owners
            .into_iter()
            .filter(|(uid, _)| !accounts.is_empty() && *uid != 0 && !accounts.contains(uid))
            .collect();
        if let Some((_, first)) = orphans.first() {
            let each: Vec<String> = orphans
                .iter()
                .map(|(uid, some)| {
                    format!("{} by {uid}, such as {}", counted(some.count, "entry"), path(some))
                })
                .collect();
            let message =
                format!("owned on {host} by numbers without an account: {}", each.join("; "));
            let uid = orphans[0].0;
            let remedy = format!(
                "on {host}: find {} -uid {uid} lists them; chown gives them to an account",
                shell_quoted(path(first).as_bytes())
            );
            findings.push(finding(&ORPHANED_OWNER, first, message, remedy));
        }
        // Services are no people, and each has a grant of its own for good reason.
        let services: BTreeSet<u32> =
            site.layout.services.iter().map(|service| site.subject_of(service).0.uid).collect();
        for ((perm, mut users), some) in self.grants {
            users.retain(|uid| !services.contains(uid));
            if users.len() < 3 {
                continue;
            }
            let names: Vec<String> = users.iter().map(|uid| site.user_text(host, *uid)).collect();
            let perm = crate::acl::perm_text(perm);
            let at = path(&some);
            let message = format!(
                "{} on {host}, such as {at}, grant {perm} to {} one by one",
                counted(some.count, "entry"),
                names.join(", ")
            );
            let without: Vec<String> = names.iter().map(|name| format!("u:{name}")).collect();
            let quoted = shell_quoted(at.as_bytes());
            let remedy = format!(
                "on {host}: put them into one group, then setfacl -R -m g:GROUP:{perm} {quoted} and setfacl -R -x {} {quoted}",
                without.join(",")
            );
            findings.push(finding(&PER_USER_GRANTS, &some, message, remedy));
        }
    }
}

/// Compares what is declared of a folder with what its objects grant.
fn as_declared(site: &Site, folder: &Folder, findings: &mut Vec<Finding>) {
    let Some(objects) = site.objects(&folder.host) else { return };
    let Lookup::Found(top) = objects.tree.find(&folder.path) else { return };
    for (who, right) in &folder.rights {
        let Some((subject, read_only)) = asks(site, folder, who) else { continue };
        let (mut more, mut less) = (Alike::default(), Alike::default());
        let wanted = match right {
            Right::None => 0,
            Right::Read => R,
            Right::Add | Right::Change => R | W,
        };
        for node in declared_below(site, folder, objects.tree, top) {
            let object = objects.of(node);
            let may = |bit| decide(&object, &subject, bit).allowed;
            let enters = !object.is_folder() || may(X);
            let reads = enters && may(R);
            let writes = enters && may(W) && !read_only;
            let has = if reads { R } else { 0 } | if writes { W } else { 0 };
            if has & !wanted != 0 {
                more.add(node);
            } else if wanted & !has != 0 {
                less.add(node);
            }
        }
        for (some, word) in [(less, "less"), (more, "more")] {
            let Some(first) = some.first else { continue };
            let at = objects.tree.path(first);
            let name = shown(who.as_bytes());
            findings.push(Finding {
                rule: &NOT_AS_DECLARED,
                severity: NOT_AS_DECLARED.severity,
                evidence: Evidence::Observed,
                subject: format!("folder:{}", folder.path),
                message: format!(
                    "{name} has {word} than {:?} on {} at and below {}, such as {at}",
                    right.word(),
                    counted(some.count, "entry"),
                    folder.path
                ),
                place: Where {
                    host: Some(folder.host.clone()),
                    path: Some(at),
                    line: Some(folder.origin.line),
                },
                remedy: format!(
                    "run what `tarvek emit script --host {}` writes, or change the rights in line {} of the layout",
                    folder.host, folder.origin.line
                ),
                affects: Vec::new(),
                effects: Vec::new(),
                because: None,
            });
        }
    }
}

/// Who is meant by the name in a folder's rights, as the folder's host sees him, and whether his way is read-only.
fn asks(site: &Site, folder: &Folder, who: &str) -> Option<(Subject, bool)> {
    let host = folder.host.as_str();
    if let Some(group) = who.strip_prefix('@') {
        // A member who has nothing else.
        let gid = site.gid_of(host, group)?;
        return Some((Subject::new(NOBODY - 1, gid, []), false));
    }
    if let Some(service) = site.layout.service(who) {
        let view = View::Service(service.name.clone());
        let (subject, _) = site.subject_of(service);
        let path = seen_as(site, &view, &subject, host, &folder.path)?;
        let route = follow(site, &view, &path, &subject);
        let (step, _) = route.entry()?;
        let read_only = route.layers.iter().any(|layer| layer.mode == Mode::ReadOnly);
        return step.subject.doubt.is_none().then(|| (step.subject.clone(), read_only));
    }
    let account = site.account(host, who)?;
    Some((site.login(host, account), false))
}

/// The entries that a folder's rights speak of: itself and everything below, up to folders with rights of their own.
fn declared_below(site: &Site, folder: &Folder, tree: &Tree, top: NodeId) -> Vec<NodeId> {
    let own: Vec<NodeId> = site
        .layout
        .folders
        .iter()
        .filter(|other| {
            other.host == folder.host && other.path != folder.path && !other.rights.is_empty()
        })
        .filter_map(|other| match tree.find(&other.path) {
            Lookup::Found(node) => Some(node),
            _ => None,
        })
        .collect();
    let (mut all, mut todo) = (Vec::new(), vec![top]);
    while let Some(node) = todo.pop() {
        if matches!(tree.meta(node).kind, EntryKind::Folder | EntryKind::File) {
            all.push(node);
        }
        todo.extend(tree.children(node).filter(|child| !own.contains(child)));
    }
    all
}
