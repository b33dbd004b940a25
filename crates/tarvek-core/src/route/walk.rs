//! The walk itself: component by component, as `path_resolution(7)` does it, on all the hosts of a route at once.
//!
//! A step appends one component to every frame of a [`Spot`]; the outermost frame on which something is attached at the new
//! path (a mapping, a mount) replaces all the frames inside it (`attach.rs`).

use std::cell::Cell;
use std::collections::VecDeque;

use crate::facts::mounts::MountTable;
use crate::facts::tree::{Lookup, NodeId, Tree};
use crate::kernel::entry::EntryKind;
use crate::kernel::subject::Subject;
use crate::route::arrive::as_seen;
use crate::route::end::{End, Missing, NotMounted};
use crate::route::finish::Finish;
use crate::route::hops::{Hop, HopKind, Route, View, Waypoint};
use crate::route::spot::{Frame, Last, Spot, host_of, maps_of};
use crate::site::join::Site;
use crate::words::name::Name;
use crate::words::path::{AbsPath, components};
use crate::words::place::Place;
use crate::words::terms::Os;
use crate::words::text::{nearest, shown};

/// `path_resolution(7)`: the kernel gives up after 40 symlinks. Attachments that lead into each other count too.
const MOST_TURNS: u32 = 40;

/// Where a walk came, and how it ended.
pub(super) type Walked = (Spot, End);

pub(super) struct Walker<'a> {
    pub(super) site: &'a Site,
    turns: Cell<u32>,
}

impl<'a> Walker<'a> {
    pub(super) fn new(site: &'a Site) -> Self {
        Self { site, turns: Cell::new(0) }
    }

    pub(super) fn route(
        &self,
        view: &View,
        asked: &AbsPath,
        subject: &Subject,
        last: Last,
    ) -> Route {
        let top = match view {
            View::Service(name) => match self.site.layout.service(name) {
                Some(service) if service.map.is_none() => self.host_top(&service.host, subject),
                _ => Spot::top(view.clone(), subject),
            },
            View::Host(host) => self.host_top(host, subject),
        };
        let mut links = Vec::new();
        let (spot, end) = self.walk(top, asked.as_bytes(), last, &mut links);
        // A path that ends above all mappings is the service's own storage.
        let end = match (&end, spot.frames.as_slice()) {
            (End::Reached, [Frame { level: level @ View::Service(_), .. }]) => {
                let maps = maps_of(self.site, level).iter();
                End::Uncovered { mapped: maps.filter_map(|m| m.to.path.clone().ok()).collect() }
            }
            _ => end,
        };
        Finish { site: self.site, spot: &spot, end: &end }.route(view, asked, links)
    }

    /// Where the paths of a host begin.
    pub(super) fn host_top(&self, host: &Name, subject: &Subject) -> Spot {
        let mut spot = Spot::top(View::Host(host.clone()), subject);
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
    pub(super) fn walk(&self, top: Spot, path: &[u8], last: Last, links: &mut Vec<Hop>) -> Walked {
        let mut todo: VecDeque<Vec<u8>> = components(path).map(<[u8]>::to_vec).collect();
        // Entries above a symlink that leads elsewhere are searched all the same.
        let mut passed: Vec<Waypoint> = Vec::new();
        let mut stack = vec![top];
        let finish = |mut spot: Spot, end: End, passed: Vec<Waypoint>| {
            spot.trail.splice(0..0, passed);
            (spot, end)
        };
        while let Some(part) = todo.pop_front() {
            let here = stack.last().expect("the top is never popped").clone();
            if let Some(end) = self.not_a_folder(&here) {
                return finish(here, end, passed);
            }
            if part == b".." {
                if stack.len() > 1 {
                    stack.pop();
                }
                continue;
            }
            let (next, end) = self.enter(&here, &part);
            if end != End::Reached {
                return finish(next, end, passed);
            }
            let follows = last == Last::Followed || !todo.is_empty();
            let Some(target) = self.link_target(&next).filter(|_| follows) else {
                stack.push(next);
                continue;
            };
            if !self.turn() {
                return finish(next, End::Loop, passed);
            }
            let Some(target) = target else {
                let why = Some("where the symlink points was not seen".into());
                let at = next.inner().at(self.site);
                return finish(next, End::Unseen { at, why }, passed);
            };
            if next.on_smb_server() {
                // The server resolves it, within the share.
                let (spot, end) = self.link_on_server(&here, &next, &target, links);
                if end != End::Reached {
                    return finish(spot, end, passed);
                }
                stack.push(spot);
                continue;
            }
            passed.extend(here.trail.iter().cloned());
            if target.starts_with(b"/") {
                stack.truncate(1);
            }
            links.push(self.link_hop(&next, &target, stack.last().expect("not empty")));
            for part in components(&target).rev() {
                todo.push_front(part.to_vec());
            }
        }
        let spot = stack.pop().expect("the top is never popped");
        finish(spot, End::Reached, passed)
    }

    /// Counts a turn; whether it is still one of those that are taken.
    pub(super) fn turn(&self) -> bool {
        self.turns.set(self.turns.get() + 1);
        self.turns.get() <= MOST_TURNS
    }

    fn not_a_folder(&self, spot: &Spot) -> Option<End> {
        let last = spot.trail.last()?;
        let meta = self.site.tree(&last.seen_on)?.meta(last.node?);
        let end = End::NotAFolder { at: last.at.clone(), kind: meta.kind };
        (!meta.is_folder()).then_some(end)
    }

    /// `None` if the spot is no symlink; `Some(None)` if it is one whose target nobody saw.
    fn link_target(&self, spot: &Spot) -> Option<Option<Vec<u8>>> {
        let last = spot.trail.last()?;
        let (tree, node) = (self.site.tree(&last.seen_on)?, last.node?);
        let link = tree.meta(node).kind == EntryKind::Symlink;
        link.then(|| tree.target(node).map(<[u8]>::to_vec))
    }

    fn link_hop(&self, link: &Spot, target: &[u8], base: &Spot) -> Hop {
        let frame = &link.frames[0];
        let from = frame.at(self.site);
        let to = Place { path: base.frames[0].path.join(target), ..from.clone() };
        let note = format!("symlink to {}", shown(target));
        Hop { note, ..Hop::new(HopKind::Symlink, from, to, &frame.subject) }
    }

    /// A symlink behind an SMB mount: resolved on the server, and refused if it leaves the share.
    fn link_on_server(
        &self,
        folder: &Spot,
        link: &Spot,
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
        spot.trail.extend(found.trail);
        (spot, end)
    }

    /// One step down by name; the name is not resolved if it is a symlink.
    fn enter(&self, here: &Spot, part: &[u8]) -> Walked {
        let mut next = here.clone();
        let (innermost, smb) = (next.frames.len() - 1, next.on_smb_server());
        for (k, frame) in next.frames.iter_mut().enumerate() {
            self.advance(frame, part, smb && k == innermost);
        }
        for k in 0..next.frames.len() {
            let frame = next.frames[k].clone();
            for (index, mapping) in maps_of(self.site, &frame.level).iter().enumerate() {
                if mapping.to.path.as_ref() == Ok(&frame.path) {
                    return self.attach_mapping(next, k, index, mapping);
                }
            }
            let View::Host(host) = &frame.level else { continue };
            match (self.site.mounts(host), frame.mount) {
                (Some(table), Some(current)) => match table.step(current, &frame.path) {
                    Some(mount) if mount.is_automount() => {
                        if let Some(walked) = self.attach_declared(&next, k, host, true) {
                            return walked;
                        }
                        next.frames[k].mount = Some(mount.id);
                    }
                    Some(mount) => return self.attach_observed(next, k, host, mount),
                    None => {
                        let absent = NotMounted::expected(self.site, host, &frame.path);
                        next.not_mounted.extend(absent.map(|absent| (k, absent)));
                    }
                },
                _ => {
                    if let Some(walked) = self.attach_declared(&next, k, host, false) {
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
    pub(super) fn look(&self, mut spot: Spot) -> Walked {
        let innermost = spot.frames.len() - 1;
        // The innermost host that was looked at decides.
        let seer = spot.frames.iter().enumerate().rev().find_map(|(k, frame)| match &frame.level {
            View::Host(host) => Some((k, self.site.tree(host)?)),
            View::Service(_) => None,
        });
        let on_a_host = spot.frames.iter().any(|frame| matches!(frame.level, View::Host(_)));
        if let Some((k, tree)) = seer {
            let at = spot.frames[k].at(self.site);
            match spot.frames[k].stepped {
                Some((_, Lookup::Found(_))) => {}
                Some((folder, Lookup::Absent)) => {
                    return (spot, End::Missing(missing(tree, at, folder)));
                }
                // Nobody looked there. If the innermost host was looked at, that is all there is to say; else the
                // layout's word counts.
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

    fn gap(&self, at: &Place) -> Option<String> {
        let facts = self.site.facts(&at.host)?;
        facts.gaps.iter().find(|gap| at.path.within(&gap.path)).map(|gap| gap.why.clone())
    }

    /// The entry at a spot, as the innermost host that shows it sees it.
    pub(super) fn waypoint(&self, spot: &Spot, attached: bool) -> Waypoint {
        let innermost = spot.inner();
        let seer = spot.frames.iter().rev().find(|frame| frame.node.is_some()).unwrap_or(innermost);
        Waypoint {
            seen_on: host_of(self.site, &seer.level),
            at: seer.at(self.site),
            node: seer.node,
            subject: as_seen(self.site, seer, &innermost.subject),
            attached,
            gates: spot.gates(),
        }
    }
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
