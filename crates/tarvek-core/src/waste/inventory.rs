//! What there is in the places that are looked at: every file once, however many names it has.

use std::collections::{HashMap, HashSet};
use std::sync::OnceLock;

use crate::facts::host::HostFacts;
use crate::facts::tree::{HELD, Listing, Lookup, NodeId, Tree};
use crate::kernel::entry::{EntryKind, Meta};
use crate::site::join::Site;
use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::place::Place;
use crate::words::prefer::Prefer;
use crate::words::terms::Kind;
use crate::words::word::words;

/// Where a check of a filesystem puts files whose names were lost (`e2fsck(8)`): not to be judged
/// by their names.
pub const LOST_AND_FOUND: &[u8] = b"lost+found";

/// Folders in which filesystems and their tools show snapshots: everything in them is there once
/// more, and takes nothing of its own.
const SNAPSHOTS: [&[u8]; 4] = [b".zfs", b".snapshots", b".snapshot", b"@snapshots"];

words! {
    /// What a place is for.
    pub enum Role {
        /// Somebody asks about it.
        Given = "folder",
        Library = "library",
        Intake = "intake",
    }
}

/// A place that is looked at.
#[derive(Clone, Debug, PartialEq)]
pub struct Area {
    pub place: Place,
    pub role: Role,
    /// Of the library or intake; of another place its path.
    pub name: Name,
    /// What a library holds.
    pub kind: Option<Kind>,
    pub prefer: Prefer,
}

/// One name of a file, or a folder.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct NameAt {
    /// Which host, by its place in [`Inventory::hosts`].
    pub host: u16,
    /// Which area, by its place in [`Inventory::areas`].
    pub area: u16,
    pub node: NodeId,
}

/// A file by its place in [`Inventory`].
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct FileId(pub u32);

/// Every file and folder of some places.
#[derive(Debug)]
pub struct Inventory<'s> {
    pub site: &'s Site,
    pub hosts: Vec<&'s HostFacts>,
    pub areas: Vec<Area>,
    /// Made when somebody first asks for files: where nothing is wasted nobody does.
    files: OnceLock<Files>,
    /// Folders, each before what it holds; the areas' own among them.
    pub folders: Vec<NameAt>,
    /// The tops of areas that lie in no other area, in their order.
    outermost: Vec<NameAt>,
    /// Where areas begin.
    area_at: HashMap<(u16, NodeId), u16>,
    /// Folders that the layout or the question names.
    tops: HashSet<(u16, NodeId)>,
    /// What could not be looked into.
    pub unreadable: u64,
}

/// The files of a stock, by their names.
#[derive(Debug)]
struct Files {
    /// Names of files, those of one file together; first come those of files with one name.
    names: Vec<NameAt>,
    /// How many files have one name.
    single: usize,
    /// Where the names of each other file begin in `names`; one more at the end.
    starts: Vec<u32>,
    /// By host and entry, the file that it is a name of; `NONE` of everything else.
    file_of: Vec<Vec<u32>>,
}

const NONE: u32 = u32::MAX;

impl<'s> Inventory<'s> {
    /// Everything below some areas. `named`: folders that stay, whatever is in them.
    pub fn new(site: &'s Site, areas: Vec<Area>, named: &[Place]) -> Self {
        let mut stock = Self {
            site,
            hosts: Vec::new(),
            areas,
            files: OnceLock::new(),
            folders: Vec::new(),
            outermost: Vec::new(),
            area_at: HashMap::new(),
            tops: HashSet::new(),
            unreadable: 0,
        };
        for n in 0..stock.areas.len() {
            let place = stock.areas[n].place.clone();
            if let Some(at) = stock.entry(&place) {
                // A library inside an intake, or the other way round: what names it first has it.
                stock.area_at.entry(at).or_insert(n as u16);
            }
        }
        stock.tops = named.iter().filter_map(|place| stock.entry(place)).collect();
        stock.tops.extend(stock.area_at.keys().copied());
        let outermost =
            stock.area_at.iter().map(|(&(host, node), &area)| NameAt { host, area, node });
        let outermost = outermost.filter(|top| {
            let tree = stock.tree(*top);
            let above = std::iter::successors(Some(tree.parent(top.node)), |node| {
                (*node != Tree::ROOT).then(|| tree.parent(*node))
            });
            let inside = |up| stock.area_at.contains_key(&(top.host, up));
            top.node == Tree::ROOT || !above.into_iter().any(inside)
        });
        let mut outermost: Vec<NameAt> = outermost.collect();
        outermost.sort_by_key(|top| (top.host, top.node));
        stock.outermost = outermost;
        let mut folders = Vec::new();
        stock.walk(&mut |name, is_folder| folders.extend(is_folder.then_some(name)));
        stock.folders = folders;
        for (n, facts) in stock.hosts.iter().enumerate() {
            let within = |path: &AbsPath| {
                stock.areas.iter().any(|area| {
                    path.within(&area.place.path)
                        && stock.hosts[n].name == *stock.name_of_host(&area.place.host)
                })
            };
            stock.unreadable += facts.gaps.iter().filter(|gap| within(&gap.path)).count() as u64;
        }
        stock
    }

    /// The name under which facts know a host.
    fn name_of_host<'a>(&'a self, host: &'a Name) -> &'a Name {
        self.site.facts(host).map_or(host, |facts| &facts.name)
    }

    fn entry(&mut self, place: &Place) -> Option<(u16, NodeId)> {
        let facts = self.site.facts(&place.host)?;
        let Lookup::Found(node) = facts.tree.find(&place.path) else { return None };
        let known = self.hosts.iter().position(|host| host.name == facts.name);
        let host = known.unwrap_or_else(|| {
            self.hosts.push(facts);
            self.hosts.len() - 1
        });
        Some((host as u16, node))
    }

    /// Every folder and file once, each folder before what it holds, and whether it is one.
    fn walk(&self, each: &mut dyn FnMut(NameAt, bool)) {
        // What is bound to a second place is there once, also where the places lie in different
        // areas.
        let mut seen = HashSet::new();
        for top in &self.outermost {
            let tree = self.tree(*top);
            let mut todo = vec![*top];
            while let Some(NameAt { host, area, node }) = todo.pop() {
                let area = self.area_at.get(&(host, node)).copied().unwrap_or(area);
                let name = NameAt { host, area, node };
                match tree.kind(node) {
                    EntryKind::Folder => {
                        let meta = tree.meta(node);
                        let id = meta.device.zip(meta.inode).map(|id| (host, id));
                        let name_of = tree.name(node);
                        let left_out = name_of == HELD.as_bytes()
                            || name_of == LOST_AND_FOUND
                            || SNAPSHOTS.contains(&name_of);
                        if left_out && node != top.node || id.is_some_and(|id| !seen.insert(id)) {
                            continue;
                        }
                        each(name, true);
                        todo.extend(tree.children(node).map(|node| NameAt { node, ..name }).rev());
                    }
                    EntryKind::File => each(name, false),
                    _ => {}
                }
            }
        }
    }

    /// All files, by their names.
    fn by_name(&self) -> &Files {
        self.files.get_or_init(|| {
            let mut names = Vec::new();
            self.walk(&mut |name, is_folder| names.extend((!is_folder).then_some(name)));
            self.keep(names)
        })
    }

    /// Puts names of one file together.
    fn keep(&self, mut names: Vec<NameAt>) -> Files {
        let mut several: Vec<((u16, u64, u64), NameAt)> = Vec::new();
        let bound = self.bound_files();
        // Most files have one name, and are by themselves: they stay where they stand, since there
        // may be millions of them.
        names.retain(|name| {
            let tree = self.tree(*name);
            let is_linked = tree.links(name.node) > 1;
            if !is_linked && bound.is_empty() {
                return true;
            }
            let meta = tree.meta(name.node);
            let id = meta.device.zip(meta.inode);
            let shared = id.filter(|id| is_linked || bound.contains(&(name.host, *id)));
            several.extend(shared.map(|(device, inode)| ((name.host, device, inode), *name)));
            shared.is_none()
        });
        let single = names.len();
        let mut starts = Vec::new();
        several.sort_unstable();
        let mut before = None;
        for (key, name) in several {
            if before != Some(key) {
                starts.push(names.len() as u32);
                before = Some(key);
            }
            names.push(name);
        }
        starts.push(names.len() as u32);
        let file_of = self.hosts.iter().map(|facts| vec![NONE; facts.tree.len()]).collect();
        let mut files = Files { names, single, starts, file_of };
        for file in 0..files.len() {
            for name in files.range(file) {
                let NameAt { host, node, .. } = files.names[name];
                files.file_of[usize::from(host)][node.0 as usize] = file as u32;
            }
        }
        files
    }

    /// Files that are mounted somewhere, by host, device and inode: they show at more places than
    /// they have names.
    fn bound_files(&self) -> HashSet<(u16, (u64, u64))> {
        let mut bound = HashSet::new();
        for (host, facts) in self.hosts.iter().enumerate() {
            for mount in facts.mounts.iter().flat_map(|table| table.entries()) {
                if let Lookup::Found(node) = facts.tree.find(&mount.point)
                    && facts.tree.kind(node) == EntryKind::File
                {
                    let meta = facts.tree.meta(node);
                    bound.extend(meta.device.zip(meta.inode).map(|id| (host as u16, id)));
                }
            }
        }
        bound
    }

    /// How many files there are.
    pub fn len(&self) -> usize {
        self.by_name().len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Every file.
    pub fn files(&self) -> impl Iterator<Item = FileId> + use<> {
        (0..self.len() as u32).map(FileId)
    }

    /// The names of a file that were seen.
    pub fn names(&self, file: FileId) -> &[NameAt] {
        let files = self.by_name();
        &files.names[files.range(file.0 as usize)]
    }

    /// The file that an entry is a name of.
    pub fn file(&self, name: NameAt) -> Option<FileId> {
        let file_of = self.by_name().file_of.get(usize::from(name.host))?;
        let file = *file_of.get(name.node.0 as usize)?;
        (file != NONE).then_some(FileId(file))
    }

    /// Whether an entry of one of the folders is a file.
    pub fn is_file(&self, name: NameAt) -> bool {
        self.tree(name).kind(name.node) == EntryKind::File
    }

    /// What `stat(2)` said of a file.
    pub fn meta(&self, file: FileId) -> Meta {
        let first = self.names(file)[0];
        self.tree(first).meta(first.node)
    }

    /// How many bytes a file has.
    pub fn size(&self, file: FileId) -> u64 {
        let first = self.names(file)[0];
        self.tree(first).size(first.node)
    }

    /// The tree that a name is in.
    pub fn tree(&self, name: NameAt) -> &'s Tree {
        &self.hosts[usize::from(name.host)].tree
    }

    /// What is known of the host of a name.
    pub fn facts(&self, name: NameAt) -> &'s HostFacts {
        self.hosts[usize::from(name.host)]
    }

    /// The area that a name is in.
    pub fn area(&self, name: NameAt) -> &Area {
        &self.areas[usize::from(name.area)]
    }

    /// The last component of a name.
    pub fn name(&self, name: NameAt) -> &'s [u8] {
        self.tree(name).name(name.node)
    }

    /// Where a name is, as its host sees it.
    pub fn path(&self, name: NameAt) -> AbsPath {
        self.tree(name).path(name.node)
    }

    /// Where a name is, and on which host.
    pub fn place(&self, name: NameAt) -> Place {
        Place::new(&self.facts(name).name, self.path(name))
    }

    /// The device that a name lies on; listings may lack numbers, then the mount tells filesystems
    /// apart.
    pub fn device(&self, name: NameAt) -> Option<u64> {
        let mount = || {
            let table = self.facts(name).mounts.as_ref()?;
            let (major, minor) = table.at(&self.path(name))?.device;
            Some(u64::from(major) << 32 | u64::from(minor))
        };
        self.tree(name).meta(name.node).device.or_else(mount)
    }

    /// Whether a folder stays whatever is in it: one that is named, or lies in an intake.
    pub fn stays(&self, folder: NameAt) -> bool {
        self.is_named(folder) || self.area(folder).role == Role::Intake
    }

    /// Whether somebody relies on a folder: the top of an area, what the layout names, or a mount
    /// point.
    pub fn is_named(&self, folder: NameAt) -> bool {
        let tree = self.tree(folder);
        let device = |node| tree.meta(node).device;
        self.tops.contains(&(folder.host, folder.node))
            || device(folder.node) != device(tree.parent(folder.node))
    }

    /// Whether all names in a folder were seen.
    pub fn is_seen(&self, folder: NameAt) -> bool {
        self.tree(folder).listing(folder.node) == Listing::Complete
    }

    /// The entries of a folder that belong to the same area or to one inside it.
    pub fn children(&self, folder: NameAt) -> impl Iterator<Item = NameAt> + use<'_, 's> {
        self.tree(folder).children(folder.node).map(move |node| NameAt { node, ..folder })
    }
}

impl Files {
    fn len(&self) -> usize {
        self.single + self.starts.len() - 1
    }

    /// Where the names of a file stand.
    fn range(&self, file: usize) -> std::ops::Range<usize> {
        match file.checked_sub(self.single) {
            None => file..file + 1,
            Some(n) => self.starts[n] as usize..self.starts[n + 1] as usize,
        }
    }
}
