//! What a scan of a library root would meet: which entries its service can read, and how many titles they make.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use crate::facts::tree::{Listing, Lookup, NodeId, Tree};
use crate::judge::along::judge;
use crate::judge::verdict::{Answer, Need, Refusal};
use crate::kernel::decide::{Decider, Decision, R, W, X, decide};
use crate::kernel::entry::EntryKind;
use crate::kernel::gate::Gate;
use crate::kernel::object::Object;
use crate::kernel::subject::Subject;
use crate::route::attached::attached_below;
use crate::route::end::End;
use crate::route::follow;
use crate::route::hops::Route;
use crate::scan::kinds::{is_media, title_depth};
use crate::site::join::Site;
use crate::site::suppose::Objects;
use crate::words::errno::Errno;
use crate::words::name::Name;
use crate::words::path::{AbsPath, components};
use crate::words::place::Place;
use crate::words::terms::Kind;

/// How many examples are kept of each kind of exception.
const EXAMPLES: usize = 3;

/// How many places something may be attached at, below one root; declared ones may lead into each other without end.
const MOST_PARTS: usize = 10_000;

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
    /// Files of the library's kind that can be read.
    pub files: u64,
    /// Titles that these make.
    pub titles: u64,
    /// Files and folders that the service could change.
    pub writable: u64,
    /// Symlinks that lead nowhere in the view of the service.
    pub broken_links: u64,
    /// The first few of them.
    pub broken_examples: Vec<AbsPath>,
    /// Folders that nobody could look into, and places that symlinks lead to, so that nothing is known of what is there.
    pub unseen: u64,
    /// The first few of them.
    pub unseen_examples: Vec<AbsPath>,
    /// Where one would have to look to know more.
    pub unseen_places: Vec<Place>,
}

impl Scan {
    /// Whether everything in it can be read; `None` where that can't be told.
    pub fn all_readable(&self) -> Option<bool> {
        match (self.unreadable + self.broken_links, self.unseen) {
            (0, 0) => Some(true),
            (0, _) => None,
            _ => Some(false),
        }
    }
}

/// Reads everything below the end of a route as its subject would. Deeper mappings and mounts are followed as the view shows
/// them; then symlinks are, to folders that were not read yet.
pub fn scan(site: &Site, route: &Route, kind: Kind) -> Scan {
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
        titles: HashMap::new(),
        title_files: Vec::new(),
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

/// Reads everything below the end of a route as its subject would, whatever it is. Only what is said of entries counts.
pub fn below(site: &Site, route: &Route) -> Scan {
    scan(site, route, Kind::HomeVideo)
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
    fn seen(host: &'a Name, tree: &Tree, node: NodeId) -> Self {
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
    /// Its top in the tree and in the view.
    base: AbsPath,
    place: AbsPath,
    /// Entries that the view does not show, because something is attached there.
    hidden: HashSet<NodeId>,
    /// What is attached in a folder of it, or below names of it that the tree does not have.
    attached: HashMap<NodeId, Vec<AbsPath>>,
}

impl Part<'_> {
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
    /// The title that files in it belong to, as an index into `title_files`.
    title: Option<usize>,
    /// It lies in a folder that scans pass over; it has to be readable all the same.
    passed_over: bool,
}

struct Scanner<'a> {
    site: &'a Site,
    top: &'a Route,
    kind: Kind,
    scan: Scan,
    causes: Causes<'a>,
    parts: Vec<Part<'a>>,
    todo: Vec<Visit>,
    /// Symlinks, and the folders that they stand in; they wait until all folders are read.
    links: Vec<(Visit, NodeId)>,
    /// Folders that were read.
    visited: HashSet<Folder<'a>>,
    /// Titles by the place of their folder in the view.
    titles: HashMap<AbsPath, usize>,
    /// How many readable files each has.
    title_files: Vec<u64>,
}

impl<'a> Scanner<'a> {
    fn start(&mut self) {
        let top = self.top;
        if top.is_engine_made() {
            return self.engine_made(top);
        }
        let Some(part) = self.part(top) else { return };
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
            self.visit(part, None);
        }
    }

    fn finish(mut self) -> Scan {
        self.scan.causes = self.causes.all;
        self.scan.causes.sort_by_key(|cause| std::cmp::Reverse(cause.count));
        self.scan.titles = self.title_files.iter().filter(|files| **files > 0).count() as u64;
        self.scan
    }

    /// Takes up the folder that a route leads to, and what is attached below it.
    fn part(&mut self, route: &Route) -> Option<usize> {
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
                        .is_none_or(|mount| !mount.keeps_out(&end.subject))
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
            base,
            place: route.asked.clone(),
            hidden,
            attached,
        });
        Some(self.parts.len() - 1)
    }

    /// Puts the top of a part on the list of folders to read.
    fn visit(&mut self, part: usize, title: Option<usize>) {
        let Part { objects, base, place, .. } = &self.parts[part];
        let Lookup::Found(node) = objects.tree.find(base) else { return };
        let place = place.clone();
        let depth = depth_below(&place, &self.top.asked);
        let title = title.or_else(|| self.title_at(&place));
        let passed_over = components(place.below(&self.top.asked).unwrap_or_default())
            .any(|part| part.starts_with(b"."));
        self.todo.push(Visit { part, node, depth, title, passed_over });
    }

    /// A folder that holds nothing but what is mapped below it.
    fn engine_made(&mut self, route: &Route) {
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
            self.attached(&place);
        }
    }

    /// What is attached at a place of the view, in a folder that can be read.
    fn attached(&mut self, place: &AbsPath) {
        self.scan.entries += 1;
        let there = follow(self.site, &self.top.view, place, &self.top.subject);
        if self.parts.len() > MOST_PARTS {
            return self.not_seen(there.here().clone());
        }
        if there.is_engine_made() {
            return self.engine_made(&there);
        }
        let read = judge(self.site, &there, Need::Read);
        let entered = judge(self.site, &there, Need::Enter);
        match (self.part(&there), read.allowed()) {
            (Some(part), _) if !is_shut_off(&there, &entered) => self.visit(part, None),
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
                let depth = depth_below(place, &self.top.asked);
                let name = place.name().unwrap_or_default();
                let title = self.title_at(place).filter(|_| depth > 1);
                self.media_at(place, name, title, false);
            }
            (None, Some(false)) => self.refuse_all(&read, 1, there.here().path.clone()),
            (None, None) => self.not_seen(there.here().clone()),
        }
    }

    /// The title whose folder a place is, or lies in.
    fn title_at(&mut self, place: &AbsPath) -> Option<usize> {
        let depth = title_depth(self.kind)?;
        let rest = place.below(&self.top.asked)?;
        let parts: Vec<&[u8]> = components(rest).take(depth as usize).collect();
        if parts.len() < depth as usize {
            return None;
        }
        let folder = parts.into_iter().fold(self.top.asked.clone(), |path, part| path.child(part));
        Some(self.title(folder))
    }

    fn title(&mut self, folder: AbsPath) -> usize {
        let next = self.title_files.len();
        let index = *self.titles.entry(folder).or_insert(next);
        if index == next {
            self.title_files.push(0);
        }
        index
    }

    fn folder(&mut self, visit: &Visit) {
        let part = &self.parts[visit.part];
        let tree = part.objects.tree;
        self.visited.insert(Folder::seen(part.host, tree, visit.node));
        let object = part.objects.of(visit.node);
        let refused = [X, R]
            .map(|want| part.decide(&object, want))
            .into_iter()
            .find(|decision| !decision.allowed);
        if let Some(decision) = refused {
            let hidden = self.count_shut(visit.part, visit.node);
            self.scan.entries += hidden;
            // The root itself is judged on its own; it is no entry of the library.
            let own = u64::from(visit.depth > 0);
            return self.refuse(visit.part, visit.node, &decision, hidden + own);
        }
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
        for place in self.next_names(visit, attached.unwrap_or_default()) {
            self.attached(&place);
        }
    }

    /// The entries of a folder that attached places stand in: themselves, or folders that the engine makes for them.
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
            if let Some(part) = self.part(&there)
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
        let (object, name) = (part.objects.of(child), tree.name(child));
        let meta = &object.meta;
        self.scan.entries += 1;
        let changeable = matches!(meta.kind, EntryKind::File | EntryKind::Folder);
        if changeable && !part.read_only && part.decide(&object, W).allowed {
            self.scan.writable += 1;
        }
        let depth = visit.depth + 1;
        match meta.kind {
            EntryKind::Folder => {
                let passed_over = visit.passed_over || name.starts_with(b".");
                let title = match visit.title {
                    None if title_depth(self.kind) == Some(depth) && !passed_over => {
                        let place = part.view_path(child);
                        Some(self.title(place))
                    }
                    title => title,
                };
                self.todo.push(Visit { part: visit.part, node: child, depth, title, passed_over });
            }
            EntryKind::File => {
                let decision = part.decide(&object, R);
                if decision.allowed {
                    self.media_file(visit, child, name);
                } else {
                    self.refuse(visit.part, child, &decision, 1);
                }
            }
            EntryKind::Symlink => self.links.push((visit.clone(), child)),
            _ => {}
        }
    }

    /// Counts a readable file, if it is of the library's kind.
    fn media_file(&mut self, visit: &Visit, node: NodeId, name: &[u8]) {
        if visit.passed_over || name.starts_with(b".") || !is_media(self.kind, name) {
            return;
        }
        let place = self.parts[visit.part].view_path(node);
        self.media_at(&place, name, visit.title, visit.passed_over);
    }

    fn media_at(&mut self, place: &AbsPath, name: &[u8], title: Option<usize>, passed_over: bool) {
        if passed_over || name.starts_with(b".") || !is_media(self.kind, name) {
            return;
        }
        self.scan.files += 1;
        // A loose file is a title of its own.
        let title = title.unwrap_or_else(|| self.title(place.clone()));
        self.title_files[title] += 1;
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
                    return self.media_file(visit, link, tree.name(link));
                }
                if !self.visited.insert(Folder::seen(host, objects.tree, node)) {
                    return;
                }
                if let Some(part) = self.part(&found) {
                    self.visit(part, visit.title);
                }
            }
            (Some(true), None) => {
                if !self.visited.contains(&Folder::Made(found.view_path().clone())) {
                    self.engine_made(&found);
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
        let (host, path) = (part.host, part.objects.tree.path(node));
        let reason = || {
            let owner = self.site.owner_text(host, &meta);
            let kind = meta.kind.word();
            format!("{} on a {kind} of mode {:04o} {owner}", decision.entry(&object), meta.mode)
        };
        self.scan.unreadable += count;
        self.causes.note(key, host, reason, count, path);
    }

    /// What something before its own rights keeps from being read.
    fn refuse_all(&mut self, answer: &Answer, count: u64, example: AbsPath) {
        let at = &answer.decided_at;
        let reason = format!("{}: {}", at.path, answer.reason());
        self.scan.unreadable += count;
        let key = CauseKey::Words(reason.clone());
        self.causes.note(key, &at.host, || reason.clone(), count, example);
    }
}

/// Why entries can't be read, each cause once, in the order in which they were met.
#[derive(Default)]
struct Causes<'a> {
    all: Vec<Cause>,
    known: HashMap<CauseKey<'a>, usize>,
}

impl<'a> Causes<'a> {
    fn note(
        &mut self,
        key: CauseKey<'a>,
        host: &Name,
        reason: impl Fn() -> String,
        count: u64,
        example: AbsPath,
    ) {
        let all = &mut self.all;
        let index = *self.known.entry(key).or_insert_with(|| {
            let (host, reason) = (host.clone(), reason());
            all.push(Cause { host, reason, count: 0, examples: Vec::new() });
            all.len() - 1
        });
        let cause = &mut all[index];
        cause.count += count;
        if cause.examples.len() < EXAMPLES {
            cause.examples.push(example);
        }
    }
}

/// Whether nobody comes to the end of a way because of something before the rights of that end itself.
fn is_shut_off(route: &Route, entered: &Answer) -> bool {
    let own = |at: &Place| route.trail.last().is_some_and(|last| last.at == *at);
    let by_rights =
        matches!(entered.refusal(), Some(Refusal::Permission { .. } | Refusal::Options(_)));
    entered.is_refused() && !(own(&entered.decided_at) && by_rights)
}

fn depth_below(place: &AbsPath, root: &AbsPath) -> u32 {
    components(place.below(root).unwrap_or_default()).count() as u32
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tests::{Scene, mapping, route_of};
    use crate::words::terms::Access;

    fn told(scene: &Scene) -> String {
        let site = scene.site();
        let scan = scan(&site, &route_of(&site, "lantern", "/media/films"), Kind::Films);
        let causes: Vec<String> = scan
            .causes
            .iter()
            .map(|cause| format!("{} by {} at {}", cause.count, cause.reason, cause.examples[0]))
            .collect();
        format!(
            "{} titles, {} of {} unreadable: {}",
            scan.titles,
            scan.unreadable,
            scan.entries,
            causes.join("; ")
        )
    }

    #[test]
    fn a_folder_that_is_shut_shuts_off_all_below_it() {
        let mut scene = Scene::local();
        assert_eq!(told(&scene), "1 titles, 0 of 2 unreadable: ");
        scene.change("granary", "/loft/media/films/Low Water (2003)", |meta| meta.mode = 0o700);
        let by = "2 by other::--- on a folder of mode 0700 mira:keepers at /loft/media/films/Low Water (2003)";
        assert_eq!(told(&scene), format!("0 titles, 2 of 2 unreadable: {by}"));
        scene.change("granary", "/loft/media/films", |meta| meta.mode = 0o700);
        let by = "2 by other::--- on a folder of mode 0700 mira:keepers at /loft/media/films";
        assert_eq!(told(&scene), format!("0 titles, 2 of 2 unreadable: {by}"));
        // Also above the root, where the scan itself has nothing to read.
        scene.change("granary", "/loft/media", |meta| meta.mode = 0o700);
        let by = "2 by /loft/media: other::--- does not let 840:840 search it (mode 0700 root:root) at /loft/media/films";
        assert_eq!(told(&scene), format!("0 titles, 2 of 2 unreadable: {by}"));
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
        assert_eq!(scan.titles, 2, "what can't be read is no title");
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
            (scan.entries, scan.unreadable, scan.titles)
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
