//! The walk itself: component by component, as `path_resolution(7)` does it, on all the hosts of a
//! route at once.
//!
//! A step appends one component to every frame of a [`WalkPosition`]; the outermost frame on which
//! something is attached at the new path (a mapping, a mount) replaces all the frames inside it
//! (`attach.rs`).

use std::cell::Cell;
use std::collections::VecDeque;

use crate::facts::mounts::MountTable;
use crate::facts::tree::{Lookup, NodeId, Tree};
use crate::kernel::entry::EntryKind;
use crate::kernel::subject::Subject;
use crate::layout::mapping::Mapping;
use crate::route::arrive::as_seen;
use crate::route::end::{End, Missing, NotMounted};
use crate::route::finish::Finish;
use crate::route::hops::{Hop, HopKind, Route, View, Waypoint};
use crate::route::spot::{Frame, Last, Via, WalkPosition, maps_of};
use crate::site::join::Site;
use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::place::Place;
use crate::words::terms::{Access, Os};
use crate::words::text::{nearest, shown};

/// `path_resolution(7)`: the kernel gives up after 40 symlinks.
const MOST_LINKS: u32 = 40;

/// How deep attachments may lead into each other before they are taken to do so without end.
const MOST_INSIDE: u32 = 40;

/// The longest name that filesystems take, in bytes (NAME_MAX, `limits.h`).
const LONGEST_NAME: usize = 255;

/// The longest path that a kernel takes, in bytes (PATH_MAX without the NUL).
const LONGEST_PATH: usize = 4095;

/// Where a walk came, and how it ended.
pub(super) type Walked = (WalkPosition, End);

pub(super) struct Walker<'a> {
    pub(super) site: &'a Site,
    /// Symlinks that the resolution at hand has followed.
    links: Cell<u32>,
    /// How many resolutions it is inside of.
    depth: Cell<u32>,
}

impl<'a> Walker<'a> {
    pub(super) fn new(site: &'a Site) -> Self {
        Self { site, links: Cell::new(0), depth: Cell::new(0) }
    }

    pub(super) fn route(
        &self,
        view: &View,
        written: &[u8],
        subject: &Subject,
        last: Last,
    ) -> Route {
        let top = match view {
            View::Service(name) => match self.site.layout.service(name) {
                Some(service) if service.map.is_none() => self.host_top(&service.host, subject),
                _ => WalkPosition::top(view.clone(), subject),
            },
            View::Host(host) => self.host_top(host, subject),
        };
        let mut links = Vec::new();
        let (mut spot, mut end) = self.walk(top, written, last, &mut links);
        if let (End::Reached, [Frame { level: View::Service(_), .. }]) =
            (&end, spot.frames.as_slice())
        {
            let (ends, engine_made) = self.own_storage(&spot);
            if engine_made {
                spot.trail.push(Waypoint { engine_made, ..self.waypoint(&spot, false) });
            }
            end = ends;
        }
        Finish { site: self.site, spot: &spot, end: &end }.route(view, written, links)
    }

    /// What stands in a service's own storage, where nothing is mapped, and whether it is a folder
    /// that the engine makes for the mappings below it.
    fn own_storage(&self, spot: &WalkPosition) -> (End, bool) {
        if let Some(name) = &spot.volume {
            return (End::Volume { name: name.clone() }, false);
        }
        let frame = spot.inner();
        let maps = maps_of(self.site, &frame.level).iter();
        let mapped: Vec<AbsPath> = maps.filter_map(|map| map.to.path.clone().ok()).collect();
        if frame.path.is_root() || !mapped.iter().any(|to| to.within(&frame.path)) {
            return (End::Uncovered { mapped }, false);
        }
        (End::Reached, true)
    }

    /// Whether `..` may leave this: a name in a service's own storage on which no mapping lies, and
    /// that leads to none, may not be there at all.
    fn not_left(&self, spot: &WalkPosition) -> Option<End> {
        let [Frame { level: level @ View::Service(_), path, .. }] = spot.frames.as_slice() else {
            return None;
        };
        let stands = |map: &Mapping| map.to.path.as_ref().is_ok_and(|to| to.within(path));
        if path.is_root() || maps_of(self.site, level).iter().any(stands) {
            return None;
        }
        Some(self.own_storage(spot).0)
    }

    /// Where the paths of a host begin.
    pub(super) fn host_top(&self, host: &Name, subject: &Subject) -> WalkPosition {
        let mut spot = WalkPosition::top(View::Host(host.clone()), subject);
        spot.frames[0].node = self.site.facts(host).map(|_| Tree::ROOT);
        spot.frames[0].mount =
            self.site.mounts(host).and_then(MountTable::root).map(|mount| mount.id);
        // A drive letter stands in no folder.
        if self.site.os(host) != Os::Windows {
            let start = self.waypoint(&spot, true);
            spot.trail.push(start);
        }
        spot
    }

    /// Walks a path as it is written, symlinks and `..` included.
    pub(super) fn walk(
        &self,
        top: WalkPosition,
        path: &[u8],
        last: Last,
        links: &mut Vec<Hop>,
    ) -> Walked {
        if path.len() > LONGEST_PATH {
            let at = Place { path: AbsPath::root().join(path), ..top.inner().at(self.site) };
            return (top, End::TooLong { at });
        }
        let mut todo: VecDeque<Vec<u8>> = steps(path).map(<[u8]>::to_vec).collect();
        // Entries above a symlink that leads elsewhere, or that `..` leaves, are searched all the
        // same.
        let mut passed: Vec<Waypoint> = Vec::new();
        let mut stack = vec![top];
        let finish =
            |mut spot: WalkPosition, end: End, passed: Vec<Waypoint>, todo: VecDeque<Vec<u8>>| {
                spot.passed = passed.len();
                spot.trail.after(passed);
                spot.names_left = todo.iter().any(|part| !part.is_empty());
                (spot, end)
            };
        while let Some(part) = todo.pop_front() {
            let here = stack.last().expect("the top is never popped");
            if let Some(end) = self.not_a_folder(here) {
                todo.push_front(part);
                return finish(here.clone(), end, passed, todo);
            }
            match part.as_slice() {
                // A final slash asks for no more than a folder.
                b"" => continue,
                b"." => {
                    pass(&mut passed, here.trail.last());
                    continue;
                }
                b".." => {
                    if let Some(end) = self.not_left(here) {
                        return finish(here.clone(), end, passed, todo);
                    }
                    pass(&mut passed, here.trail.iter());
                    if stack.len() > 1 {
                        stack.pop();
                    }
                    continue;
                }
                _ => {}
            }
            let (next, end) = self.enter(here, &part);
            if end != End::Reached {
                return finish(next, end, passed, todo);
            }
            let is_last = todo.iter().all(Vec::is_empty);
            let follows = last == Last::Followed || !todo.is_empty();
            let Some(target) = self.link_target(&next).filter(|_| follows) else {
                stack.push(next);
                continue;
            };
            if let Some(end) = self.link_refused(here, &next, is_last) {
                return finish(next, end, passed, todo);
            }
            let Some(target) = target else {
                let why = Some("where the symlink points was not seen".into());
                let at = next.inner().at(self.site);
                return finish(next, End::Unseen { at, why }, passed, todo);
            };
            if next.on_smb_server() {
                // The server resolves it, within the share.
                let (spot, end) = self.link_on_server(here, &next, &target, links);
                if end != End::Reached {
                    return finish(spot, end, passed, todo);
                }
                stack.push(spot);
                continue;
            }
            pass(&mut passed, here.trail.iter());
            if target.starts_with(b"/") {
                stack.truncate(1);
            }
            links.push(self.link_hop(&next, &target, stack.last().expect("not empty")));
            for part in steps(&target).collect::<Vec<_>>().into_iter().rev() {
                todo.push_front(part.to_vec());
            }
        }
        let spot = stack.pop().expect("the top is never popped");
        finish(spot, End::Reached, passed, todo)
    }

    /// A resolution of its own, with symlinks counted anew; `None` where one leads into the other
    /// without end.
    pub(super) fn inside<T>(&self, resolve: impl FnOnce() -> T) -> Option<T> {
        if self.depth.get() >= MOST_INSIDE {
            return None;
        }
        let links = self.links.replace(0);
        self.depth.set(self.depth.get() + 1);
        let result = resolve();
        self.depth.set(self.depth.get() - 1);
        self.links.set(links);
        Some(result)
    }

    /// Why a symlink is not followed, in the kernel's order (`fs/namei.c`, `pick_link`).
    fn link_refused(
        &self,
        folder: &WalkPosition,
        link: &WalkPosition,
        is_last: bool,
    ) -> Option<End> {
        self.links.set(self.links.get() + 1);
        if self.links.get() > MOST_LINKS {
            return Some(End::Loop);
        }
        let last = link.trail.last()?;
        // What is attached was resolved by whoever attached it, not by those who come to it.
        if is_last
            && self.depth.get() == 0
            && let Some(end) = self.protected(folder, last)
        {
            return Some(end);
        }
        let refusing = link.frames.iter().find_map(|frame| {
            let View::Host(host) = &frame.level else { return None };
            let observed = self.site.mounts(host)?.entry(frame.mount?)?;
            observed.options.has("nosymfollow").then(|| observed.point.clone())
        });
        let declared = link.frames.iter().filter_map(|frame| frame.via.mount());
        let declared = declared
            .filter(|via| !via.observed && via.options.has("nosymfollow"))
            .map(|via| via.point.clone());
        let mount = refusing.or_else(|| declared.into_iter().next())?;
        Some(End::NotFollowed { link: last.at.clone(), mount })
    }

    /// `fs.protected_symlinks` (proc_sys_fs(5)), which spares nobody: the last symlink of a path,
    /// in a sticky folder that everyone may write, is followed only by its owner, or where the
    /// folder's owner made it.
    fn protected(&self, folder: &WalkPosition, link: &Waypoint) -> Option<End> {
        let above = folder.trail.last()?;
        let objects = self.site.objects(&link.seen_on)?;
        let (link_meta, folder_meta) = (objects.of(link.node?).meta, objects.of(above.node?).meta);
        let open = above.seen_on == link.seen_on && folder_meta.mode & 0o1002 == 0o1002;
        if !open || link_meta.uid == folder_meta.uid || link_meta.uid == link.subject.uid {
            return None;
        }
        // The kernel that resolves it is that of the viewpoint.
        let host = folder.frames[0].level.machine(self.site);
        match self.site.facts(&host).and_then(|facts| facts.told.sysctl("fs.protected_symlinks")) {
            Some(0) => None,
            Some(_) => {
                // Before it refuses, the kernel walks the path once more, and goes on counting
                // (`LOOKUP_RCU`, then without).
                let loops = self.links.get() * 2 > MOST_LINKS;
                Some(End::ProtectedLink { link: link.at.clone(), loops })
            }
            None => Some(End::Unseen {
                at: link.at.clone(),
                why: Some(format!("whether fs.protected_symlinks is on was not seen on {host}")),
            }),
        }
    }

    fn not_a_folder(&self, spot: &WalkPosition) -> Option<End> {
        let last = spot.trail.last()?;
        let meta = self.site.tree(&last.seen_on)?.meta(last.node?);
        let end = End::NotAFolder { at: last.at.clone(), kind: meta.kind };
        (!meta.is_folder()).then_some(end)
    }

    /// `None` if the spot is no symlink; `Some(None)` if it is one whose target nobody saw.
    fn link_target(&self, spot: &WalkPosition) -> Option<Option<Vec<u8>>> {
        let last = spot.trail.last()?;
        let (tree, node) = (self.site.tree(&last.seen_on)?, last.node?);
        let link = tree.meta(node).kind == EntryKind::Symlink;
        link.then(|| tree.target(node).map(<[u8]>::to_vec))
    }

    fn link_hop(&self, link: &WalkPosition, target: &[u8], base: &WalkPosition) -> Hop {
        let frame = &link.frames[0];
        let from = frame.at(self.site);
        let to = Place { path: base.frames[0].path.join(target), ..from.clone() };
        let note = format!("symlink to {}", shown(target));
        Hop { note, ..Hop::new(HopKind::Symlink, from, to, &frame.subject) }
    }

    /// A symlink behind an SMB mount: resolved on the server, and refused if it leaves the share.
    fn link_on_server(
        &self,
        folder: &WalkPosition,
        link: &WalkPosition,
        target: &[u8],
        links: &mut Vec<Hop>,
    ) -> Walked {
        let inner = link.inner();
        let View::Host(server) = &inner.level else { return (link.clone(), End::Loop) };
        let share = inner.via.mount().and_then(|via| self.site.layout.share(via.share()?));
        let share = share.map(|share| share.path.clone());
        let mut written = target.to_vec();
        if !target.starts_with(b"/") {
            written = [folder.inner().path.as_bytes(), b"/", target].concat();
        }
        let top = self.host_top(server, &inner.subject);
        let (found, end) = self.walk(top, &written, Last::Followed, links);
        let place = found.inner();
        if end == End::Reached && !share.as_ref().is_some_and(|share| place.path.within(share)) {
            let share = share.unwrap_or_else(AbsPath::root);
            return (link.clone(), End::LeavesShare { link: inner.path.clone(), share });
        }
        let mut spot = folder.clone();
        let outer = link.frames.len() - 1;
        spot.frames = link.frames.clone();
        spot.frames[outer].path = place.path.clone();
        spot.frames[outer].node = place.node;
        spot.frames[outer].mount = place.mount;
        spot.trail.append(&found.trail);
        (spot, end)
    }

    /// One step down by name; the name is not resolved if it is a symlink.
    fn enter(&self, here: &WalkPosition, part: &[u8]) -> Walked {
        let mut next = here.clone();
        let (innermost, smb) = (next.frames.len() - 1, next.on_smb_server());
        for (k, frame) in next.frames.iter_mut().enumerate() {
            self.advance(frame, part, smb && k == innermost);
        }
        for k in 0..next.frames.len() {
            let frame = &next.frames[k];
            // Of several mappings to one place the last one lies on top.
            let mappings = maps_of(self.site, &frame.level).iter().enumerate();
            let on_top = mappings.rev().find(|(_, map)| map.to.path.as_ref() == Ok(&frame.path));
            if let Some((index, mapping)) = on_top {
                let covered = next.inner();
                let covers = (k + 1 < next.frames.len())
                    .then(|| Some((covered.level.machine(self.site), covered.node?)))
                    .flatten();
                let (mut spot, end) = self.attach_mapping(next, k, index, mapping);
                if let Some(last) = spot.trail.last_mut().filter(|last| last.attached) {
                    last.covers = covers;
                }
                return (spot, end);
            }
            let View::Host(host) = &frame.level else { continue };
            let host = host.clone();
            if let Some(walked) = self.attach_named_server(&next, k, &host) {
                return walked;
            }
            match (self.site.mounts(&host), frame.mount) {
                (Some(table), Some(current)) => match table.step(current, &frame.path) {
                    Some(mount) if mount.is_automount() => {
                        if let Some(walked) = self.attach_declared(&next, k, &host, true) {
                            return walked;
                        }
                        next.frames[k].mount = Some(mount.id);
                    }
                    Some(mount) => return self.attach_observed(next, k, &host, mount),
                    None => {
                        let absent = NotMounted::expected(self.site, &host, &frame.path);
                        next.not_mounted.extend(absent.map(|absent| (k, absent)));
                    }
                },
                _ => {
                    if let Some(walked) = self.attach_declared(&next, k, &host, false) {
                        return walked;
                    }
                }
            }
        }
        self.look(next)
    }

    /// Takes one frame a name further, in its path and in what was seen.
    fn advance(&self, frame: &mut Frame, part: &[u8], any_case: bool) {
        frame.path.push(part);
        let View::Host(host) = &frame.level else { return };
        let tree = self.site.tree(host);
        frame.stepped =
            frame.node.zip(tree).map(|(folder, tree)| match tree.lookup(folder, part) {
                Lookup::Absent if any_case => (folder, fold_case(tree, folder, part)),
                found => (folder, found),
            });
        frame.node = match frame.stepped {
            Some((_, Lookup::Found(node))) => Some(node),
            _ => None,
        };
        if any_case
            && let (Some(node), Some(tree), Some(parent)) = (frame.node, tree, frame.path.parent())
        {
            frame.path = parent.child(tree.name(node));
        }
    }

    /// Says what the last step found where nothing is attached.
    pub(super) fn look(&self, mut spot: WalkPosition) -> Walked {
        let innermost = spot.frames.len() - 1;
        // A server stands in no folder of the client that names it.
        if spot.inner().path.as_smb_source().is_some()
            && spot.inner().path.components().count() == 1
        {
            return (spot, End::Reached);
        }
        // The innermost host that was looked at decides.
        let seer = spot.frames.iter().enumerate().rev().find_map(|(k, frame)| match &frame.level {
            View::Host(host) => Some((k, self.site.tree(host)?)),
            View::Service(_) => None,
        });
        let on_a_host = spot.frames.iter().any(|frame| matches!(frame.level, View::Host(_)));
        if let Some((k, tree)) = seer {
            let at = spot.frames[k].at(self.site);
            let long = self.too_long(&spot.frames[k]);
            match spot.frames[k].stepped {
                Some((_, Lookup::Found(_))) => {}
                _ if long => return (spot, End::TooLong { at }),
                Some((folder, found))
                    if found == Lookup::Absent || self.in_removed(&spot.frames[k]) =>
                {
                    if self.engine_makes(&spot) {
                        let made = Waypoint { engine_made: true, ..self.waypoint(&spot, false) };
                        spot.trail.push(made);
                        return (spot, End::Reached);
                    }
                    return (spot, End::Missing(missing(tree, at, folder)));
                }
                // Nobody looked there. If the innermost host was looked at, that is all there is to
                // say; else the layout's word counts.
                _ if k == innermost => {
                    let why = self.gap(&at);
                    return (spot, End::Unseen { at, why });
                }
                _ => {}
            }
        }
        if on_a_host {
            let waypoint = self.waypoint(&spot, false);
            spot.trail.push(waypoint);
        }
        (spot, End::Reached)
    }

    /// Whether a name is longer than what holds it takes; some filesystems count characters.
    fn too_long(&self, frame: &Frame) -> bool {
        let counts_characters = |filesystem: &Name| {
            // What runs in user space says for itself how long a name it takes.
            let by_itself = filesystem.raw().starts_with("fuse.") && filesystem != "fuse.zfs";
            by_itself
                || matches!(
                    filesystem.raw(),
                    "vfat"
                        | "exfat"
                        | "ntfs"
                        | "ntfs3"
                        | "fuseblk"
                        | "cifs"
                        | "smb3"
                        | "zfs"
                        | "hfsplus"
                )
        };
        let View::Host(host) = &frame.level else { return false };
        let mount = frame.mount.and_then(|id| self.site.mounts(host)?.entry(id));
        frame.path.name().is_some_and(|name| name.len() > LONGEST_NAME)
            && !self.in_removed(frame)
            && !mount.is_some_and(|mount| counts_characters(&mount.filesystem))
    }

    /// Whether a name is that of an entry in a folder that was removed since it was bound, where
    /// nothing is looked up at all.
    fn in_removed(&self, frame: &Frame) -> bool {
        let View::Host(host) = &frame.level else { return false };
        let mount = frame.mount.and_then(|id| self.site.mounts(host)?.entry(id));
        mount.is_some_and(|mount| {
            mount.source_deleted() && frame.path.parent().as_ref() == Some(&mount.point)
        })
    }

    /// Whether a folder that is not there is one that the engine makes in what an outer mapping
    /// shows, on the way to an inner one. On another host, or where it may not write, that is not
    /// certain.
    fn engine_makes(&self, spot: &WalkPosition) -> bool {
        let [Frame { level: level @ View::Service(_), path, .. }, rest @ ..] =
            spot.frames.as_slice()
        else {
            return false;
        };
        let writable = |frame: &Frame| match &frame.via {
            Via::Top => true,
            Via::Mapping(via) => via.access == Access::ReadWrite,
            Via::Mount(_) => false,
        };
        let to = |map: &Mapping| map.to.path.as_ref().is_ok_and(|to| to.within(path) && to != path);
        rest.iter().all(writable) && maps_of(self.site, level).iter().any(to)
    }

    fn gap(&self, at: &Place) -> Option<String> {
        Some(self.site.gap_at(&at.host, &at.path)?.why.to_string())
    }

    /// The entry at a spot, as the innermost host that shows it sees it.
    pub(super) fn waypoint(&self, spot: &WalkPosition, attached: bool) -> Waypoint {
        let innermost = spot.inner();
        let seer = spot.frames.iter().rev().find(|frame| frame.node.is_some()).unwrap_or(innermost);
        Waypoint {
            seen_on: seer.level.machine(self.site),
            at: seer.at(self.site),
            node: seer.node,
            subject: as_seen(self.site, seer, &innermost.subject),
            attached,
            covers: None,
            mount: seer.mount,
            engine_made: false,
            gates: spot.gates(),
        }
    }
}

/// Keeps what was passed, each entry once.
fn pass<'a>(passed: &mut Vec<Waypoint>, trail: impl IntoIterator<Item = &'a Waypoint>) {
    for waypoint in trail {
        if !passed.contains(waypoint) {
            passed.push(waypoint.clone());
        }
    }
}

/// The steps of a path as the kernel takes them: names, `.` and `..`, and an empty one for a final
/// slash.
fn steps(path: &[u8]) -> impl Iterator<Item = &[u8]> {
    let slash = path.len() > 1 && path.ends_with(b"/");
    let names = path.split(|&b| b == b'/').filter(|part| !part.is_empty());
    names.chain(slash.then_some(&b""[..]))
}

fn folded(name: &[u8]) -> String {
    String::from_utf8_lossy(name).to_lowercase()
}

/// SMB names compare without regard to case; an exact match was tried before.
fn fold_case(tree: &Tree, folder: NodeId, name: &[u8]) -> Lookup {
    let wanted = folded(name);
    let found = tree.children(folder).find(|child| folded(tree.name(*child)) == wanted);
    found.map_or(Lookup::Absent, Lookup::Found)
}

/// What stands in a folder instead of the last name of a place.
fn missing(tree: &Tree, at: Place, folder: NodeId) -> Missing {
    let names: Vec<&[u8]> = tree.children(folder).map(|child| tree.name(child)).collect();
    let name = at.path.name().unwrap_or_default();
    let wanted = folded(name);
    let other_case = names.iter().find(|other| folded(other) == wanted);
    let texts: Vec<String> =
        names.iter().map(|n| String::from_utf8_lossy(n).into_owned()).collect();
    let near = nearest(&wanted, texts.iter().map(String::as_str));
    let near = near.and_then(|near| texts.iter().position(|text| text == near));
    Missing {
        name: name.into(),
        other_case: other_case.map(|name| (*name).into()),
        near: near.map(|index| names[index].into()),
        entries: names.len(),
        folder: Place { path: at.path.parent().unwrap_or_else(AbsPath::root), host: at.host },
    }
}
