//! What a scan of a library root would meet: which entries its service can read, and which of them
//! are of its kind.

use std::cell::RefCell;
use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use crate::facts::mounts::MountEntry;
use crate::facts::tree::{Listing, Lookup, NodeId, Tree};
use crate::judge::access_check::judge;
use crate::judge::verdict::{Answer, Need, Refusal};
use crate::kernel::decide::{Decider, Decision, R, W, X, decide};
use crate::kernel::entry::EntryKind;
use crate::kernel::gate::Gate;
use crate::kernel::object::Object;
use crate::kernel::subject::{NOBODY, Subject};
use crate::route::attached::attached_below;
use crate::route::end::End;
use crate::route::hops::Route;
use crate::route::{follow, follow_again};
use crate::scan::kinds::{is_media, is_passed_over, is_subtitle};
use crate::site::join::Site;
use crate::site::suppose::{AccessClassCache, Objects};
use crate::words::errno::Errno;
use crate::words::name::Name;
use crate::words::path::{AbsPath, components};
use crate::words::place::Place;
use crate::words::terms::Kind;
use crate::words::text::counted;

/// How many examples are kept of each kind of exception.
const EXAMPLES: usize = 3;

/// How many places something may be attached at, below one root; declared ones may lead into each
/// other without end.
const MOST_PARTS: usize = 10_000;

/// How many attachments may lie in one another: as many as a kernel follows symlinks
/// (`path_resolution(7)`). What is declared may lead back into itself.
const MOST_NESTED: u32 = 40;

/// How many places are kept that were not seen.
const MOST_UNSEEN: usize = 1000;

/// Entries that are refused for one reason.
#[derive(Clone, Debug, PartialEq)]
pub struct Cause {
    /// The host that decides.
    pub host: Name,
    /// The deciding entry and the owner and mode it belongs to, in words.
    pub reason: String,
    /// How many entries, those hidden below a refused folder included.
    pub count: u64,
    /// The first few, as the host that decides sees them.
    pub examples: Vec<AbsPath>,
}

/// The result of one pass over a library root.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Scan {
    /// Entries below the root that were seen by the survey.
    pub entries: u64,
    /// Of those, the ones that the service can't read.
    pub unreadable: u64,
    /// Why, the commonest first.
    pub causes: Vec<Cause>,
    /// Files of the library's kind that can be read, in the order in which they were met: those of
    /// one folder stand together.
    pub media: Vec<Media>,
    /// Subtitles that can be read.
    pub subtitles: Vec<Media>,
    /// Where these lie.
    pub regions: Vec<Region>,
    /// Readable entries that a scan passes over: sidecars, artwork and the like, dot entries, what
    /// systems leave behind. Of a folder that is passed over only itself counts.
    pub ignored: u64,
    /// Files and folders that the service could change.
    pub writable: u64,
    /// Symlinks that lead nowhere in the view of the service.
    pub broken_links: u64,
    /// The first few of them.
    pub broken_examples: Vec<AbsPath>,
    /// Folders that nobody could look into, and places that symlinks lead to, so that nothing is
    /// known of what is there.
    pub unseen: u64,
    /// The first few of them.
    pub unseen_examples: Vec<AbsPath>,
    /// Where one would have to look to know more.
    pub unseen_places: Vec<Place>,
    /// Of somebody who may be root or nobody: how what both would read differs, and why it isn't
    /// known who it is. Then the rest is what root would read.
    pub unsettled: Option<String>,
}

/// A file of the library's kind.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Media {
    /// Its place in [`Scan::regions`].
    pub region: u32,
    pub node: NodeId,
}

/// One connected part of a host's tree that a view shows.
#[derive(Clone, Debug, PartialEq)]
pub struct Region {
    pub host: Name,
    /// Its top on the host.
    pub base: AbsPath,
    /// The same place in the view.
    pub place: AbsPath,
}

impl Scan {
    /// Files of the library's kind that can be read.
    pub fn files(&self) -> u64 {
        self.media.len() as u64
    }

    /// Whether everything in it can be read; `None` where that can't be told.
    pub fn all_readable(&self) -> Option<bool> {
        match (self.unreadable + self.broken_links, self.unseen) {
            _ if self.unsettled.is_some() => None,
            (0, 0) => Some(true),
            (0, _) => None,
            _ => Some(false),
        }
    }

    /// How what root reads differs from what nobody would, in words; `None` if it does not.
    fn differs_from_nobodys(&self, nobodys: &Self, why: &str) -> Option<String> {
        let reads = |scan: &Self| (scan.entries, scan.unreadable, scan.files(), scan.unseen);
        let words = |scan: &Self| match scan.unreadable {
            0 => format!("could read all of {}", counted(scan.entries, "entry")),
            some => format!("could not read {some} of {}", counted(scan.entries, "entry")),
        };
        (reads(self) != reads(nobodys)).then(|| {
            format!("{why}: root {}, and nobody (uid {NOBODY}) {}", words(self), words(nobodys))
        })
    }
}

/// Reads everything below the end of a route as its subject would. Deeper mappings and mounts are
/// followed as the view shows them; then symlinks are, to folders that were not read yet.
pub fn scan(site: &Site, route: &Route, kind: Kind) -> Scan {
    let Some((nobody, why)) = route.subject.otherwise() else {
        return read(site, route, Some(kind));
    };
    let as_whom = |subject: &Subject| read(site, &follow_again(site, route, subject), Some(kind));
    let (roots, nobodys) = (as_whom(&route.subject.settled()), as_whom(&nobody));
    Scan { unsettled: roots.differs_from_nobodys(&nobodys, why), ..roots }
}

/// Reads everything below the end of a route as its subject would, whatever it is. Only what is
/// said of entries counts.
pub fn below(site: &Site, route: &Route) -> Scan {
    read(site, route, None)
}

fn read(site: &Site, route: &Route, kind: Option<Kind>) -> Scan {
    let mut scanner = Scanner {
        site,
        top: route,
        kind,
        scan: Scan::default(),
        causes: Causes::default(),
        parts: Vec::new(),
        todo: Vec::new(),
        links: Vec::new(),
        visited: HashSet::new(),
    };
    scanner.start();
    loop {
        if let Some(visit) = scanner.todo.pop() {
            scanner.folder(&visit);
        } else if let Some((visit, link)) = scanner.links.pop() {
            scanner.symlink(&visit, link);
        } else {
            return scanner.finish();
        }
    }
}

/// What makes two refusals the same.
#[derive(Clone, PartialEq, Eq, Hash)]
enum CauseKey<'a> {
    /// The host, the deciding entry, and whom the object belongs to.
    Entry(&'a Name, Decider, u16, u32, u32),
    /// What refuses before an entry is asked.
    Words(String),
}

/// What makes two folders the same, whatever the way to them.
#[derive(PartialEq, Eq, Hash)]
enum Folder<'a> {
    /// The host, the device and the inode.
    Inode(&'a Name, u64, u64),
    /// Where inodes are not known: the host, and the number in its facts.
    Node(&'a Name, NodeId),
    /// One that the engine makes in the view.
    Made(AbsPath),
}

impl<'a> Folder<'a> {
    fn of_entry(host: &'a Name, tree: &Tree, node: NodeId) -> Self {
        let meta = tree.meta(node);
        match (meta.device, meta.inode) {
            (Some(device), Some(inode)) => Self::Inode(host, device, inode),
            _ => Self::Node(host, node),
        }
    }
}

/// One connected part of one host's tree, below one attachment.
struct Part<'a> {
    host: &'a Name,
    objects: Objects<'a>,
    subject: Subject,
    gates: Vec<Arc<Gate>>,
    read_only: bool,
    /// In how many attachments it lies.
    nested: u32,
    /// Its top in the tree and in the view.
    base: AbsPath,
    place: AbsPath,
    /// Entries that the view does not show, because something is attached there.
    hidden: HashSet<NodeId>,
    /// What is attached in a folder of it, or below names of it that the tree does not have.
    attached: HashMap<NodeId, Vec<AbsPath>>,
    /// What those decide who are asked about entries of it.
    decided: RefCell<AccessClassCache<'a, Decided>>,
}

/// What everybody on the way says to requests for one entry.
#[derive(Clone, Copy)]
struct Decided {
    kind: EntryKind,
    writable: bool,
    read: Decision,
    /// The first refusal of those that keep a scan out of a folder.
    shut: Option<Decision>,
}

impl Part<'_> {
    /// What is decided of one of its entries.
    fn decided(&self, node: NodeId) -> Decided {
        self.decided.borrow_mut().of(node, |object| Decided {
            kind: object.meta.kind,
            writable: self.decide(object, W).allowed,
            read: self.decide(object, R),
            shut: [X, R]
                .map(|want| self.decide(object, want))
                .into_iter()
                .find(|decision| !decision.allowed),
        })
    }

    /// What everybody on the way says to one request: the clients' own checks, then the entry.
    fn decide(&self, object: &Object, want: u8) -> Decision {
        let local = self.gates.iter().map(|gate| gate.decide(&object.meta, want));
        let refused = local.into_iter().find(|decision| !decision.allowed);
        refused.unwrap_or_else(|| decide(object, &self.subject, want))
    }

    /// The path of one of its entries as the view shows it.
    fn view_path(&self, node: NodeId) -> AbsPath {
        let path = self.objects.tree.path(node);
        self.place.join(path.below(&self.base).unwrap_or_default())
    }
}

/// A folder on its way to be read.
#[derive(Clone)]
struct Visit {
    part: usize,
    node: NodeId,
    /// How far below the library root it stands.
    depth: u32,
    /// It lies in a folder that scans pass over; it has to be readable all the same.
    passed_over: bool,
    /// It is the topmost of those.
    is_ignored: bool,
}

struct Scanner<'a> {
    site: &'a Site,
    top: &'a Route,
    /// `None` where nothing is said of kinds.
    kind: Option<Kind>,
    scan: Scan,
    causes: Causes<'a>,
    parts: Vec<Part<'a>>,
    todo: Vec<Visit>,
    /// Symlinks, and the folders that they stand in; they wait until all folders are read.
    links: Vec<(Visit, NodeId)>,
    /// Folders that were read.
    visited: HashSet<Folder<'a>>,
}

impl<'a> Scanner<'a> {
    fn start(&mut self) {
        let top = self.top;
        if top.is_engine_made() {
            return self.engine_made(top, 0);
        }
        let Some(part) = self.part(top, 0) else { return };
        // What is below a root that nobody comes to can't be read, whatever its own rights are.
        let entered = judge(self.site, top, Need::Enter);
        let node = self.parts[part].objects.tree.find(&self.parts[part].base);
        let Lookup::Found(node) = node else { return };
        if entered.allowed().is_none() {
            self.scan.entries += self.count_shut(part, node);
            self.not_seen(top.here().clone());
        } else if is_shut_off(top, &entered) {
            let count = self.count_shut(part, node);
            self.scan.entries += count;
            self.refuse_all(&entered, count, top.here().path.clone());
        } else {
            self.visit(part);
        }
    }

    fn finish(mut self) -> Scan {
        self.scan.causes = self.causes.all;
        self.scan.causes.sort_by_key(|cause| std::cmp::Reverse(cause.count));
        let region = |part: &Part| Region {
            host: part.host.clone(),
            base: part.base.clone(),
            place: part.place.clone(),
        };
        self.scan.regions = self.parts.iter().map(region).collect();
        self.scan
    }

    /// Takes up the folder that a route leads to, and what is attached below it.
    fn part(&mut self, route: &Route, nested: u32) -> Option<usize> {
        let (end, root) = route.entry()?;
        let (host, objects) = self.site.objects_of(&end.seen_on)?;
        let tree = objects.tree;
        if !tree.meta(root).is_folder() {
            return None;
        }
        let base = tree.path(root);
        let (mut hidden, mut attached) = (HashSet::new(), HashMap::<_, Vec<AbsPath>>::new());
        let mut outermost: Vec<AbsPath> = Vec::new();
        for place in attached_below(self.site, route) {
            if outermost.iter().any(|outer| place.within(outer)) {
                continue;
            }
            let rest = place.below(&route.asked).unwrap_or_default();
            let (mut above, mut beneath) = (root, Some(root));
            for name in components(rest) {
                above = beneath.unwrap_or(above);
                beneath = match tree.lookup(above, name) {
                    Lookup::Found(node) if beneath.is_some() => Some(node),
                    _ => None,
                };
            }
            let there = follow(self.site, &route.view, &place, &self.top.subject);
            if matches!(there.end, End::Missing(_) | End::NotAFolder { .. }) {
                // Listed, and covered by something else.
                continue;
            }
            // A mount of the host itself is part of the tree that its survey saw.
            let own = there.entry().filter(|(end, _)| end.seen_on == *host);
            if own.is_some_and(|(there_end, node)| {
                Some(node) == beneath
                    && there_end.subject == end.subject
                    && there.read_only() == route.read_only()
                    && there_end
                        .mount_in(self.site)
                        .is_none_or(|mount| !decides_for_itself(mount, &end.subject))
            }) {
                continue;
            }
            hidden.extend(beneath);
            attached.entry(above).or_default().push(place.clone());
            outermost.push(place);
        }
        self.parts.push(Part {
            host,
            objects,
            subject: end.subject.clone(),
            gates: end.gates.clone(),
            read_only: route.read_only(),
            nested,
            base,
            place: route.asked.clone(),
            hidden,
            attached,
            decided: RefCell::new(AccessClassCache::new(objects)),
        });
        Some(self.parts.len() - 1)
    }

    /// Puts the top of a part on the list of folders to read.
    fn visit(&mut self, part: usize) {
        let Part { objects, base, place, .. } = &self.parts[part];
        let Lookup::Found(node) = objects.tree.find(base) else { return };
        let below = place.below(&self.top.asked).unwrap_or_default();
        let depth = components(below).count() as u32;
        let first = components(below).position(|part| is_passed_over(part, true));
        let is_ignored = first.is_some_and(|first| first + 1 == depth as usize);
        self.todo.push(Visit { part, node, depth, passed_over: first.is_some(), is_ignored });
    }

    /// A folder that holds nothing but what is mapped below it.
    fn engine_made(&mut self, route: &Route, nested: u32) {
        self.visited.insert(Folder::Made(route.view_path().clone()));
        let mut names: Vec<AbsPath> = attached_below(self.site, route)
            .iter()
            .filter_map(|place| {
                let first = components(place.below(&route.asked)?).next()?;
                Some(route.asked.child(first))
            })
            .collect();
        names.dedup();
        for place in names {
            self.attached(&place, nested + 1);
        }
    }

    /// What is attached at a place of the view, in a folder that can be read, and in how many
    /// attachments that lies.
    fn attached(&mut self, place: &AbsPath, nested: u32) {
        self.scan.entries += 1;
        let there = follow(self.site, &self.top.view, place, &self.top.subject);
        if self.parts.len() > MOST_PARTS || nested > MOST_NESTED {
            return self.not_seen(there.here().clone());
        }
        if there.is_engine_made() {
            return self.engine_made(&there, nested);
        }
        let read = judge(self.site, &there, Need::Read);
        let entered = judge(self.site, &there, Need::Enter);
        if entered.allowed().is_none() && there.entry().is_some() {
            return self.not_seen(there.here().clone());
        }
        match (self.part(&there, nested), read.allowed()) {
            (Some(part), _) if !is_shut_off(&there, &entered) => self.visit(part),
            (Some(part), _) => {
                let Lookup::Found(node) =
                    self.parts[part].objects.tree.find(&self.parts[part].base)
                else {
                    return;
                };
                let count = self.count_shut(part, node);
                self.scan.entries += count;
                self.refuse_all(&entered, count + 1, there.here().path.clone());
            }
            (None, Some(true)) => {
                let below = place.below(&self.top.asked).unwrap_or_default();
                let mut folders = components(below).collect::<Vec<_>>();
                let name = folders.pop().unwrap_or_default();
                let passed_over = folders.into_iter().any(|part| is_passed_over(part, true));
                if let Some((host, objects, base, node)) = self.file_at(&there) {
                    let part = self.file_part(host, objects, base, place.clone(), &there);
                    self.file(part, node, name, passed_over);
                }
            }
            (None, Some(false)) => self.refuse_all(&read, 1, there.here().path.clone()),
            (None, None) => self.not_seen(there.here().clone()),
        }
    }

    /// The file at the end of a route.
    fn file_at(&self, route: &Route) -> Option<(&'a Name, Objects<'a>, AbsPath, NodeId)> {
        let (end, node) = route.entry()?;
        let (host, objects) = self.site.objects_of(&end.seen_on)?;
        let base = objects.tree.path(node);
        Some((host, objects, base, node))
    }

    /// A part that is one file.
    fn file_part(
        &mut self,
        host: &'a Name,
        objects: Objects<'a>,
        base: AbsPath,
        place: AbsPath,
        route: &Route,
    ) -> usize {
        self.parts.push(Part {
            host,
            objects,
            subject: route.arrived().clone(),
            gates: Vec::new(),
            read_only: route.read_only(),
            nested: 0,
            base,
            place,
            hidden: HashSet::new(),
            attached: HashMap::new(),
            decided: RefCell::new(AccessClassCache::new(objects)),
        });
        self.parts.len() - 1
    }

    fn folder(&mut self, visit: &Visit) {
        let part = &self.parts[visit.part];
        let tree = part.objects.tree;
        self.visited.insert(Folder::of_entry(part.host, tree, visit.node));
        if let Some(decision) = part.decided(visit.node).shut {
            let hidden = self.count_shut(visit.part, visit.node);
            self.scan.entries += hidden;
            // The root itself is judged on its own; it is no entry of the library.
            let own = u64::from(visit.depth > 0);
            return self.refuse(visit.part, visit.node, &decision, hidden + own);
        }
        self.scan.ignored += u64::from(visit.is_ignored);
        if tree.listing(visit.node) != Listing::Complete {
            let place = Place::new(part.host, tree.path(visit.node));
            self.not_seen(place);
        }
        for child in tree.children(visit.node) {
            if !self.parts[visit.part].hidden.contains(&child) {
                self.entry(visit, child);
            }
        }
        let attached = self.parts[visit.part].attached.get(&visit.node).cloned();
        let nested = self.parts[visit.part].nested + 1;
        for place in self.next_names(visit, attached.unwrap_or_default()) {
            self.attached(&place, nested);
        }
    }

    /// The entries of a folder that attached places stand in: themselves, or folders that the
    /// engine makes for them.
    fn next_names(&self, visit: &Visit, attached: Vec<AbsPath>) -> Vec<AbsPath> {
        let folder = self.parts[visit.part].view_path(visit.node);
        let first = |place: &AbsPath| {
            let name = components(place.below(&folder).unwrap_or_default()).next()?.to_vec();
            Some(folder.child(&name))
        };
        let mut names: Vec<AbsPath> = attached.iter().filter_map(first).collect();
        names.dedup();
        names
    }

    /// How many entries the view shows below a folder, whoever may see them.
    fn count_shut(&mut self, part: usize, node: NodeId) -> u64 {
        let here = &self.parts[part];
        let nested = here.nested + 1;
        let tree = here.objects.tree;
        let (mut count, mut attached) = (0, Vec::new());
        for below in tree.below_but(node, |child| here.hidden.contains(&child)) {
            count += 1;
            attached.extend(here.attached.get(&below).into_iter().flatten().cloned());
        }
        count -= 1;
        for place in attached {
            let there = follow(self.site, &self.top.view, &place, &self.top.subject);
            count += 1;
            if nested <= MOST_NESTED
                && let Some(part) = self.part(&there, nested)
                && let Lookup::Found(node) =
                    self.parts[part].objects.tree.find(&self.parts[part].base)
            {
                count += self.count_shut(part, node);
            }
        }
        count
    }

    fn not_seen(&mut self, place: Place) {
        self.scan.unseen += 1;
        if self.scan.unseen_examples.len() < EXAMPLES {
            self.scan.unseen_examples.push(place.path.clone());
        }
        if self.scan.unseen_places.len() < MOST_UNSEEN {
            self.scan.unseen_places.push(place);
        }
    }

    fn entry(&mut self, visit: &Visit, child: NodeId) {
        let part = &self.parts[visit.part];
        let tree = part.objects.tree;
        let (decided, name) = (part.decided(child), tree.name(child));
        self.scan.entries += 1;
        let changeable = matches!(decided.kind, EntryKind::File | EntryKind::Folder);
        if changeable && !part.read_only && decided.writable {
            self.scan.writable += 1;
        }
        let depth = visit.depth + 1;
        match decided.kind {
            EntryKind::Folder => {
                let is_ignored = !visit.passed_over && is_passed_over(name, true);
                let passed_over = visit.passed_over || is_ignored;
                self.todo.push(Visit {
                    part: visit.part,
                    node: child,
                    depth,
                    passed_over,
                    is_ignored,
                });
            }
            EntryKind::File => {
                let decision = decided.read;
                if decision.allowed {
                    self.file(visit.part, child, name, visit.passed_over);
                } else {
                    self.refuse(visit.part, child, &decision, 1);
                }
            }
            EntryKind::Symlink => self.links.push((visit.clone(), child)),
            _ => {}
        }
    }

    /// Takes up a readable file, if it is of the library's kind.
    fn file(&mut self, part: usize, node: NodeId, name: &[u8], passed_over: bool) {
        if passed_over {
            return;
        }
        let file = Media { region: part as u32, node };
        if !is_passed_over(name, false) && self.kind.is_some_and(|kind| is_media(kind, name)) {
            self.scan.media.push(file);
            return;
        }
        self.scan.ignored += 1;
        if self.kind.is_some() && is_subtitle(name) {
            self.scan.subtitles.push(file);
        }
    }

    /// A symlink is an entry that can be read if what it leads to can.
    fn symlink(&mut self, visit: &Visit, link: NodeId) {
        let part = &self.parts[visit.part];
        let tree = part.objects.tree;
        let (own, place) = (tree.path(link), part.view_path(link));
        let found = follow(self.site, &self.top.view, &place, &self.top.subject);
        let read = judge(self.site, &found, Need::Read);
        match (read.allowed(), found.entry()) {
            (Some(true), Some((end, node))) => {
                let Some((host, objects)) = self.site.objects_of(&end.seen_on) else { return };
                if !objects.tree.meta(node).is_folder() {
                    return self.file(visit.part, link, tree.name(link), visit.passed_over);
                }
                if !self.visited.insert(Folder::of_entry(host, objects.tree, node)) {
                    return;
                }
                if let Some(part) = self.part(&found, 0) {
                    self.visit(part);
                }
            }
            (Some(true), None) => {
                if !self.visited.contains(&Folder::Made(found.view_path().clone())) {
                    self.engine_made(&found, 0);
                }
            }
            (Some(false), _) if read.errno() != Some(Errno::Access) => {
                self.scan.broken_links += 1;
                if self.scan.broken_examples.len() < EXAMPLES {
                    self.scan.broken_examples.push(own);
                }
            }
            (Some(false), _) => self.refuse_all(&read, 1, own),
            (None, _) => {
                let at = match &found.end {
                    End::Unseen { at, .. } => at.clone(),
                    _ => found.here().clone(),
                };
                self.not_seen(at);
            }
        }
    }

    fn refuse(&mut self, part: usize, node: NodeId, decision: &Decision, count: u64) {
        let part = &self.parts[part];
        let object = part.objects.of(node);
        let meta = object.meta;
        let key = CauseKey::Entry(part.host, decision.by, meta.mode, meta.uid, meta.gid);
        let host = part.host;
        let reason = || {
            let owner = self.site.owner_text(host, &meta);
            let kind = meta.kind.word();
            format!("{} on a {kind} of mode {:04o} {owner}", decision.entry(&object), meta.mode)
        };
        self.scan.unreadable += count;
        self.causes.note(key, host, reason, count, || part.objects.tree.path(node));
    }

    /// What something before its own rights keeps from being read.
    fn refuse_all(&mut self, answer: &Answer, count: u64, example: AbsPath) {
        let at = &answer.decided_at;
        let reason = format!("{}: {}", at.path, answer.reason());
        self.scan.unreadable += count;
        let key = CauseKey::Words(reason.clone());
        self.causes.note(key, &at.host, || reason.clone(), count, || example);
    }
}

/// Why entries can't be read, each cause once, in the order in which they were met.
#[derive(Default)]
struct Causes<'a> {
    all: Vec<Cause>,
    known: HashMap<CauseKey<'a>, usize>,
    /// What was noted last, which the next mostly is as well.
    last: Option<(CauseKey<'a>, usize)>,
}

impl<'a> Causes<'a> {
    fn note(
        &mut self,
        key: CauseKey<'a>,
        host: &Name,
        reason: impl FnOnce() -> String,
        count: u64,
        example: impl FnOnce() -> AbsPath,
    ) {
        let index = match &self.last {
            Some((last, index)) if *last == key => *index,
            _ => {
                let all = &mut self.all;
                let index = *self.known.entry(key.clone()).or_insert_with(|| {
                    let (host, reason) = (host.clone(), reason());
                    all.push(Cause { host, reason, count: 0, examples: Vec::new() });
                    all.len() - 1
                });
                self.last.insert((key, index)).1
            }
        };
        let cause = &mut self.all[index];
        cause.count += count;
        if cause.examples.len() < EXAMPLES {
            cause.examples.push(example());
        }
    }
}

/// Whether nobody comes to the end of a way because of something before the rights of that end
/// itself.
/// Whether what is mounted there is asked otherwise than by the modes of its entries.
fn decides_for_itself(mount: &MountEntry, subject: &Subject) -> bool {
    mount.keeps_out(subject) || mount.leaves_access_to_its_program()
}

fn is_shut_off(route: &Route, entered: &Answer) -> bool {
    let own = |at: &Place| route.trail.last().is_some_and(|last| last.at == *at);
    let by_rights =
        matches!(entered.refusal(), Some(Refusal::Permission { .. } | Refusal::Options(_)));
    entered.is_refused() && !(own(&entered.decided_at) && by_rights)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tests::{Scene, mapping, route_of};
    use crate::words::terms::Access;

    fn summary(scene: &Scene) -> String {
        let site = scene.site();
        let scan = scan(&site, &route_of(&site, "lantern", "/media/films"), Kind::Films);
        let causes: Vec<String> = scan
            .causes
            .iter()
            .map(|cause| format!("{} by {} at {}", cause.count, cause.reason, cause.examples[0]))
            .collect();
        format!(
            "{} files, {} of {} unreadable: {}",
            scan.files(),
            scan.unreadable,
            scan.entries,
            causes.join("; ")
        )
    }

    #[test]
    fn a_folder_that_is_shut_shuts_off_all_below_it() {
        let mut scene = Scene::local();
        assert_eq!(summary(&scene), "1 files, 0 of 2 unreadable: ");
        scene.change("granary", "/loft/media/films/Low Water (2003)", |meta| meta.mode = 0o700);
        let by = "2 by other::--- on a folder of mode 0700 mira:keepers at /loft/media/films/Low \
                  Water (2003)";
        assert_eq!(summary(&scene), format!("0 files, 2 of 2 unreadable: {by}"));
        scene.change("granary", "/loft/media/films", |meta| meta.mode = 0o700);
        let by = "2 by other::--- on a folder of mode 0700 mira:keepers at /loft/media/films";
        assert_eq!(summary(&scene), format!("0 files, 2 of 2 unreadable: {by}"));
        // Also above the root, where the scan itself has nothing to read.
        scene.change("granary", "/loft/media", |meta| meta.mode = 0o700);
        let by = "2 by /loft/media: other::--- does not let 840:840 search it (mode 0700 \
                  root:root) at /loft/media/films";
        assert_eq!(summary(&scene), format!("0 files, 2 of 2 unreadable: {by}"));
    }

    #[test]
    fn a_symlink_can_be_read_if_what_it_leads_to_can() {
        let mut scene = Scene::local();
        scene.tree(
            "granary",
            "d 0700 1101:1101 /loft/media/closed
             f 0600 1101:1101 /loft/media/closed/B (2001).mkv
             f 0600 1101:1101 /loft/media/hers.mkv
             d 0755 0:0 /loft/media/more
             f 0644 0:0 /loft/media/more/C (2002).mkv
             l 0777 0:0 /loft/media/films/B (2001) -> ../closed
             l 0777 0:0 /loft/media/films/D (2003).mkv -> ../hers.mkv
             l 0777 0:0 /loft/media/films/E (2004).mkv -> nowhere
             l 0777 0:0 /loft/media/films/more -> ../more
             l 0777 0:0 /loft/media/films/again -> .",
        );
        let site = scene.site();
        let scan = scan(&site, &route_of(&site, "lantern", "/media/films"), Kind::Films);
        // One title and its file, five links, and one file behind a link; each folder once.
        assert_eq!((scan.entries, scan.unreadable, scan.broken_links), (8, 2, 1));
        assert_eq!(scan.files(), 2, "what can't be read is no title");
        assert_eq!(scan.all_readable(), Some(false));
        assert_eq!(scan.broken_examples[0].as_bytes(), b"/loft/media/films/E (2004).mkv");
        // A link to where nobody looked is not known to be fine.
        scene.unread("granary", "/loft/media/closed").change(
            "granary",
            "/loft/media/closed",
            |meta| meta.mode = 0o755,
        );
        let site = scene.site();
        let scan = super::scan(&site, &route_of(&site, "lantern", "/media/films"), Kind::Films);
        assert_eq!(scan.unseen, 1);
    }

    #[test]
    fn what_is_mapped_below_counts_once_and_as_the_view_shows_it() {
        let mut scene = Scene::local();
        scene.tree(
            "granary",
            "d 0755 0:0 /more\nf 0644 0:0 /more/C (2002).mkv\nd 0700 0:0 /loft/media/shut",
        );
        let counted = |scene: &Scene, root: &str| {
            let site = scene.site();
            let scan = scan(&site, &route_of(&site, "lantern", root), Kind::Films);
            (scan.entries, scan.unreadable, scan.files())
        };
        assert_eq!(counted(&scene, "/media/films"), (2, 0, 1));
        let maps = |to: &str| {
            Some(vec![
                mapping("/loft/media", "/media", Access::ReadOnly),
                mapping("/more", to, Access::ReadOnly),
            ])
        };
        // Its mount point is an entry, whether the outer folder has it or the engine makes it.
        scene.service("lantern").map = maps("/media/films/More");
        assert_eq!(counted(&scene, "/media/films"), (4, 0, 2));
        // Below a folder that is shut it can't be read either.
        scene.service("lantern").map = maps("/media/shut/More");
        assert_eq!(counted(&scene, "/media"), (6, 3, 1));
        // A folder that only holds mappings holds them.
        scene.service("lantern").map = Some(vec![
            mapping("/loft/media/films", "/all/a", Access::ReadOnly),
            mapping("/more", "/all/b", Access::ReadOnly),
        ]);
        assert_eq!(counted(&scene, "/all"), (5, 0, 2));
    }
}
