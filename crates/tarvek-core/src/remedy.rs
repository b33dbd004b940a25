//! The smallest change that gives somebody what he needs, as commands; found by supposing changes and judging again, until
//! nothing refuses any more. What it changes for everybody else is told with it.

use std::collections::BTreeMap;

use crate::access::{Need, R, Refusal, Verdict, W, X, decide, judge};
use crate::acl::{Tag, perm_text};
use crate::facts::mounts::MountEntry;
use crate::facts::tree::{EntryKind, Lookup, NodeId};
use crate::identity::Subject;
use crate::layout::{Mode, Protocol};
use crate::library::below;
use crate::nfs4::{self, Ace, AceType, FILE_INHERIT, FOLDER_INHERIT, Who};
use crate::object::{Change, Edit, Grant, Object};
use crate::party::{Party, everyone};
use crate::path::AbsPath;
use crate::route::{Layer, LayerKind, Route, View, follow};
use crate::site::Site;
use crate::text::{counted, shell_quoted};

/// How many changes a remedy may have before it is none.
const MOST_STEPS: usize = 16;

/// How much may have to be lifted for one change.
const MOST_OBSTACLES: usize = 4;

/// What somebody needs.
#[derive(Clone, Debug)]
pub struct Wish<'a> {
    /// From where he sees the path.
    pub view: &'a View,
    /// The path there.
    pub path: &'a AbsPath,
    /// Who he is there.
    pub subject: &'a Subject,
    /// What he needs at the path.
    pub needs: &'a [Need],
    /// Whether he needs to read everything below as well, and what will be there.
    pub below: bool,
}

/// One thing to be done.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Step {
    /// The host on which it is typed; `None` for a change of the layout.
    pub host: Option<String>,
    /// The command, or the change in words.
    pub command: String,
}

/// Changes that were judged to give what is needed.
#[derive(Clone, Debug, PartialEq)]
pub struct Remedy {
    /// What is to be done, in this order.
    pub steps: Vec<Step>,
    /// What it changes for others, a line each.
    pub effects: Vec<String>,
    /// The changes of entries.
    pub changes: Vec<Change>,
}

impl Remedy {
    /// The commands in one line.
    pub fn text(&self) -> String {
        let mut text = String::new();
        let mut before = None;
        for step in &self.steps {
            if !text.is_empty() {
                text += "; ";
            }
            if let Some(host) = step.host.as_ref().filter(|host| before != Some(*host)) {
                text += &format!("on {host}: ");
            }
            before = step.host.as_ref();
            text += &step.command;
        }
        text
    }
}

/// Finds a remedy for what is refused. `None` if nothing is, or if no change of rights helps.
pub fn remedy(site: &Site, wish: &Wish) -> Option<Remedy> {
    let mut plan = Plan {
        site: site.clone(),
        wish,
        steps: Vec::new(),
        changes: Vec::new(),
        joined: Vec::new(),
    };
    loop {
        let route = follow(&plan.site, wish.view, wish.path, &plan.subject());
        let refused = wish
            .needs
            .iter()
            .map(|need| judge(&plan.site, &route, *need))
            .find(|verdict| verdict.allowed != Some(true));
        let done = match refused {
            Some(verdict) => plan.clear(&route, &verdict).map(|()| false),
            None if wish.below => plan.clear_below(&route),
            None => Some(true),
        };
        match done? {
            true => break,
            false if plan.steps.len() > MOST_STEPS => return None,
            false => {}
        }
    }
    if plan.steps.is_empty() {
        return None;
    }
    let effects = effects(site, &plan);
    Some(Remedy { steps: plan.steps, effects, changes: plan.changes })
}

/// How the rights of an entry can be told more finely than by its mode.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Style {
    Posix,
    Nfs4,
    /// Mode bits only.
    Mode,
}

struct Plan<'a> {
    site: Site,
    wish: &'a Wish<'a>,
    steps: Vec<Step>,
    changes: Vec<Change>,
    /// Groups that the subject is supposed to have joined.
    joined: Vec<u32>,
}

impl Plan<'_> {
    /// Who asks, with the groups that he is supposed to have joined.
    fn subject(&self) -> Subject {
        let mut subject = self.wish.subject.clone();
        subject.groups.extend(self.joined.iter().copied());
        subject
    }

    /// Supposes that whoever asks joins a group, where he is somebody by name; whether that could help.
    fn join(&mut self, host: &str, gid: u32) -> bool {
        // Root's group is nobody's to join, and a group that did not arrive the first time will not the second.
        if gid == 0 || self.joined.contains(&gid) {
            return false;
        }
        let group = self.site.group_text(host, gid);
        let step = match self.wish.view {
            View::Service(name) => Step {
                host: None,
                command: format!(
                    "add \"{gid}\" to the groups of service {name} in the layout, and start it anew"
                ),
            },
            View::Host(own) => {
                let account =
                    self.site.accounts(own).find(|account| account.uid == self.wish.subject.uid);
                let Some(account) = account else { return false };
                let command = format!("usermod -a -G {group} {}", account.name);
                Step { host: Some(own.clone()), command }
            }
        };
        self.joined.push(gid);
        self.steps.push(step);
        true
    }

    /// Clears one refusal; `None` if nothing does.
    fn clear(&mut self, route: &Route, verdict: &Verdict) -> Option<()> {
        match verdict.refusal.as_ref()? {
            Refusal::Permission { host, node, subject, want } => {
                let at_end =
                    route.entry().is_some_and(|(step, end)| step.seen_on == *host && end == *node);
                let wide = at_end && self.wish.below;
                let mut perm = *want;
                if at_end {
                    perm |=
                        self.wish.needs.iter().fold(0, |all, need| all | self.bits(*need, route));
                }
                if wide {
                    perm |= R | X;
                }
                self.grant(host, *node, subject, perm, wide)
            }
            Refusal::ReadOnly(layer) => {
                let step = self.open(layer)?;
                if let LayerKind::Filesystem(kind, source) = &layer.kind {
                    // What a change before has opened and closed again stays open.
                    let whole = layer.filesystem;
                    let closed = set_mode(kind, source, &layer.path, whole, Mode::ReadOnly);
                    self.steps.retain(|earlier| *earlier != step && earlier.command != closed);
                    self.steps.insert(0, step);
                } else {
                    self.steps.push(step);
                }
                self.site = self.site.supposing_writable(layer);
                Some(())
            }
            // The options of a mount are not changed by halves: the whole line is the mount's, and a finding of its own.
            Refusal::Options(..) => None,
            Refusal::Flag { host, node } => {
                let object = self.site.object(host, *node)?;
                let flags = object.meta.flags?;
                let letters = [(flags.immutable, 'i'), (flags.append, 'a')];
                let letters: String =
                    letters.iter().filter(|(on, _)| *on).map(|(_, l)| *l).collect();
                let command = format!("chattr -{letters} {}", self.quoted(host, *node)?);
                self.change(host, *node, false, Edit::NoFlags, command)
            }
            Refusal::Sticky { host, node } => {
                let command = format!("chmod -t {}", self.quoted(host, *node)?);
                self.change(host, *node, false, Edit::Without(0o1000), command)
            }
        }
    }

    /// What a need asks of the entry at the end of the way.
    fn bits(&self, need: Need, route: &Route) -> u8 {
        let folder = route.entry().and_then(|(step, node)| self.site.object(&step.seen_on, node));
        let folder = folder.is_some_and(|object| object.is_folder());
        match need {
            Need::Read if folder => R | X,
            Need::Read => R,
            Need::Write if !folder => W,
            Need::Write | Need::Add => W | X,
            Need::Enter => X,
            Need::Remove => 0,
        }
    }

    /// Clears what is refused below; whether nothing is any more.
    fn clear_below(&mut self, route: &Route) -> Option<bool> {
        let scan = below(&self.site, route);
        let Some(cause) = scan.causes.first() else { return Some(true) };
        let (step, root) = route.entry()?;
        let tree = self.site.tree(&cause.host)?;
        let Lookup::Found(node) = tree.find(cause.examples.first()?) else { return None };
        let object = self.site.object(&cause.host, node)?;
        let few = scan.unreadable <= 3 || step.seen_on != cause.host;
        let perm = if object.is_folder() { R | X } else { R };
        let subject = self.subject_at(route, &cause.host, node)?;
        let before = self.steps.len();
        // Few are repaired by themselves, and so are those that a wider grant has not helped.
        let granted = self.changes.iter().any(|change| change.below && change.at == root);
        if few || granted || subject.uid == object.meta.uid {
            let below = object.is_folder() && !granted && subject.uid != object.meta.uid;
            self.grant(&cause.host.clone(), node, &subject, perm, below)?;
        } else {
            let perm = R | X;
            self.grant(&step.seen_on.clone(), root, &step.subject.clone(), perm, true)?;
        }
        (self.steps.len() > before).then_some(false)
    }

    /// Who arrives at an entry below the end of the way.
    fn subject_at(&self, route: &Route, host: &str, node: NodeId) -> Option<Subject> {
        let (step, _) = route.entry()?;
        if step.seen_on == host {
            return Some(step.subject.clone());
        }
        let place = self.site.tree(host)?.path(node);
        let path =
            crate::party::seen_as(&self.site, self.wish.view, self.wish.subject, host, &place)?;
        let route = follow(&self.site, self.wish.view, &path, self.wish.subject);
        route.entry().map(|(step, _)| step.subject.clone())
    }

    /// Takes up a change of entries, with what has to be out of its way while it is made.
    fn change(
        &mut self,
        host: &str,
        at: NodeId,
        below: bool,
        edit: Edit,
        command: String,
    ) -> Option<()> {
        let obstacles = self.obstacles(host, at, below, &edit)?;
        let change = Change { host: host.to_owned(), at, below, edit };
        // The same change twice would be no progress.
        if self.changes.contains(&change) {
            return None;
        }
        self.site = self.site.supposing(change.clone());
        self.changes.push(change);
        let step = |command| Step { host: Some(host.to_owned()), command };
        let (before, after): (Vec<String>, Vec<String>) = obstacles.into_iter().unzip();
        let before: Vec<Step> = before.into_iter().map(step).collect();
        let after: Vec<Step> = after.into_iter().rev().map(step).collect();
        // What the change before has put back for this one to lift again stays lifted.
        if !after.is_empty() && self.steps.ends_with(&after) {
            self.steps.truncate(self.steps.len() - after.len());
        } else {
            self.steps.extend(before);
        }
        self.steps.push(step(command));
        self.steps.extend(after);
        Some(())
    }

    /// What keeps even root from changing entries, as the commands that lift it and put it back: inode flags, and read-only
    /// mounts. `None` if that is too much to be asked.
    fn obstacles(
        &self,
        host: &str,
        at: NodeId,
        below: bool,
        edit: &Edit,
    ) -> Option<Vec<(String, String)>> {
        let objects = self.site.objects(host)?;
        let mut obstacles = Vec::new();
        let place = objects.tree.path(at);
        if let Some(table) = self.site.facts(host).and_then(|facts| facts.mounts.as_ref()) {
            let mount = table.at(&place)?;
            let read_only = |options: &[String]| options.iter().any(|option| option == "ro");
            let opened = self.site.writable_layers().iter().any(|layer| {
                matches!(layer.kind, LayerKind::Filesystem(..))
                    && layer.host == host
                    && layer.path == mount.point
            });
            let whole = read_only(&mount.super_options);
            // Where it is opened for good, that is part of what is needed.
            if !opened && (whole || read_only(&mount.options)) {
                let source = crate::text::shown(&mount.source);
                let set = |mode| set_mode(&mount.filesystem, &source, &mount.point, whole, mode);
                obstacles.push((set(Mode::ReadWrite), set(Mode::ReadOnly)));
            }
            let inside =
                |entry: &MountEntry| below && entry.point != place && entry.point.within(&place);
            if table.entries().iter().any(|entry| inside(entry) && entry.mode() == Mode::ReadOnly) {
                return None;
            }
        }
        let mut todo = vec![at];
        while let Some(node) = todo.pop().filter(|_| *edit != Edit::NoFlags) {
            if below {
                todo.extend(objects.tree.children(node));
            }
            let flags = objects.of(node).meta.flags.unwrap_or_default();
            let letters = [(flags.immutable, 'i'), (flags.append, 'a')];
            let letters: String =
                letters.iter().filter(|(on, _)| *on).map(|(_, letter)| *letter).collect();
            if !letters.is_empty() {
                let place = self.quoted(host, node)?;
                let set = |sign: char| format!("chattr {sign}{letters} {place}");
                obstacles.push((set('-'), set('+')));
            }
        }
        (obstacles.len() <= MOST_OBSTACLES).then_some(obstacles)
    }

    fn quoted(&self, host: &str, node: NodeId) -> Option<String> {
        Some(shell_quoted(self.site.tree(host)?.path(node).as_bytes()))
    }

    /// Gives a subject permissions on an entry, in the finest way that the filesystem has.
    fn grant(
        &mut self,
        host: &str,
        node: NodeId,
        subject: &Subject,
        perm: u8,
        below: bool,
    ) -> Option<()> {
        let object = self.site.object(host, node)?;
        let place = self.quoted(host, node)?;
        let grant = if below { Grant::below(perm) } else { Grant::exactly(perm) };
        let recursive = if below { "-R " } else { "" };
        let style = self.style(host, node, &object);
        // The owner's bits decide for the owner alone, whatever an ACL says of him (acl(5)).
        if style != Style::Nfs4 && subject.uid == object.meta.uid {
            let command = format!("chmod {recursive}u+{} {place}", grant.text());
            return self.change(host, node, below, Edit::Class { shift: 6, grant }, command);
        }
        match style {
            Style::Posix => {
                // A name that only the layout knows may not be known to the host's tools.
                let known = self.site.facts(host).and_then(|facts| facts.account_of(subject.uid));
                let who =
                    known.map_or_else(|| subject.uid.to_string(), |account| account.name.clone());
                let tag = Tag::User(subject.uid);
                let acl = object.full_acl();
                let has = acl.perm(tag).unwrap_or(0);
                // A mask that cuts what others were given stays as narrow as it can.
                let named = acl
                    .entries()
                    .iter()
                    .filter(|entry| !matches!(entry.tag, Tag::UserObj | Tag::Other | Tag::Mask));
                let union = named.fold(0, |all, entry| all | entry.perm);
                let mask = acl.perm(Tag::Mask).filter(|mask| !below && union & !mask != 0);
                let mask = mask.map(|mask| mask | perm);
                let sum = Grant { perm: grant.perm | has, ..grant };
                let mut entries = format!("u:{who}:{}", sum.text());
                if let Some(mask) = mask {
                    entries += &format!(",m::{}", perm_text(mask));
                }
                if below {
                    entries += &format!(",d:{entries}");
                }
                let command = format!("setfacl {recursive}-m {entries} {place}");
                let edit = Edit::Entry { tag, grant: sum, mask, inherit: below };
                self.change(host, node, below, edit, command)
            }
            Style::Nfs4 => {
                let bits = [(R, nfs4::READ), (W, nfs4::WRITE | nfs4::APPEND), (X, nfs4::EXECUTE)];
                let mask =
                    bits.iter().filter(|(bit, _)| perm & bit != 0).fold(0, |all, (_, b)| all | b);
                let flags = if below { FILE_INHERIT | FOLDER_INHERIT } else { 0 };
                let entry = Ace { kind: AceType::Allow, flags, mask, who: Who::Uid(subject.uid) };
                let command = format!("nfs4_setfacl {recursive}-a {entry} {place}");
                self.change(host, node, below, Edit::Ace { entry }, command)
            }
            Style::Mode => {
                let member = subject.is_in(object.meta.gid);
                let of_group = (object.meta.mode >> 3) as u8 & 7;
                // To join the group that has it already gives one account more, and not everyone.
                if !member && of_group & perm == perm && self.join(host, object.meta.gid) {
                    return Some(());
                }
                let (class, shift) = if member { ('g', 3) } else { ('o', 0) };
                let command = format!("chmod {recursive}{class}+{} {place}", grant.text());
                self.change(host, node, below, Edit::Class { shift, grant }, command)
            }
        }
    }

    fn style(&self, host: &str, node: NodeId, object: &Object) -> Style {
        if object.nfs4.is_some() {
            return Style::Nfs4;
        }
        if object.acl.is_some() || object.default_acl.is_some() {
            return Style::Posix;
        }
        let facts = self.site.facts(host);
        let place = self.site.tree(host).map(|tree| tree.path(node)).unwrap_or_else(AbsPath::root);
        let mount = facts.and_then(|facts| facts.mounts.as_ref()?.at(&place));
        let Some(mount) = mount else { return Style::Posix };
        let has = |option: &str| mount.super_options.iter().any(|known| known == option);
        let posix = match mount.filesystem.as_str() {
            "zfs" => has("posixacl"),
            "vfat" | "exfat" | "msdos" | "ntfs" | "ntfs3" | "hfsplus" | "iso9660" | "udf" => false,
            other => !other.starts_with("fuse") && !has("noacl"),
        };
        if posix { Style::Posix } else { Style::Mode }
    }

    /// What makes a layer writable.
    fn open(&self, layer: &Layer) -> Option<Step> {
        let on_host = |command: String| Step { host: Some(layer.host.clone()), command };
        let in_layout = |command: String| Step { host: None, command };
        let point = shell_quoted(layer.path.as_bytes());
        Some(match &layer.kind {
            LayerKind::Mapping(line) => in_layout(format!(
                "set access = \"rw\" for the mapping in line {line} of the layout"
            )),
            LayerKind::Mount(_) => {
                on_host(format!("mount -o remount,rw {point}, and rw in its line of fstab"))
            }
            LayerKind::Share(name, Protocol::Nfs) => in_layout(format!(
                "set access = \"rw\" for this client in the nfs of share {name}, and put `tarvek emit exports` in place"
            )),
            LayerKind::Share(name, _) => in_layout(format!(
                "add the user to write in the smb of share {name}, and put `tarvek emit smb` in place"
            )),
            LayerKind::Filesystem(kind, source) => {
                let whole = layer.filesystem;
                on_host(set_mode(kind, source, &layer.path, whole, Mode::ReadWrite))
            }
        })
    }
}

/// The command that makes a mounted filesystem, or only this mount of it, writable or read-only.
fn set_mode(kind: &str, source: &str, point: &AbsPath, whole: bool, mode: Mode) -> String {
    let point = shell_quoted(point.as_bytes());
    match (kind, mode) {
        ("zfs", _) if whole => {
            let value = if mode == Mode::ReadOnly { "on" } else { "off" };
            format!("zfs set readonly={value} {}", shell_quoted(source.as_bytes()))
        }
        _ if whole => format!("mount -o remount,{} {point}", mode.word()),
        _ => format!("mount -o remount,bind,{} {point}", mode.word()),
    }
}

/// What the changes of a plan make of the access of everyone else.
fn effects(before: &Site, plan: &Plan) -> Vec<String> {
    let mut lines = Vec::new();
    let mut others: BTreeMap<String, Tally> = BTreeMap::new();
    let mut fresh_defaults = 0;
    for change in &plan.changes {
        let host = change.host.as_str();
        let (Some(old), Some(new)) = (before.objects(host), plan.site.objects(host)) else {
            continue;
        };
        let place = old.tree.path(change.at);
        match change.edit {
            Edit::Without(_) => lines.push(format!(
                "whoever may write {place} can then remove what others have in it"
            )),
            Edit::NoFlags => lines.push(format!(
                "whoever may write {place}, or the folder that it is in, can then change or remove it"
            )),
            _ => {}
        }
        let parties = everyone(before, host, &place, true);
        let asks: Vec<(String, Subject)> =
            parties.into_iter().filter_map(|party| arrives(party, host)).collect();
        let mut todo = vec![change.at];
        while let Some(node) = todo.pop() {
            if change.below {
                todo.extend(old.tree.children(node));
            }
            let was = old.of(node);
            let one_user = matches!(change.edit, Edit::Entry { tag: Tag::User(_), inherit, .. } if !inherit || !was.is_folder());
            // An entry for one user, where there was no ACL, is nothing to anybody else.
            if was.meta.kind == EntryKind::Symlink || one_user && was.acl.is_none() {
                continue;
            }
            let is = new.of(node);
            if is.is_folder() && was.default_acl.is_none() && is.default_acl.is_some() {
                fresh_defaults += 1;
                if was.acl.is_none() {
                    continue;
                }
            }
            compare(&asks, &was, &is, &old.tree.path(node), &mut others);
        }
    }
    for (who, tally) in others {
        // Whom the remedy is for is no other.
        if !tally.is_for(plan) {
            lines.push(format!("{who} {}", tally.words()));
        }
    }
    if fresh_defaults > 0 {
        lines.push("new entries there get the folder's default ACL instead of the umask of whoever makes them".to_owned());
    }
    if !plan.joined.is_empty() {
        lines.push("what else the group may do, the new member may then do as well".to_owned());
    }
    for layer in &plan.site.writable_layers()[before.writable_layers().len()..] {
        lines.push(format!("{} becomes writable for all who come that way", layer.what));
    }
    lines
}

/// As whom a party comes to a host.
fn arrives(party: Party, host: &str) -> Option<(String, Subject)> {
    let route = party.route?;
    let step = route.trail.iter().rev().find(|step| step.seen_on == host)?;
    step.subject.doubt.is_none().then(|| (party.name, step.subject.clone()))
}

/// What somebody gains and loses.
struct Tally {
    subject: Subject,
    gains: u64,
    loses: u64,
    example: AbsPath,
    bits: u8,
}

impl Tally {
    fn is_for(&self, plan: &Plan) -> bool {
        let named = |change: &Change| match &change.edit {
            Edit::Entry { tag: Tag::User(uid), .. } => self.subject.uid == *uid,
            Edit::Ace { entry } => entry.who == Who::Uid(self.subject.uid),
            _ => self.subject == *plan.wish.subject,
        };
        plan.changes.iter().all(named)
    }

    fn words(&self) -> String {
        let what: Vec<&str> = [(R, "read"), (W, "write"), (X, "enter")]
            .iter()
            .filter(|(bit, _)| self.bits & bit != 0)
            .map(|(_, word)| *word)
            .collect();
        let (gains, loses) = (counted(self.gains, "entry"), counted(self.loses, "entry"));
        let example = &self.example;
        let what = what.join(" and ");
        match (self.gains, self.loses) {
            (_, 0) => format!("could then {what} {gains} more, such as {example}"),
            (0, _) => format!("could then no longer {what} {loses}, such as {example}"),
            _ => format!("could then {what} {gains} more and {loses} less, such as {example}"),
        }
    }
}

fn compare(
    asks: &[(String, Subject)],
    was: &Object,
    is: &Object,
    place: &AbsPath,
    others: &mut BTreeMap<String, Tally>,
) {
    for (name, subject) in asks {
        let may = |object: &Object| {
            [R, W, X]
                .into_iter()
                .filter(|bit| decide(object, subject, *bit).allowed)
                .fold(0, |all, bit| all | bit)
        };
        // A file that is executable or not is of no concern here.
        let relevant = if was.is_folder() { R | W | X } else { R | W };
        let (before, after) = (may(was) & relevant, may(is) & relevant);
        if before == after {
            continue;
        }
        let tally = others.entry(name.clone()).or_insert_with(|| Tally {
            subject: subject.clone(),
            gains: 0,
            loses: 0,
            example: place.clone(),
            bits: 0,
        });
        tally.gains += u64::from(after & !before != 0);
        tally.loses += u64::from(before & !after != 0);
        tally.bits |= before ^ after;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::facts::HostFacts;
    use crate::facts::tree::{Extras, Listing, Meta, NewEntry, Tree, TreeBuilder};
    use crate::layout::Layout;
    use crate::nfs4::Nfs4Acl;

    fn meta(kind: EntryKind) -> Meta {
        Meta::new(kind, 0o770, 1101, 2100)
    }

    /// A folder with a file in it, both with NFSv4 ACLs.
    fn site() -> Site {
        let ace = |kind, mask, who| Ace { kind, flags: 0, mask, who };
        let with = |name: &str, kind, entries| {
            let extras = Extras { nfs4_acl: Some(Nfs4Acl::new(entries)), ..Extras::default() };
            NewEntry { extras, ..NewEntry::plain(name, meta(kind)) }
        };
        let root = Meta { mode: 0o755, ..meta(EntryKind::Folder) };
        let mut builder = TreeBuilder::new(NewEntry::plain("", root));
        let all = nfs4::READ | nfs4::WRITE | nfs4::EXECUTE | nfs4::APPEND;
        let deny = ace(AceType::Deny, nfs4::READ, Who::Uid(972));
        let members = ace(AceType::Allow, all, Who::Group);
        let silo = with("silo", EntryKind::Folder, vec![members.clone()]);
        let at = builder.fill(Tree::ROOT, vec![silo], Listing::Complete)[0];
        let file = with("film.mkv", EntryKind::File, vec![deny, members]);
        builder.fill(at, vec![file], Listing::Complete);
        let facts = HostFacts::of_tree("granary", builder.finish());
        Site::join(Layout::default(), vec![facts]).unwrap()
    }

    #[test]
    fn an_nfsv4_entry_goes_in_front_of_what_denies() {
        let site = site();
        let view = View::Host("granary".to_owned());
        let ask = |path: &[u8], needs: &[Need], below| {
            let (path, subject) = (AbsPath::new(path).unwrap(), Subject::new(972, 972, [2100]));
            remedy(&site, &Wish { view: &view, path: &path, subject: &subject, needs, below })
        };
        let file = ask(b"/silo/film.mkv", &[Need::Read], false).unwrap();
        assert_eq!(file.text(), "on granary: nfs4_setfacl -a A::972:r /silo/film.mkv");
        assert_eq!(ask(b"/silo", &[Need::Read, Need::Add], false), None, "nothing refuses");
        // Removing asks for more than reading and writing, which is not given by halves.
        let tree = ask(b"/silo", &[Need::Read], true).unwrap();
        assert_eq!(tree.text(), "on granary: nfs4_setfacl -a A::972:r /silo/film.mkv");
        let stranger = Subject::new(5, 5, []);
        let path = AbsPath::new(b"/silo").unwrap();
        let wish = Wish {
            view: &view,
            path: &path,
            subject: &stranger,
            needs: &[Need::Read],
            below: true,
        };
        let text = remedy(&site, &wish).unwrap().text();
        assert_eq!(text, "on granary: nfs4_setfacl -R -a A:fd:5:rx /silo");
    }
}
