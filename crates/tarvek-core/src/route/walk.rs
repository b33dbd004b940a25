//! The walk itself: component by component, as `path_resolution(7)` does it, on all the hosts of a route at once.
//!
//! A [`Spot`] is a place in a view. It holds a *frame* for every level on which the place has a path: the service, its
//! host, the server behind a mount, and so on. A step appends one component to every frame; the outermost frame on which
//! something is attached at the new path (a mapping, a mount) replaces all the frames inside it.

mod finish;
mod who;

use std::cell::Cell;
use std::collections::VecDeque;
use std::sync::Arc;

use finish::Finish;
use who::Arrival;

use super::source::Remote;
use super::{End, Evidence, Hop, HopKind, Missing, NotMounted, Route, Step, View};
use crate::facts::mounts::{MountEntry, MountTable, network_protocol};
use crate::facts::tree::{EntryKind, Lookup, NodeId, Tree};
use crate::identity::Subject;
use crate::layout::{MapSource, Mapping, Mode, MountSource, Os, Protocol, Service};
use crate::path::{AbsPath, components};
use crate::site::Site;
use crate::smb::Gate;
use crate::text::shown;

/// `path_resolution(7)`: the kernel gives up after 40 symlinks. Attachments that lead into each other count too.
const MOST_TURNS: u32 = 40;

/// How a frame is entered from the one outside it.
#[derive(Clone, Debug)]
enum Via {
    Top,
    Mapping { to: AbsPath, mode: Mode, line: u32, seen: bool, changed_by: Option<String> },
    Mount(Box<MountVia>),
}

impl Via {
    fn mount(&self) -> Option<&MountVia> {
        match self {
            Self::Mount(via) => Some(via),
            _ => None,
        }
    }
}

#[derive(Clone, Debug)]
struct MountVia {
    protocol: Protocol,
    point: AbsPath,
    source: String,
    mode: Mode,
    observed: bool,
    /// Its options.
    options: Vec<String>,
    /// The SMB user that connects, where the layout says so.
    user: Option<String>,
    /// Who of those that ask is sent to the server, and what changed him.
    sent: Option<(Subject, String)>,
    /// The check that the client makes by itself.
    gate: Option<Arc<Gate>>,
    /// The share's name, its mode for this client, and a remark.
    share: Option<(String, Mode, String)>,
    /// What made whoever asks somebody else on the server.
    changed_by: Option<String>,
}

impl MountVia {
    /// Whether it is NFSv4.0 or 4.1, whose clients take the umask off before they ask.
    fn takes_umask(&self) -> bool {
        let old = |option: &String| {
            let version = option.strip_prefix("vers=").or_else(|| option.strip_prefix("nfsvers="));
            matches!(version, Some("4.0" | "4.1"))
                || matches!(option.as_str(), "minorversion=0" | "minorversion=1")
        };
        self.protocol == Protocol::Nfs && self.options.iter().any(old)
    }

    fn new(
        protocol: Protocol,
        point: &AbsPath,
        source: String,
        mode: Mode,
        options: &[String],
    ) -> Self {
        Self {
            protocol,
            point: point.clone(),
            source,
            mode,
            observed: false,
            options: options.to_vec(),
            user: None,
            sent: None,
            gate: None,
            share: None,
            changed_by: None,
        }
    }
}

#[derive(Clone, Debug)]
struct Frame {
    level: View,
    path: AbsPath,
    /// The entry in the facts of this host.
    node: Option<NodeId>,
    /// The folder that the last step started from, and what it found there.
    stepped: Option<(NodeId, Lookup)>,
    /// The observed mount that the path is on.
    mount: Option<u64>,
    via: Via,
    /// Symlinks followed on the way to the start of this frame.
    links: Vec<Hop>,
    /// Who acts on this level.
    subject: Subject,
    /// A network mount whose server the site does not know; what is seen is what this host sees.
    foreign: Option<MountVia>,
}

/// A place in a view.
#[derive(Clone, Debug)]
struct Spot {
    frames: Vec<Frame>,
    trail: Vec<Step>,
    not_mounted: Vec<(usize, NotMounted)>,
    mapping: Option<usize>,
    volume: Option<String>,
}

type Walked = (Spot, End);
/// Somebody on the outside of a namespace, and what changed him.
type Outside = (Subject, Option<String>);
/// A namespace, and the id that it does not map.
type Unmapped = (String, u32);

/// What is done with a symlink at the very end.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Last {
    /// It is followed.
    Followed,
    /// It is what was asked for.
    Itself,
}

impl Last {
    fn is_followed(self) -> bool {
        self == Self::Followed
    }
}

pub(super) struct Walker<'a> {
    site: &'a Site,
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
                _ => self.top(View::Service(name.clone()), subject),
            },
            View::Host(host) => self.host_top(host, subject),
        };
        let mut links = Vec::new();
        let (spot, end) = self.walk(top, asked.as_bytes(), last, &mut links);
        // A path that ends above all mappings is the service's own storage.
        let end = match (&end, spot.frames.as_slice()) {
            (End::Reached, [Frame { level: View::Service(name), .. }]) => self.uncovered(name),
            _ => end,
        };
        Finish { site: self.site, spot: &spot, end: &end }.route(view, asked, links)
    }

    fn uncovered(&self, service: &str) -> End {
        let maps = self.site.layout.service(service).and_then(|s| s.map.as_deref()).unwrap_or(&[]);
        End::Uncovered { mapped: maps.iter().filter_map(|m| m.to.path.clone().ok()).collect() }
    }

    fn top(&self, level: View, subject: &Subject) -> Spot {
        let frame = Frame {
            level,
            path: AbsPath::root(),
            node: None,
            stepped: None,
            mount: None,
            via: Via::Top,
            links: Vec::new(),
            subject: subject.clone(),
            foreign: None,
        };
        Spot {
            frames: vec![frame],
            trail: Vec::new(),
            not_mounted: Vec::new(),
            mapping: None,
            volume: None,
        }
    }

    fn host_top(&self, host: &str, subject: &Subject) -> Spot {
        let mut spot = self.top(View::Host(host.to_owned()), subject);
        let facts = self.site.facts(host);
        spot.frames[0].node = facts.map(|_| Tree::ROOT);
        spot.frames[0].mount = self.table(host).and_then(MountTable::root).map(|mount| mount.id);
        // A drive letter stands in no folder.
        let drives = self.site.layout.host(host).is_some_and(|host| host.os == Os::Windows);
        if !drives {
            spot.trail.push(self.step(&spot, true));
        }
        spot
    }

    fn table(&self, host: &str) -> Option<&'a MountTable> {
        self.site.facts(host)?.mounts.as_ref()
    }

    /// The mappings that are attached inside a level.
    fn maps(&self, level: &View) -> &'a [Mapping] {
        match level {
            View::Service(name) => {
                self.site.layout.service(name).and_then(|s: &Service| s.map.as_deref())
            }
            View::Host(name) => self.site.layout.host(name).map(|host| host.map.as_slice()),
        }
        .unwrap_or(&[])
    }

    /// Walks a path as it is written, symlinks and `..` included.
    fn walk(&self, top: Spot, path: &[u8], last: Last, links: &mut Vec<Hop>) -> Walked {
        let mut todo: VecDeque<Vec<u8>> = components(path).map(<[u8]>::to_vec).collect();
        // Entries above a symlink that leads elsewhere are searched all the same.
        let mut passed: Vec<Step> = Vec::new();
        let mut stack = vec![top];
        let finish = |mut spot: Spot, end: End, passed: Vec<Step>| {
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
            let target = self.link_target(&next).filter(|_| last.is_followed() || !todo.is_empty());
            let Some(target) = target else {
                stack.push(next);
                continue;
            };
            if !self.turn() {
                return finish(next, End::Loop, passed);
            }
            let Some(target) = target else {
                let (host, path) = next.here();
                let why = Some("where the symlink points was not seen".into());
                return finish(next, End::Unseen { host, path, why }, passed);
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

    fn turn(&self) -> bool {
        self.turns.set(self.turns.get() + 1);
        self.turns.get() <= MOST_TURNS
    }

    fn not_a_folder(&self, spot: &Spot) -> Option<End> {
        let step = spot.trail.last()?;
        let kind = self.site.tree(&step.seen_on)?.meta(step.node?).kind;
        (kind != EntryKind::Folder).then(|| End::NotAFolder {
            host: step.host.clone(),
            path: step.path.clone(),
            kind: kind.word(),
        })
    }

    /// `None` if the spot is no symlink; `Some(None)` if it is one whose target nobody saw.
    fn link_target(&self, spot: &Spot) -> Option<Option<Vec<u8>>> {
        let step = spot.trail.last()?;
        let (tree, node) = (self.site.tree(&step.seen_on)?, step.node?);
        let link = tree.meta(node).kind == EntryKind::Symlink;
        link.then(|| tree.target(node).map(<[u8]>::to_vec))
    }

    fn link_hop(&self, link: &Spot, target: &[u8], base: &Spot) -> Hop {
        let frame = &link.frames[0];
        let host = self.host_of(&frame.level);
        let path_out = base.frames[0].path.join(target);
        Hop {
            kind: HopKind::Symlink,
            host: host.clone(),
            path_in: frame.path.clone(),
            path_out,
            host_out: host,
            mode: Mode::ReadWrite,
            subject: frame.subject.clone(),
            changed_by: None,
            share: None,
            evidence: Evidence::Observed,
            note: format!("symlink to {}", shown(target)),
            doubt: None,
            broken: false,
        }
    }

    fn host_of(&self, level: &View) -> String {
        match level {
            View::Host(name) => name.clone(),
            View::Service(name) => {
                self.site.layout.service(name).map(|s| s.host.clone()).unwrap_or_default()
            }
        }
    }

    /// A symlink behind an SMB mount: resolved on the server, and refused if it leaves the share.
    fn link_on_server(
        &self,
        folder: &Spot,
        link: &Spot,
        target: &[u8],
        links: &mut Vec<Hop>,
    ) -> Walked {
        let inner = link.frames.last().expect("a spot has frames");
        let View::Host(server) = &inner.level else { return (link.clone(), End::Loop) };
        let share = self.share_root(link);
        let mut written = target.to_vec();
        if !target.starts_with(b"/") {
            let base = folder.frames.last().expect("a spot has frames");
            written = [base.path.as_bytes(), b"/", target].concat();
        }
        let top = self.host_top(server, &inner.subject);
        let (found, end) = self.walk(top, &written, Last::Followed, links);
        let place = found.frames.last().expect("a spot has frames");
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

    fn share_root(&self, spot: &Spot) -> Option<AbsPath> {
        let (name, ..) = spot.frames.last()?.via.mount()?.share.as_ref()?;
        Some(self.site.layout.share(name)?.path.clone())
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
            for (index, mapping) in self.maps(&frame.level).iter().enumerate() {
                if mapping.to.path.as_ref() == Ok(&frame.path) {
                    return self.attach_mapping(next, k, index, mapping);
                }
            }
            let View::Host(host) = &frame.level else { continue };
            match (self.table(host), frame.mount) {
                (Some(table), Some(current)) => match table.step(current, &frame.path) {
                    Some(mount) if mount.is_automount() => {
                        if let Some(walked) = self.attach_declared(&next, k, host, true) {
                            return walked;
                        }
                        next.frames[k].mount = Some(mount.id);
                    }
                    Some(mount) => return self.attach_observed(next, k, host, mount),
                    None => self.note_not_mounted(&mut next, k, host),
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
    fn look(&self, mut spot: Spot) -> Walked {
        let innermost = spot.frames.len() - 1;
        // The innermost host that was looked at decides.
        let seer = spot.frames.iter().enumerate().rev().find_map(|(k, frame)| match &frame.level {
            View::Host(host) => Some((k, host.clone(), self.site.tree(host)?)),
            View::Service(_) => None,
        });
        let on_a_host = spot.frames.iter().any(|frame| matches!(frame.level, View::Host(_)));
        if let Some((k, host, tree)) = seer {
            match spot.frames[k].stepped {
                Some((_, Lookup::Found(_))) => {}
                Some((folder, Lookup::Absent)) => {
                    let path = &spot.frames[k].path;
                    let parent = path.parent().unwrap_or_else(AbsPath::root);
                    let name = path.name().unwrap_or_default();
                    let end = End::Missing(missing(tree, &host, parent, folder, name));
                    return (spot, end);
                }
                // Nobody looked there. If the innermost host was looked at, that is all there is to say; else the
                // layout's word counts.
                _ if k == innermost => {
                    let (host, path) = spot.here();
                    let why = self.gap(&host, &path);
                    return (spot, End::Unseen { host, path, why });
                }
                _ => {}
            }
        }
        if on_a_host {
            let step = self.step(&spot, false);
            spot.trail.push(step);
        }
        (spot, End::Reached)
    }

    fn gap(&self, host: &str, path: &AbsPath) -> Option<String> {
        let facts = self.site.facts(host)?;
        facts.gaps.iter().find(|gap| path.within(&gap.path)).map(|gap| gap.why.clone())
    }

    /// The entry at a spot, as the innermost host that shows it sees it.
    fn step(&self, spot: &Spot, attached: bool) -> Step {
        let innermost = spot.frames.last().expect("a spot has frames");
        let seer = spot.frames.iter().rev().find(|frame| frame.node.is_some()).unwrap_or(innermost);
        let host = self.host_of(&seer.level);
        let gates = spot.frames.iter().filter_map(|frame| frame.via.mount()?.gate.clone());
        Step {
            seen_on: host.clone(),
            host,
            path: seer.path.clone(),
            node: seer.node,
            subject: self.as_seen(seer, &innermost.subject),
            attached,
            gates: gates.collect(),
        }
    }

    fn attach_mapping(&self, mut spot: Spot, k: usize, index: usize, mapping: &Mapping) -> Walked {
        spot.frames.truncate(k + 1);
        spot.not_mounted.retain(|(frame, _)| *frame <= k);
        spot.trail.clear();
        if k == 0 && matches!(spot.frames[0].level, View::Service(_)) {
            spot.mapping = Some(index);
        }
        let outer = &spot.frames[k];
        let host = match &outer.level {
            View::Service(_) => self.host_of(&outer.level),
            // The folders of a system container come from the host that it is inside of.
            View::Host(name) => self
                .site
                .layout
                .host(name)
                .and_then(|host| host.inside.clone())
                .unwrap_or_else(|| name.clone()),
        };
        let (subject, changed_by) = match self.outside_of(&outer.level, &outer.subject, mapping) {
            Ok(outside) => outside,
            Err((namespace, id)) => {
                let why = format!("{namespace} has no id {id}: nobody can be that there");
                let path = outer.path.clone();
                return (spot, End::Refused { host, path, why, errno: "EINVAL" });
            }
        };
        let via = Via::Mapping {
            to: outer.path.clone(),
            mode: mapping.access,
            line: mapping.origin.line,
            seen: false,
            changed_by: changed_by.clone(),
        };
        match &mapping.source {
            MapSource::Folder(from) => {
                let Ok(from) = &from.path else {
                    return (spot, End::Uncovered { mapped: Vec::new() });
                };
                self.append(spot, &host, from.as_bytes(), &subject, via, Entrance::Root)
            }
            MapSource::Volume(name) => {
                spot.volume = Some(name.clone());
                (spot, End::Volume { name: name.clone() })
            }
            MapSource::Share { share, protocol, options, user } => {
                let Some(remote) = Remote::of_share(self.site, share, *protocol) else {
                    return (spot, End::Uncovered { mapped: Vec::new() });
                };
                let read_only =
                    mapping.access == Mode::ReadOnly || options.iter().any(|o| o == "ro");
                let mode = if read_only { Mode::ReadOnly } else { Mode::ReadWrite };
                let point = spot.frames[k].path.clone();
                let mount = MountVia {
                    user: user.clone(),
                    sent: changed_by.map(|by| (subject.clone(), by)),
                    ..MountVia::new(*protocol, &point, share.clone(), mode, options)
                };
                self.attach_remote(spot, k, &host, remote, mount)
            }
        }
    }

    fn attach_observed(&self, mut spot: Spot, k: usize, host: &str, mount: &MountEntry) -> Walked {
        if let Some(end) = self.hidden_child(&spot, k, host) {
            return (spot, end);
        }
        spot.frames.truncate(k + 1);
        spot.not_mounted.retain(|(frame, _)| *frame <= k);
        spot.frames[k].mount = Some(mount.id);
        if let Some(protocol) = mount.network() {
            let source = shown(&mount.source);
            let options = &mount.super_options;
            let via = MountVia {
                observed: true,
                ..MountVia::new(protocol, &mount.point, source, mount.mode(), options)
            };
            match Remote::parse(self.site, &mount.source, protocol) {
                Some(remote) if remote.host.is_some() && remote.path.is_some() => {
                    return self.attach_remote(spot, k, host, remote, via);
                }
                _ => spot.frames[k].foreign = Some(via),
            }
        }
        let (mut spot, end) = self.look(spot);
        if let (End::Reached, Some(last)) = (&end, spot.trail.last_mut()) {
            last.attached = true;
        }
        // What a bind shows may have been looked at under its source only.
        if let End::Unseen { .. } = end
            && let Some(table) = self.table(host)
            && let Some(source) = table.bind_source(mount)
            && let Some(tree) = self.site.tree(host)
            && let Lookup::Found(node) = tree.find(&source)
        {
            spot.frames[k].node = Some(node);
            let step = Step { path: source, ..self.step(&spot, true) };
            spot.trail.push(step);
            return (spot, End::Reached);
        }
        (spot, end)
    }

    /// A dataset below an NFS export that is neither exported itself nor included by `crossmnt`.
    fn hidden_child(&self, spot: &Spot, k: usize, host: &str) -> Option<End> {
        let frame = &spot.frames[k];
        let via = frame.via.mount().filter(|via| via.protocol == Protocol::Nfs)?;
        let (name, ..) = via.share.as_ref()?;
        let share = self.site.layout.share(name)?;
        let crossed = share.nfs.iter().any(|export| export.crossmnt);
        let exported =
            self.site.layout.shares.iter().any(|other| {
                other.host == host && !other.nfs.is_empty() && other.path == frame.path
            });
        (!crossed && !exported).then(|| End::HiddenChild {
            host: host.to_owned(),
            point: frame.path.clone(),
            share: name.clone(),
        })
    }

    /// Attaches what the layout declares at the path of a frame, where no mount table says otherwise.
    fn attach_declared(
        &self,
        spot: &Spot,
        k: usize,
        host: &str,
        on_demand: bool,
    ) -> Option<Walked> {
        let path = &spot.frames[k].path;
        let declared = self.site.layout.mounts.iter().find(|m| m.host == host && m.at == *path);
        let datasets = self.site.layout.host(host).map(|host| host.datasets.as_slice());
        if declared.is_none()
            && datasets.unwrap_or(&[]).iter().any(|dataset| dataset.at == *path)
            && let Some(end) = self.hidden_child(spot, k, host)
        {
            return Some((spot.clone(), end));
        }
        let fstab = self.site.facts(host).into_iter().flat_map(|facts| &facts.fstab);
        let (protocol, source, mode, remote, options) = if let Some(mount) = declared {
            let source = match &mount.from {
                MountSource::Share(name) => name.clone(),
                MountSource::Literal(text) => text.clone(),
            };
            let remote = Remote::of_mount(self.site, mount);
            (mount.protocol, source, mount.mode(), remote, &mount.options)
        } else {
            let line = fstab.into_iter().find(|line| line.point == *path)?;
            let protocol = network_protocol(&line.filesystem)?;
            let read_only = line.options.iter().any(|option| option == "ro");
            let mode = if read_only { Mode::ReadOnly } else { Mode::ReadWrite };
            let remote = Remote::parse(self.site, line.source.as_bytes(), protocol);
            (protocol, line.source.clone(), mode, remote, &line.options)
        };
        let mut spot = spot.clone();
        spot.frames.truncate(k + 1);
        spot.not_mounted.retain(|(frame, _)| *frame <= k);
        let note = if on_demand { " (mounted on demand)" } else { "" };
        let via = MountVia {
            user: declared.and_then(|mount| mount.user.clone()),
            ..MountVia::new(protocol, path, shown(source.as_bytes()) + note, mode, options)
        };
        match (protocol, remote) {
            (_, Some(remote)) if remote.host.is_some() && remote.path.is_some() => {
                Some(self.attach_remote(spot, k, host, remote, via))
            }
            (Protocol::Bind, _) => {
                let subject = spot.frames[k].subject.clone();
                let from = source.into_bytes();
                Some(self.append(
                    spot,
                    host,
                    &from,
                    &subject,
                    Via::Mount(Box::new(via)),
                    Entrance::Last,
                ))
            }
            (Protocol::Disk, _) => None,
            _ => {
                spot.frames[k].foreign = Some(via);
                Some(self.look(spot))
            }
        }
    }

    fn note_not_mounted(&self, spot: &mut Spot, k: usize, host: &str) {
        let absent = NotMounted::expected(self.site, host, &spot.frames[k].path);
        spot.not_mounted.extend(absent.map(|absent| (k, absent)));
    }

    /// Steps from a mount point onto a server of the site.
    fn attach_remote(
        &self,
        mut spot: Spot,
        k: usize,
        client: &str,
        remote: Remote,
        mut via: MountVia,
    ) -> Walked {
        let (Some(server), Some(path)) = (remote.host, remote.path) else {
            let (host, path) = spot.here();
            return (
                spot,
                End::Unseen {
                    host,
                    path,
                    why: Some(format!("{} is not in the layout", remote.server)),
                },
            );
        };
        let local = match &via.sent {
            Some((shifted, _)) => shifted.clone(),
            None => spot.frames[k].subject.clone(),
        };
        let share = remote.share.as_deref().and_then(|name| self.site.layout.share(name));
        let arrival = match remote.protocol {
            Protocol::Nfs => Ok(self.over_nfs(client, &server, share, &local, &mut via)),
            _ => {
                let user = self.declared_user(&spot, k, &via).map(str::to_owned);
                self.over_smb(client, &server, share, user.as_deref(), &local, &mut via)
            }
        };
        spot.frames.truncate(k + 1);
        let Arrival { subject, mode, remark } = match arrival {
            Ok(arrival) => arrival,
            Err(why) => {
                return (spot, End::Refused { host: server, path, why, errno: "EACCES" });
            }
        };
        via.share = Some((share.map(|share| share.name.clone()).unwrap_or_default(), mode, remark));
        // An NFS server does not check the folders above an export; an SMB server does check those above a share.
        let entrance = if via.protocol == Protocol::Smb { Entrance::All } else { Entrance::Last };
        self.append(spot, &server, path.as_bytes(), &subject, Via::Mount(Box::new(via)), entrance)
    }

    /// Appends the frames of a path on a host, resolved there, to a spot.
    fn append(
        &self,
        mut spot: Spot,
        host: &str,
        path: &[u8],
        subject: &Subject,
        via: Via,
        entrance: Entrance,
    ) -> Walked {
        if !self.turn() {
            return (spot, End::Loop);
        }
        let mut links = Vec::new();
        let (mut inner, end) =
            self.walk(self.host_top(host, subject), path, Last::Followed, &mut links);
        inner.frames[0].via = match via {
            Via::Mapping { to, mode, line, changed_by, .. } => {
                Via::Mapping { to, mode, line, changed_by, seen: inner.frames[0].node.is_some() }
            }
            via => via,
        };
        inner.frames[0].links = links;
        let depth = spot.frames.len();
        spot.frames.append(&mut inner.frames);
        spot.not_mounted.extend(inner.not_mounted.into_iter().map(|(k, m)| (k + depth, m)));
        let last = inner.trail.pop().map(|step| Step { attached: true, ..step });
        match entrance {
            Entrance::Root => spot.trail = last.into_iter().collect(),
            Entrance::Last => spot.trail.extend(last),
            Entrance::All => spot.trail.extend(inner.trail.into_iter().chain(last)),
        }
        (spot, end)
    }
}

/// Which entries of an appended path are checked.
#[derive(Clone, Copy)]
enum Entrance {
    /// Only the attached folder, which is where the view starts.
    Root,
    /// Those above the mount point, and the attached folder.
    Last,
    /// Those above the mount point, and all on the server.
    All,
}

impl Spot {
    fn here(&self) -> (String, AbsPath) {
        let frame = self.frames.last().expect("a spot has frames");
        let (View::Host(name) | View::Service(name)) = &frame.level;
        (name.clone(), frame.path.clone())
    }

    fn on_smb_server(&self) -> bool {
        let via = self.frames.last().and_then(|frame| frame.via.mount());
        via.is_some_and(|via| via.protocol == Protocol::Smb)
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

fn missing(tree: &Tree, host: &str, path: AbsPath, folder: NodeId, name: &[u8]) -> Missing {
    let names: Vec<&[u8]> = tree.children(folder).map(|child| tree.name(child)).collect();
    let wanted = folded(name);
    let other_case = names.iter().find(|other| folded(other) == wanted).map(|n| n.to_vec());
    let texts: Vec<String> =
        names.iter().map(|n| String::from_utf8_lossy(n).into_owned()).collect();
    let near = crate::text::nearest(&wanted, texts.iter().map(String::as_str));
    let near = near.and_then(|near| texts.iter().position(|text| text == near));
    Missing {
        host: host.to_owned(),
        folder: path,
        name: name.to_vec(),
        other_case,
        near: near.map(|index| names[index].to_vec()),
        entries: names.len(),
    }
}
