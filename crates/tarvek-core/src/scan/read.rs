//! What a scan of a library root would meet: which entries its service can read, and how many titles they make.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use crate::facts::tree::{Listing, Lookup, NodeId};
use crate::judge::along::judge;
use crate::judge::verdict::Need;
use crate::kernel::decide::{Decider, Decision, R, W, X, decide};
use crate::kernel::entry::EntryKind;
use crate::kernel::gate::Gate;
use crate::kernel::object::Object;
use crate::kernel::subject::Subject;
use crate::route::attached::attached_below;
use crate::route::follow;
use crate::route::hops::Route;
use crate::scan::kinds::{is_media, title_depth};
use crate::site::join::Site;
use crate::site::suppose::Objects;
use crate::words::name::Name;
use crate::words::path::{AbsPath, components};
use crate::words::terms::Kind;

/// How many examples are kept of each kind of exception.
const EXAMPLES: usize = 3;

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
    /// Folders that nobody could look into, so that nothing is known of what they hold.
    pub unseen: u64,
    /// The first few of them.
    pub unseen_examples: Vec<AbsPath>,
}

impl Scan {
    /// Whether everything in it can be read; `None` where that can't be told.
    pub fn all_readable(&self) -> Option<bool> {
        match (self.unreadable, self.unseen) {
            (0, 0) => Some(true),
            (0, _) => None,
            _ => Some(false),
        }
    }
}

/// Reads everything below the end of a route as its subject would. Deeper mappings, mounts and symlinks are followed as
/// the view shows them; each folder is read once.
pub fn scan(site: &Site, route: &Route, kind: Kind) -> Scan {
    if let Some(shut) = shut_off(site, route) {
        return shut;
    }
    let mut scanner = Scanner {
        site,
        top: route,
        kind,
        scan: Scan::default(),
        causes: Vec::new(),
        parts: Vec::new(),
        todo: Vec::new(),
        visited: HashSet::new(),
        titles: HashMap::new(),
        title_files: Vec::new(),
    };
    scanner.open(route, None);
    while let Some(visit) = scanner.todo.pop() {
        scanner.folder(&visit);
    }
    scanner.finish()
}

/// What is below a root that nobody comes to, since something before it refuses: nothing of it can be read.
fn shut_off(site: &Site, route: &Route) -> Option<Scan> {
    let (last, node) = route.entry()?;
    let entered = judge(site, route, Need::Enter);
    if !entered.is_refused() || entered.decided_at == last.at {
        return None;
    }
    let entries = site.tree(&last.seen_on)?.count_below(node);
    let cause = Cause {
        host: entered.decided_at.host.clone(),
        reason: format!("{}: {}", entered.decided_at.path, entered.reason()),
        count: entries,
        examples: vec![last.at.path.clone()],
    };
    Some(Scan { entries, unreadable: entries, causes: vec![cause], ..Scan::default() })
}

/// Reads everything below the end of a route as its subject would, whatever it is. Only what is said of entries counts.
pub fn below(site: &Site, route: &Route) -> Scan {
    scan(site, route, Kind::HomeVideo)
}

/// What makes two refusals the same: the host, the deciding entry, and whom the object belongs to.
type CauseKey<'a> = (&'a Name, Decider, u16, u32, u32);

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
    causes: Vec<(CauseKey<'a>, Cause)>,
    parts: Vec<Part<'a>>,
    todo: Vec<Visit>,
    /// Folders that were entered, by host and number.
    visited: HashSet<(&'a Name, NodeId)>,
    /// Titles by the place of their folder in the view.
    titles: HashMap<AbsPath, usize>,
    /// How many readable files each has.
    title_files: Vec<u64>,
}

impl<'a> Scanner<'a> {
    fn finish(mut self) -> Scan {
        self.causes.sort_by_key(|(_, cause)| std::cmp::Reverse(cause.count));
        self.scan.causes = self.causes.into_iter().map(|(_, cause)| cause).collect();
        self.scan.titles = self.title_files.iter().filter(|files| **files > 0).count() as u64;
        self.scan
    }

    /// Takes up what a route leads to, and everything that is attached below it.
    fn open(&mut self, route: &Route, title: Option<usize>) {
        let Some((end, root)) = route.entry() else { return };
        let Some((host, objects)) = self.site.objects_of(&end.seen_on) else { return };
        let tree = objects.tree;
        if !tree.meta(root).is_folder() || !self.visited.insert((host, root)) {
            return;
        }
        let base = tree.path(root);
        let depth = depth_below(&route.asked, &self.top.asked);
        let title = title.or_else(|| self.title_at(&route.asked));
        let mut hidden = HashSet::new();
        for place in attached_below(self.site, route) {
            let rest = place.below(&route.asked).unwrap_or_default();
            let beneath = match tree.find(&base.join(rest)) {
                Lookup::Found(node) => Some(node),
                _ => None,
            };
            let attached = follow(self.site, &route.view, &place, &self.top.subject);
            let node = attached.entry().filter(|(end, _)| end.seen_on == *host).map(|(_, n)| n);
            // A mount of the host itself is part of the tree that its survey saw.
            if node.is_some() && node == beneath {
                continue;
            }
            hidden.extend(beneath);
            self.open(&attached, None);
        }
        let dotted = components(route.asked.below(&self.top.asked).unwrap_or_default());
        let passed_over = dotted.into_iter().any(|part| part.starts_with(b"."));
        let part = self.parts.len();
        self.todo.push(Visit { part, node: root, depth, title, passed_over });
        self.parts.push(Part {
            host,
            objects,
            subject: end.subject.clone(),
            gates: end.gates.clone(),
            read_only: route.read_only(),
            base,
            place: route.asked.clone(),
            hidden,
        });
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
        let object = part.objects.of(visit.node);
        let refused = [X, R]
            .map(|want| part.decide(&object, want))
            .into_iter()
            .find(|decision| !decision.allowed);
        if let Some(decision) = refused {
            let hidden = tree.count_below(visit.node);
            self.scan.entries += hidden;
            // The root itself is judged on its own; it is no entry of the library.
            let own = u64::from(visit.depth > 0);
            return self.refuse(visit.part, visit.node, &decision, hidden + own);
        }
        if tree.listing(visit.node) != Listing::Complete {
            self.scan.unseen += 1;
            if self.scan.unseen_examples.len() < EXAMPLES {
                self.scan.unseen_examples.push(tree.path(visit.node));
            }
        }
        for child in tree.children(visit.node) {
            if !self.parts[visit.part].hidden.contains(&child) {
                self.entry(visit, child);
            }
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
            EntryKind::Symlink => self.symlink(visit, child),
            _ => {}
        }
    }

    /// Counts a readable file, if it is of the library's kind.
    fn media_file(&mut self, visit: &Visit, node: NodeId, name: &[u8]) {
        if visit.passed_over || name.starts_with(b".") || !is_media(self.kind, name) {
            return;
        }
        self.scan.files += 1;
        let title = match visit.title {
            Some(title) => title,
            // A loose file is a title of its own.
            None => {
                let place = self.parts[visit.part].view_path(node);
                self.title(place)
            }
        };
        self.title_files[title] += 1;
    }

    fn symlink(&mut self, visit: &Visit, link: NodeId) {
        let part = &self.parts[visit.part];
        let tree = part.objects.tree;
        let place = part.view_path(link);
        let found = follow(self.site, &self.top.view, &place, &self.top.subject);
        let Some((end, node)) = found.entry() else {
            self.scan.broken_links += 1;
            return;
        };
        let Some(seen) = self.site.tree(&end.seen_on).map(|tree| tree.meta(node)) else { return };
        if seen.is_folder() {
            self.open(&found, visit.title);
        } else if judge(self.site, &found, Need::Read).is_allowed() {
            self.media_file(visit, link, tree.name(link));
        }
    }

    fn refuse(&mut self, part: usize, node: NodeId, decision: &Decision, count: u64) {
        let part = &self.parts[part];
        let object = part.objects.of(node);
        let meta = object.meta;
        self.scan.unreadable += count;
        let key = (part.host, decision.by, meta.mode, meta.uid, meta.gid);
        let index = self.causes.iter().position(|(known, _)| *known == key).unwrap_or_else(|| {
            let owner = self.site.owner_text(part.host, &meta);
            let reason = format!(
                "{} on a {} of mode {:04o} {owner}",
                decision.entry(&object),
                meta.kind.word(),
                meta.mode
            );
            let host = part.host.clone();
            self.causes.push((key, Cause { host, reason, count: 0, examples: Vec::new() }));
            self.causes.len() - 1
        });
        let cause = &mut self.causes[index].1;
        cause.count += count;
        if cause.examples.len() < EXAMPLES {
            cause.examples.push(part.objects.tree.path(node));
        }
    }
}

fn depth_below(place: &AbsPath, root: &AbsPath) -> u32 {
    components(place.below(root).unwrap_or_default()).count() as u32
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tests::{Scene, route_of};

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
}
