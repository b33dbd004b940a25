//! Changes that are supposed and judged again, until nothing refuses any more.

use std::collections::HashSet;

use crate::facts::mounts::MountEntry;
use crate::facts::tree::{Lookup, NodeId};
use crate::judge::access_check::judge;
use crate::judge::verdict::{Answer, Need, Refusal};
use crate::kernel::acl::{Tag, perm_text};
use crate::kernel::decide::{R, W, X, decide};
use crate::kernel::entry::{EntryKind, Flags, Meta};
use crate::kernel::nfs4::{self, Ace, AceType, FILE_INHERIT, FOLDER_INHERIT, Who};
use crate::kernel::object::{Edit, Grant, Object};
use crate::kernel::sticky::STICKY;
use crate::kernel::subject::Subject;
use crate::remedy::apply_on_host::{mount_with_masks, reload_exports, reload_smb};
use crate::remedy::offer::{client_of, set_export, smb_user};
use crate::route::hops::{Route, View};
use crate::route::seen_as::seen_as;
use crate::route::{follow, follow_written};
use crate::scan::read::below;
use crate::site::join::{Site, text_of};
use crate::site::layer::{Layer, LayerKind};
use crate::site::suppose::{AccessClassCache, Change};
use crate::words::name::Name;
use crate::words::part::Part;
use crate::words::path::AbsPath;
use crate::words::place::Place;
use crate::words::remedy::{Command, Step, add_to_group};
use crate::words::terms::{Access, Protocol};

/// How many changes a remedy may have before it is none.
const MOST_STEPS: usize = 16;

/// How many places may be given back what a grant for a whole tree takes.
const MOST_GIVEN_BACK: usize = 4;

/// How much may have to be lifted for one change.
const MOST_OBSTACLES: usize = 4;

/// How the rights of an entry can be told more finely than by its mode.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Style {
    Posix,
    Nfs4,
    /// Mode bits only.
    Bits,
}

/// Changes on their way to a remedy.
pub(super) struct Plan<'a> {
    /// The site with the changes made.
    pub(super) site: Site,
    view: &'a View,
    path: &'a [u8],
    asker: &'a Subject,
    needs: &'a [Need],
    below: bool,
    pub(super) steps: Vec<Step>,
    /// The changes of entries.
    pub(super) changes: Vec<Change>,
    /// Groups that the asker is supposed to have joined.
    pub(super) joined: Vec<u32>,
}

impl<'a> Plan<'a> {
    /// A plan after which nothing is refused. `None` if nothing is refused now, or if nothing
    /// helps.
    pub(super) fn made(
        site: &Site,
        view: &'a View,
        path: &'a [u8],
        asker: &'a Subject,
        needs: &'a [Need],
        below: bool,
    ) -> Option<Self> {
        let (steps, changes, joined) = (Vec::new(), Vec::new(), Vec::new());
        let site = site.clone();
        let mut plan = Self { site, view, path, asker, needs, below, steps, changes, joined };
        while !plan.advance()? {
            if plan.steps.len() > MOST_STEPS {
                return None;
            }
        }
        (!plan.steps.is_empty()).then_some(plan)
    }

    /// Clears the next refusal; whether there is none any more.
    fn advance(&mut self) -> Option<bool> {
        let route = follow_written(&self.site, self.view, self.path, &self.subject());
        let mut answers = self.needs.iter().map(|need| judge(&self.site, &route, *need));
        match answers.find(|answer| !answer.is_allowed()) {
            Some(answer) => self.clear(&route, &answer).map(|()| false),
            None if self.below => self.clear_below(&route),
            None => Some(true),
        }
    }

    /// Who asks, with the groups that they are supposed to have joined.
    pub(super) fn subject(&self) -> Subject {
        let mut subject = self.asker.clone();
        subject.groups.extend(self.joined.iter().copied());
        subject
    }

    /// Supposes that whoever asks joins a group, where they are somebody by name; whether that
    /// could help.
    fn join(&mut self, host: &Name, gid: u32) -> bool {
        // Root's group is nobody's to join, and a group that did not arrive the first time will not
        // the second.
        if gid == 0 || self.joined.contains(&gid) {
            return false;
        }
        let step = match self.view {
            View::Service(name) => {
                self.steps.push(self.site.layout.add(Part::Service(name.clone()), "groups", gid));
                let service = self.site.layout.service(name);
                let host = service.map_or(host, |service| &service.host);
                Step::on(host, format!("restart {name} with group {gid}"))
            }
            View::Host(own) => {
                let mut accounts = self.site.accounts(own);
                let Some(account) = accounts.find(|account| account.uid == self.asker.uid) else {
                    return false;
                };
                let group = self.site.group_text(host, gid);
                add_to_group(own, &group, &account.name)
            }
        };
        self.joined.push(gid);
        self.steps.push(step);
        true
    }

    /// What makes a layer of a route writable.
    fn open(&self, layer: &Layer, route: &Route) -> Vec<Step> {
        let (host, layout) = (&layer.at.host, &self.site.layout);
        match &layer.kind {
            LayerKind::Mapping(part) => vec![
                layout.set(part.clone(), "access", Access::ReadWrite.word()),
                Step::on(host, "recreate the container with this mapping"),
            ],
            LayerKind::Mount(_) => {
                let remount = Command::new("mount -o remount,rw").arg(&layer.at.path);
                let in_fstab = self.site.fstab_at(host, &layer.at.path).is_some();
                let words = match in_fstab {
                    true => "write rw into its line of fstab",
                    false => "write rw where it is mounted at boot",
                };
                vec![Step::run(host, remount), Step::on(host, words)]
            }
            LayerKind::Share(name, protocol) => {
                open_share(&self.site, name, *protocol, route, host)
            }
            LayerKind::Filesystem(..) => set_layer(layer, Access::ReadWrite),
            LayerKind::Subvolume => {
                let words = format!(
                    "use a writable subvolume; of a snapshot `btrfs subvolume snapshot {} NEW` \
                     makes one",
                    layer.at.path
                );
                vec![Step::on(host, words)]
            }
        }
    }

    /// Clears one refusal; `None` if nothing does.
    fn clear(&mut self, route: &Route, answer: &Answer) -> Option<()> {
        match answer.refusal()? {
            Refusal::Permission { of, subject, want } => {
                let end = route.entry();
                let at_end =
                    end.is_some_and(|(end, node)| end.seen_on == of.host && node == of.node);
                let wide = at_end && self.below;
                let mut perm = *want;
                if at_end {
                    perm |= self.needs.iter().fold(0, |all, need| all | self.bits(*need, route));
                }
                if wide {
                    perm |= R | X;
                }
                self.grant(&of.host, of.node, subject, perm, wide)
            }
            Refusal::ReadOnly(layer) => {
                let opened = self.open(layer, route);
                if let LayerKind::Filesystem(..) = &layer.kind {
                    // What a change before has opened and closed again stays open.
                    let closed = set_layer(layer, Access::ReadOnly);
                    self.steps
                        .retain(|earlier| !opened.contains(earlier) && !closed.contains(earlier));
                    self.steps.splice(0..0, opened);
                } else {
                    self.steps.extend(opened);
                }
                self.site = self.site.supposing_writable(layer);
                Some(())
            }
            Refusal::Flag(of) => {
                let flags = self.site.object(&of.host, of.node)?.meta.flags?;
                let command = Command::new("chattr").arg(format!("-{}", flags.letters()));
                self.change(&of.host, of.node, false, Edit::NoFlags, command)
            }
            Refusal::Sticky(of) => {
                let command = Command::new("chmod -t");
                self.change(&of.host, of.node, false, Edit::Without(STICKY), command)
            }
            // The options of a mount are not changed by halves: the whole line is the mount's, and
            // a finding of its own.
            Refusal::Options(_) | Refusal::Other => None,
        }
    }

    /// What a need asks of the entry at the end of the way.
    fn bits(&self, need: Need, route: &Route) -> u8 {
        let end = route.entry().and_then(|(end, node)| self.site.object(&end.seen_on, node));
        let folder = end.is_some_and(|object| object.is_folder());
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
        let (end, root) = route.entry()?;
        let tree = self.site.tree(&cause.host)?;
        let Lookup::Found(node) = tree.find(cause.examples.first()?) else { return None };
        let object = self.site.object(&cause.host, node)?;
        if object.meta.kind == EntryKind::Symlink {
            // What it leads to refuses.
            let place = Place::new(&cause.host, cause.examples.first()?.clone());
            let link = seen_as(&self.site, self.view, self.asker, &place)?;
            let route = follow(&self.site, self.view, &link, &self.subject());
            let read = judge(&self.site, &route, Need::Read);
            return self.clear(&route, &read).map(|()| false);
        }
        let (folder, owner) = (object.is_folder(), object.meta.uid);
        let few = scan.unreadable <= 3 || end.seen_on != cause.host;
        let perm = if folder { R | X } else { R };
        let subject = self.subject_at(route, &cause.host, node)?;
        let before = self.steps.len();
        // Few are repaired by themselves, and so are those that a wider grant has not helped.
        let granted = self.changes.iter().any(|change| change.below && change.at == root);
        if few || granted || subject.uid == owner {
            let below = folder && !granted && subject.uid != owner;
            self.grant(&cause.host, node, &subject, perm, below)?;
        } else {
            self.grant(&end.seen_on, root, &end.subject, R | X, true)?;
        }
        (self.steps.len() > before).then_some(false)
    }

    /// Who arrives at an entry below the end of the way.
    fn subject_at(&self, route: &Route, host: &Name, node: NodeId) -> Option<Subject> {
        let (end, _) = route.entry()?;
        if end.seen_on == *host {
            return Some(end.subject.clone());
        }
        let place = Place::new(host, self.site.tree(host)?.path(node));
        let path = seen_as(&self.site, self.view, self.asker, &place)?;
        let route = follow(&self.site, self.view, &path, self.asker);
        route.entry().map(|(end, _)| end.subject.clone())
    }

    /// Supposes a change of entries. The same one twice would be no progress, unless another one has
    /// undone it.
    fn suppose(&mut self, change: Change) -> Option<()> {
        if self.changes.last() == Some(&change) {
            return None;
        }
        self.site = self.site.supposing(change.clone());
        self.changes.push(change);
        Some(())
    }

    /// Takes up a change of entries, with what has to be out of its way while it is made. The
    /// entry's path ends the command.
    fn change(
        &mut self,
        host: &Name,
        at: NodeId,
        below: bool,
        edit: Edit,
        command: Command,
    ) -> Option<()> {
        let obstacles = self.obstacles(host, at, below, &edit)?;
        let place = self.site.tree(host)?.path(at);
        self.suppose(Change { host: host.clone(), at, below, edit })?;
        let step = |command| Step::run(host, command);
        let (before, after): (Vec<Command>, Vec<Command>) = obstacles.into_iter().unzip();
        let after: Vec<Step> = after.into_iter().rev().map(step).collect();
        // What the change before has put back for this one to lift again stays lifted.
        if !after.is_empty() && self.steps.ends_with(&after) {
            self.steps.truncate(self.steps.len() - after.len());
        } else {
            self.steps.extend(before.into_iter().map(step));
        }
        self.steps.push(step(command.arg(place)));
        self.steps.extend(after);
        Some(())
    }

    /// What keeps even root from changing entries, as the commands that lift it and put it back:
    /// inode flags, and read-only mounts. `None` if that is too much to be asked.
    fn obstacles(
        &self,
        host: &Name,
        at: NodeId,
        below: bool,
        edit: &Edit,
    ) -> Option<Vec<(Command, Command)>> {
        let objects = self.site.objects(host)?;
        let mut obstacles = Vec::new();
        let place = objects.tree.path(at);
        if let Some(table) = self.site.mounts(host) {
            let mount = table.at(&place)?;
            let opened = self.site.writable_layers().iter().any(|layer| {
                matches!(layer.kind, LayerKind::Filesystem(..))
                    && layer.at.host == *host
                    && layer.at.path == mount.point
            });
            // Where it is opened for good, that is part of what is needed.
            if !opened && mount.access() == Access::ReadOnly {
                let whole = mount.super_options.read_only();
                let set = |access| {
                    set_access(&mount.filesystem, &mount.source, &mount.point, whole, access)
                };
                obstacles.push((set(Access::ReadWrite), set(Access::ReadOnly)));
            }
            let inside =
                |entry: &MountEntry| below && entry.point != place && entry.point.within(&place);
            let closed = |entry: &MountEntry| inside(entry) && entry.access() == Access::ReadOnly;
            if table.entries().iter().any(closed) {
                return None;
            }
        }
        let reach = objects.tree.below_but(at, |_| !below).filter(|_| *edit != Edit::NoFlags);
        let mut flags = AccessClassCache::new(objects);
        for node in reach {
            let flags = flags.of(node, |object| object.meta.flags.unwrap_or_default());
            if flags != Flags::default() {
                let letters = flags.letters();
                let place = objects.tree.path(node);
                let set = |sign| Command::new("chattr").arg(format!("{sign}{letters}")).arg(&place);
                obstacles.push((set('-'), set('+')));
            }
        }
        (obstacles.len() <= MOST_OBSTACLES).then_some(obstacles)
    }

    /// Gives a subject permissions on an entry, in the finest way that the filesystem has.
    fn grant(
        &mut self,
        host: &Name,
        node: NodeId,
        subject: &Subject,
        perm: u8,
        below: bool,
    ) -> Option<()> {
        let object = self.site.object(host, node)?;
        if let Some(mount) = self.mount_with_owners(host, node) {
            return self.mount_again(host, &mount, subject, &object.meta.clone(), perm);
        }
        let grant = if below { Grant::below(perm) } else { Grant::exactly(perm) };
        let command = |name: &str| {
            let command = Command::new(name);
            if below { command.arg("-R") } else { command }
        };
        let (owner, group, mode) = (object.meta.uid, object.meta.gid, object.meta.mode);
        let style = self.style(host, node, &object);
        // The owner's bits decide for the owner alone, whatever an ACL says of them (acl(5)).
        if style != Style::Nfs4 && subject.uid == owner {
            let command = command("chmod").arg(format!("u+{}", grant.text()));
            return self.change(host, node, below, Edit::Class { shift: 6, grant }, command);
        }
        match style {
            Style::Posix => {
                let before = self.site.clone();
                let objects = before.objects(host)?;
                let mut known = AccessClassCache::new(objects);
                let mut writes = |node| {
                    known.of(node, |object| {
                        object.meta.kind == EntryKind::Symlink || decide(object, subject, W).allowed
                    })
                };
                let all = below && objects.tree.below(node).all(&mut writes);
                let grant = Grant { perm: if all { perm | W } else { perm }, ..grant };
                self.acl_entry(host, node, subject, grant, (below, below))?;
                if below { self.give_back(&before, host, node, subject) } else { Some(()) }
            }
            Style::Nfs4 => {
                let bits = [(R, nfs4::READ), (W, nfs4::WRITE | nfs4::APPEND), (X, nfs4::EXECUTE)];
                let mask =
                    bits.iter().filter(|(bit, _)| perm & bit != 0).fold(0, |all, (_, b)| all | b);
                let flags = if below { FILE_INHERIT | FOLDER_INHERIT } else { 0 };
                let entry = Ace { kind: AceType::Allow, flags, mask, who: Who::Uid(subject.uid) };
                let command = command("nfs4_setfacl").arg("-a").arg(entry.to_string());
                self.change(host, node, below, Edit::Ace { entry }, command)
            }
            Style::Bits => {
                let member = subject.is_in(group);
                let of_group = (mode >> 3) as u8 & 7;
                // To join the group that has it already gives one account more, and not everyone.
                if !member && of_group & perm == perm && self.join(host, group) {
                    return Some(());
                }
                let (class, shift) = if member { ('g', 3) } else { ('o', 0) };
                let command = command("chmod").arg(format!("{class}+{}", grant.text()));
                self.change(host, node, below, Edit::Class { shift, grant }, command)
            }
        }
    }

    /// The mount that an entry is on, if its options say who owns everything on it.
    fn mount_with_owners(&self, host: &Name, node: NodeId) -> Option<MountEntry> {
        let place = self.site.tree(host)?.path(node);
        let mount = self.site.mounts(host)?.at(&place)?;
        mount.has_owners_by_option().then(|| mount.clone())
    }

    /// Gives permissions where a mount's options say the modes of everything on it: mounted with
    /// others, everything there has them.
    fn mount_again(
        &mut self,
        host: &Name,
        mount: &MountEntry,
        subject: &Subject,
        meta: &Meta,
        perm: u8,
    ) -> Option<()> {
        let Lookup::Found(top) = self.site.tree(host)?.find(&mount.point) else { return None };
        let shift = match subject {
            owner if owner.uid == meta.uid => 6,
            member if member.is_in(meta.gid) => 3,
            _ => 0,
        };
        // What was given before is part of what is mounted now.
        let masks = |plan: &Self| {
            let given =
                plan.changes.iter().filter(|change| change.at == top && change.host == *host);
            given.fold(mount.masks(), |(dmask, fmask), change| match change.edit {
                Edit::Class { shift, grant } => {
                    let open = |mask: u16, perm: u8| mask & !(u16::from(perm) << shift);
                    (open(dmask, grant.perm | X), open(fmask, grant.perm & !X))
                }
                _ => (dmask, fmask),
            })
        };
        // Whoever is to write has it writable: that is opened before or after this.
        let only_reads = self.needs.iter().all(|need| matches!(need, Need::Read | Need::Enter));
        let access = if only_reads { mount.access() } else { Access::ReadWrite };
        let earlier = mount_with_masks(host, mount, access, masks(self));
        let edit = Edit::Class { shift, grant: Grant::below(perm) };
        self.suppose(Change { host: host.clone(), at: top, below: true, edit })?;
        self.steps.retain(|step| !earlier.contains(step));
        self.steps.extend(mount_with_masks(host, mount, access, masks(self)));
        Some(())
    }

    /// What whoever is granted something loses below by it, because their own entry now decides
    /// where another one gave more: it is given back where that takes few commands, and else told
    /// as an effect.
    fn give_back(
        &mut self,
        before: &Site,
        host: &Name,
        top: NodeId,
        subject: &Subject,
    ) -> Option<()> {
        let (old, new) = (before.objects(host)?, self.site.objects(host)?);
        let is_link = |node: NodeId| old.tree.kind(node) == EntryKind::Symlink;
        let tag = Tag::User(subject.uid);
        let handed_on = |object: &Object| {
            let default = object.default_acl.as_ref();
            default.and_then(|acl| acl.perm(tag)).unwrap_or(0) & W
        };
        let may = |object: &Object| (decide(object, subject, W).allowed, handed_on(object));
        let (mut before, mut after) = (AccessClassCache::new(old), AccessClassCache::new(new));
        let mut lost: Vec<NodeId> = Vec::new();
        for node in old.tree.below(top).filter(|node| !is_link(*node)) {
            let ((wrote, gave), (writes, gives)) = (before.of(node, may), after.of(node, may));
            if wrote && !writes || gave > gives {
                lost.push(node);
            }
        }
        let all: HashSet<NodeId> = lost.iter().copied().collect();
        let mut back: Vec<(NodeId, bool)> = Vec::new();
        let mut covered: HashSet<NodeId> = HashSet::new();
        for node in lost {
            if covered.contains(&node) {
                continue;
            }
            if back.len() == MOST_GIVEN_BACK {
                return Some(());
            }
            let whole = old.tree.meta(node).is_folder()
                && old.tree.below(node).all(|below| all.contains(&below) || is_link(below));
            if whole {
                covered.extend(old.tree.below(node));
            }
            back.push((node, whole));
        }
        for (node, whole) in back {
            let folder = self.site.object(host, node)?.is_folder();
            let grant = Grant::below(if folder { R | W | X } else { R | W });
            if self.acl_entry(host, node, subject, grant, (whole, folder)).is_none() {
                return Some(());
            }
        }
        Some(())
    }

    /// An entry of a POSIX ACL for one user, of one place or everything below it, handed on by
    /// folders or not.
    fn acl_entry(
        &mut self,
        host: &Name,
        node: NodeId,
        subject: &Subject,
        grant: Grant,
        (below, inherit): (bool, bool),
    ) -> Option<()> {
        let object = self.site.object(host, node)?;
        // A name that only the layout knows may not be known to the host's tools.
        let known = self.site.facts(host).and_then(|facts| facts.account_of(subject.uid));
        let who = text_of(known.map(|account| &account.name), subject.uid);
        let tag = Tag::User(subject.uid);
        let acl = object.full_acl();
        // An entry of its own decides alone from then on (acl(5)): what others gave is in it, or
        // would be lost.
        let had = [R, W, X].into_iter().filter(|want| decide(&object, subject, *want).allowed);
        let had = had.fold(acl.perm(tag).unwrap_or(0), |all, want| all | want);
        let sum = Grant { perm: grant.perm | if below { 0 } else { had }, ..grant };
        // A mask that cuts what others were given stays as narrow as it can.
        let cut = |tag| !matches!(tag, Tag::UserObj | Tag::Other | Tag::Mask);
        let named = acl.entries().iter().filter(|entry| cut(entry.tag));
        let union = named.fold(0, |all, entry| all | entry.perm);
        let mask = acl.perm(Tag::Mask).filter(|mask| !inherit && union & !mask != 0);
        let mask = mask.map(|mask| mask | sum.perm);
        let mut entries = format!("u:{who}:{}", sum.text());
        if let Some(mask) = mask {
            entries += &format!(",m::{}", perm_text(mask));
        }
        if inherit {
            entries += &format!(",d:{entries}");
        }
        let command = Command::new("setfacl");
        let command = if below { command.arg("-R") } else { command };
        let edit = Edit::Entry { tag, grant: sum, mask, inherit };
        self.change(host, node, below, edit, command.arg("-m").arg(entries))
    }

    fn style(&self, host: &Name, node: NodeId, object: &Object) -> Style {
        match object.nfs4 {
            Some(_) => Style::Nfs4,
            None if takes_posix_acls(&self.site, host, node) => Style::Posix,
            None => Style::Bits,
        }
    }
}

/// Whether the filesystem that holds an entry keeps POSIX ACLs, as far as its type and options
/// tell.
pub fn takes_posix_acls(site: &Site, host: &Name, node: NodeId) -> bool {
    let Some(object) = site.object(host, node) else { return false };
    if object.nfs4.is_some() {
        return false;
    }
    if object.acl.is_some() || object.default_acl.is_some() {
        return true;
    }
    let place = site.tree(host).map(|tree| tree.path(node)).unwrap_or_else(AbsPath::root);
    let Some(mount) = site.mounts(host).and_then(|table| table.at(&place)) else { return true };
    match mount.filesystem.raw() {
        "zfs" => mount.super_options.has("posixacl"),
        "vfat" | "exfat" | "msdos" | "ntfs" | "ntfs3" | "hfsplus" | "iso9660" | "udf" => false,
        other => !other.starts_with("fuse") && !mount.super_options.has("noacl"),
    }
}

/// What lets the client of a route write through a share.
pub fn open_share(
    site: &Site,
    name: &Name,
    protocol: Protocol,
    route: &Route,
    server: &Name,
) -> Vec<Step> {
    let share = site.layout.share(name).zip(client_of(route, server));
    let (edit, emit) = match protocol {
        Protocol::Smb => {
            let user = share.and_then(|(share, client)| smb_user(site, share, client));
            let part = Part::SmbOffer(name.clone());
            (user.map(|user| site.layout.add(part, "write", &user)), reload_smb(server))
        }
        _ => {
            let edit = share.and_then(|(share, client)| {
                set_export(site, share, client, "access", Access::ReadWrite.word())
            });
            (edit, reload_exports(server))
        }
    };
    let words = || Step::words(format!("let whoever mounts {name} write, in the layout"));
    vec![edit.unwrap_or_else(words), emit]
}

/// What makes a mounted filesystem writable or read-only; nothing for other layers.
fn set_layer(layer: &Layer, access: Access) -> Vec<Step> {
    let LayerKind::Filesystem(kind, source) = &layer.kind else { return Vec::new() };
    let Place { host, path } = &layer.at;
    let source = source.raw().as_bytes();
    vec![Step::run(host, set_access(kind, source, path, layer.filesystem, access))]
}

/// The command that makes a mounted filesystem, or only this mount of it, writable or read-only.
fn set_access(kind: &Name, source: &[u8], point: &AbsPath, whole: bool, access: Access) -> Command {
    let remount =
        |how: &str| Command::new("mount -o").arg(format!("{how},{}", access.word())).arg(point);
    match (kind.raw(), whole) {
        ("zfs", true) => {
            let value = if access == Access::ReadOnly { "on" } else { "off" };
            Command::new("zfs set").arg(format!("readonly={value}")).arg(source)
        }
        (_, true) => remount("remount"),
        (_, false) => remount("remount,bind"),
    }
}
