//! What a scan of a library would find, of what can be read of it.

use std::borrow::Cow;
use std::collections::hash_map::Entry;
use std::collections::{BTreeMap, HashMap};

use rayon::prelude::*;

use super::filed::{Filed, Shelf, Unread};
use super::key::key;
use super::numbers::Date;
use super::reading::{language, may_have_year, read, read_episode, split_ending};
use crate::facts::tree::{NodeId, Tree};
use crate::kernel::entry::EntryKind;
use crate::scan::read::{Media, Region, Scan};
use crate::site::join::Site;
use crate::words::path::{AbsPath, components};
use crate::words::place::Place;
use crate::words::terms::Kind;

/// How many examples are kept where not everything is asked for.
const EXAMPLES: usize = 3;

/// How much of a forecast is wanted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Detail {
    /// Figures, and a few examples of each sort of problem.
    Figures,
    /// Every title and every problem.
    Everything,
}

/// A media file of a library.
#[derive(Clone, Debug, PartialEq)]
pub struct File {
    /// On the host that holds it.
    pub place: Place,
    /// In the view of the service.
    pub view: AbsPath,
    pub node: NodeId,
    /// Its size.
    pub bytes: u64,
}

/// One title, or one episode, with the files that hold it.
#[derive(Clone, Debug, PartialEq)]
pub struct Found {
    pub title: String,
    /// Of music the artist, of a book the author.
    pub by: Option<String>,
    pub year: Option<u16>,
    pub season: Option<u16>,
    pub episodes: Vec<u16>,
    pub date: Option<Date>,
    /// The languages of the subtitles beside its files, as their names say them (RFC 5646); `und`
    /// where they do not.
    pub subtitles: Vec<String>,
    pub files: Vec<File>,
}

/// What is missed or misread, in the order in which it is told.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Fault {
    /// Nothing can be read from the name.
    Unrecognised,
    /// A title lies loose in the root.
    Loose,
    /// An episode among films, or a film among episodes.
    OtherKind,
    /// The folder of a season and the name of a file speak of two seasons.
    OtherSeason,
}

/// A file with a fault.
#[derive(Clone, Debug, PartialEq)]
pub struct Problem {
    pub fault: Fault,
    pub file: File,
    /// What it is read as, or why it is not.
    pub filed: Result<Filed, Unread>,
}

impl Problem {
    /// What is wrong with it in a library of a kind, in words.
    pub fn why(&self, kind: Kind) -> String {
        match self.fault {
            Fault::Unrecognised => {
                self.filed.as_ref().err().map_or("", |why| why.words()).to_owned()
            }
            Fault::Loose => "it lies loose in the root".to_owned(),
            Fault::OtherKind if kind == Kind::Series => {
                "it is named as a film is, among episodes".to_owned()
            }
            Fault::OtherKind => {
                "it is named as an episode is, and would be taken for a film".to_owned()
            }
            Fault::OtherSeason => {
                let season = self.filed.as_ref().ok().and_then(|filed| filed.season);
                format!("its name says season {}, its folder another", season.unwrap_or_default())
            }
        }
    }
}

/// A title that stands in two folders.
#[derive(Clone, Debug, PartialEq)]
pub struct Twice {
    pub title: String,
    /// Both folders in the view.
    pub folders: [AbsPath; 2],
}

/// What there is of one sort of problem.
#[derive(Clone, Debug, PartialEq)]
pub struct Several<T> {
    pub count: u64,
    /// The first few, or all if everything is asked for.
    pub told: Vec<T>,
}

impl<T> Default for Several<T> {
    fn default() -> Self {
        Self { count: 0, told: Vec::new() }
    }
}

/// What a scan would find.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Forecast {
    /// Films, shows, albums, works; of photos and home videos the files.
    pub titles: u64,
    /// Media files that can be read.
    pub files: u64,
    /// Their sizes together.
    pub bytes: u64,
    /// Of the files, those that give no title or no episode.
    pub unrecognised: u64,
    /// Entries that can't be read, whatever they are.
    pub unreadable: u64,
    /// What a scan passes over.
    pub ignored: u64,
    /// Places that nobody has looked into.
    pub unseen: u64,
    /// Each sort of problem by itself.
    pub problems: BTreeMap<Fault, Several<Problem>>,
    /// Titles in two folders.
    pub twice: Several<Twice>,
    /// Every title, by title, year, season and episode; empty unless everything is asked for.
    pub found: Vec<Found>,
}

impl Forecast {
    /// What there is of a sort of problem.
    pub fn of(&self, fault: Fault) -> Option<&Several<Problem>> {
        self.problems.get(&fault)
    }
}

/// What scans of the roots of one library come to.
pub fn forecast<'s>(
    site: &Site,
    kind: Kind,
    scans: impl IntoIterator<Item = (&'s AbsPath, &'s Scan)>,
    detail: Detail,
) -> Forecast {
    let mut reader = Reader {
        kind,
        detail,
        out: Forecast::default(),
        titles: HashMap::new(),
        found: HashMap::new(),
    };
    for (root, scan) in scans {
        reader.out.unreadable += scan.unreadable;
        reader.out.ignored += scan.ignored;
        reader.out.unseen += scan.unseen;
        // By the folder that they lie in.
        let mut subtitles: HashMap<(u32, NodeId), Vec<NodeId>> = HashMap::new();
        let tree = |region: &Region| site.facts(&region.host).map(|facts| &facts.tree);
        for one in scan.subtitles.iter().filter(|_| detail == Detail::Everything) {
            if let Some(tree) = tree(&scan.regions[one.region as usize]) {
                subtitles.entry((one.region, tree.parent(one.node))).or_default().push(one.node);
            }
        }
        // In the order of their names: that of the tree.
        subtitles.values_mut().for_each(|nodes| nodes.sort_unstable());
        let mut rest = scan.media.as_slice();
        while !rest.is_empty() {
            let mut folders: Vec<Folder> = Vec::new();
            let mut count = 0;
            while let Some(first) = rest.first().filter(|_| count < BATCH) {
                let region = &scan.regions[first.region as usize];
                let Some(tree) = tree(region) else {
                    rest = &[];
                    break;
                };
                let parent = tree.parent(first.node);
                let same = |media: &&Media| {
                    media.region == first.region && tree.parent(media.node) == parent
                };
                let (media, behind) = rest.split_at(rest.iter().take_while(same).count());
                let beside = subtitles.get(&(first.region, parent)).map(Vec::as_slice);
                let subtitles = beside.unwrap_or_default();
                folders.push(Folder { region, tree, media, subtitles });
                count += media.len();
                rest = behind;
            }
            // Each name by itself takes longest, and needs nobody else.
            let read: Vec<ReadFolder> =
                folders.par_iter().map(|folder| folder.read(kind, root)).collect();
            for (folder, read) in folders.iter().zip(read) {
                reader.folder(root, folder, read);
            }
        }
    }
    reader.finish()
}

/// About how many files are read together.
const BATCH: usize = 8192;

/// The media files of one folder.
struct Folder<'s> {
    region: &'s Region,
    tree: &'s Tree,
    media: &'s [Media],
    subtitles: &'s [NodeId],
}

/// What the names of a folder's files say.
struct ReadFolder<'s> {
    shelf: Shelf,
    files: Vec<ReadFile<'s>>,
}

struct ReadFile<'s> {
    name: Cow<'s, str>,
    filed: Result<Filed, Unread>,
    /// Whether it is what the library does not hold: a film among episodes, or the other way round.
    is_other: bool,
}

impl<'s> Folder<'s> {
    fn read(&self, kind: Kind, root: &AbsPath) -> ReadFolder<'s> {
        let Self { region, tree, media, .. } = self;
        let name = |media: &Media| String::from_utf8_lossy(name_of(region, tree, media.node));
        let names: Vec<Cow<str>> = media.iter().map(name).collect();
        let first = view_of(region, tree, media[0].node);
        let folder = first.parent().unwrap_or_else(AbsPath::root);
        let below = components(folder.below(root).unwrap_or_default());
        let folders = below.map(|name| String::from_utf8_lossy(name).into_owned()).collect();
        let shelf = Shelf::new(kind, folders);
        let alone = !shelf.asks_neighbours() || is_one(&shelf, &names);
        let file = |name: Cow<'s, str>| {
            let filed = shelf.file(&name, alone);
            let is_other = match (kind, &filed) {
                (Kind::Films, Ok(_)) => is_episode(&name),
                (Kind::Series, Err(_)) => is_film(&name),
                _ => false,
            };
            ReadFile { name, filed, is_other }
        };
        let files = names.into_iter().map(file).collect();
        ReadFolder { shelf, files }
    }
}

/// What makes two entries the same.
type Same = (String, Option<u16>, Vec<u16>, Option<Date>);

struct Reader {
    kind: Kind,
    detail: Detail,
    out: Forecast,
    /// The folder that each title was first met in, and whether it was met in another one.
    titles: HashMap<String, (AbsPath, bool)>,
    /// Where each entry of `out.found` is.
    found: HashMap<Same, usize>,
}

impl Reader {
    /// The media files of one folder.
    fn folder(&mut self, root: &AbsPath, folder: &Folder, read: ReadFolder) {
        let Folder { region, tree, media, subtitles } = folder;
        let ReadFolder { shelf, files } = read;
        let loose = shelf.depth() == 0 && !matches!(self.kind, Kind::Photos | Kind::HomeVideo);
        let mut last: Option<Filed> = None;
        for (media, ReadFile { name, filed, is_other }) in media.iter().zip(files) {
            let meta = tree.meta(media.node);
            let bytes = if meta.kind == EntryKind::File { meta.size } else { 0 };
            self.out.files += 1;
            self.out.bytes += bytes;
            let file = || {
                let place = Place::new(&region.host, tree.path(media.node));
                File { place, view: view_of(region, tree, media.node), node: media.node, bytes }
            };
            let filed = match filed {
                Ok(filed) => filed,
                Err(why) => {
                    if loose && self.kind == Kind::Music {
                        self.problem(Fault::Loose, file, Err(why));
                    }
                    self.out.unrecognised += 1;
                    self.problem(Fault::Unrecognised, file, Err(why));
                    if is_other {
                        self.problem(Fault::OtherKind, file, Err(why));
                    }
                    continue;
                }
            };
            if loose {
                self.problem(Fault::Loose, file, Ok(&filed));
            }
            if is_other {
                self.problem(Fault::OtherKind, file, Ok(&filed));
            }
            let season = shelf.season().zip(filed.season).filter(|(folder, own)| folder != own);
            if season.is_some_and(|(folder, own)| folder != 0 && own != 0) {
                self.problem(Fault::OtherSeason, file, Ok(&filed));
            }
            self.title(root, &shelf, &filed, &mut last);
            if self.detail == Detail::Everything {
                // Names of subtitles are in their order, and those of one file stand together.
                let stem = split_ending(&name).0.as_bytes();
                let first = subtitles.partition_point(|node| tree.name(*node) < stem);
                let beside = subtitles[first..].iter().map(|node| tree.name(*node));
                let beside = beside.take_while(|other| other.starts_with(stem));
                self.find(&filed, file(), beside.filter_map(|other| of_subtitle(other, &name)));
            }
        }
    }

    /// Counts the title of a file.
    fn title(&mut self, root: &AbsPath, shelf: &Shelf, filed: &Filed, last: &mut Option<Filed>) {
        if matches!(self.kind, Kind::Photos | Kind::HomeVideo) {
            self.out.titles += 1;
            return;
        }
        // The files of a folder mostly are of one title.
        if last.as_ref().is_some_and(|last| {
            last.named_by == filed.named_by
                && (&last.title, &last.by, last.year) == (&filed.title, &filed.by, filed.year)
        }) {
            return;
        }
        let key = title_key(filed);
        let again = last
            .as_ref()
            .is_some_and(|last| last.named_by == filed.named_by && title_key(last) == key);
        *last = Some(filed.clone());
        if again {
            return;
        }
        let depth = if filed.named_by == 0 { shelf.depth() } else { filed.named_by };
        let names = shelf.folders(depth).iter();
        let folder = names.fold(root.clone(), |path, name| path.child(name.as_bytes()));
        match self.titles.entry(key) {
            Entry::Vacant(vacant) => {
                vacant.insert((folder, false));
                self.out.titles += 1;
            }
            Entry::Occupied(mut known) => {
                let (first, told) = known.get_mut();
                if *first != folder && !*told {
                    *told = true;
                    let twice =
                        Twice { title: filed.title.clone(), folders: [first.clone(), folder] };
                    note(&mut self.out.twice, self.detail, || twice);
                }
            }
        }
    }

    /// Puts a file to its title or episode.
    fn find(&mut self, filed: &Filed, file: File, subtitles: impl Iterator<Item = String>) {
        let own = matches!(self.kind, Kind::Photos | Kind::HomeVideo);
        let title = if own { file.view.to_string() } else { title_key(filed) };
        let key = (title, filed.season, filed.episodes.clone(), filed.date);
        let next = self.out.found.len();
        let at = *self.found.entry(key).or_insert(next);
        if at == next {
            self.out.found.push(Found {
                title: filed.title.clone(),
                by: filed.by.clone(),
                year: filed.year,
                season: filed.season,
                episodes: filed.episodes.clone(),
                date: filed.date,
                subtitles: Vec::new(),
                files: Vec::new(),
            });
        }
        let found = &mut self.out.found[at];
        found.files.push(file);
        for language in subtitles {
            if !found.subtitles.contains(&language) {
                found.subtitles.push(language);
            }
        }
    }

    fn problem(&mut self, fault: Fault, file: impl Fn() -> File, filed: Result<&Filed, Unread>) {
        let sort = self.out.problems.entry(fault).or_default();
        note(sort, self.detail, || Problem { fault, file: file(), filed: filed.cloned() });
    }

    fn finish(mut self) -> Forecast {
        self.out.found.sort_by_cached_key(|found| {
            let by = found.by.as_deref().map(key);
            (by, key(&found.title), found.year, found.season, found.date, found.episodes.clone())
        });
        for found in &mut self.out.found {
            found.files.sort_by(|a, b| a.view.as_bytes().cmp(b.view.as_bytes()));
        }
        self.out
    }
}

/// The language of subtitles, if they belong to a file: their name is its name, with more behind a
/// dot.
fn of_subtitle(subtitles: &[u8], file: &str) -> Option<String> {
    let name = std::str::from_utf8(subtitles).ok()?;
    let (stem, _) = split_ending(name);
    let rest = stem.strip_prefix(split_ending(file).0)?;
    let own = rest.is_empty() || rest.starts_with('.');
    own.then(|| language(stem).filter(|_| !rest.is_empty()).unwrap_or_else(|| "und".to_owned()))
}

fn note<T>(sort: &mut Several<T>, detail: Detail, what: impl FnOnce() -> T) {
    sort.count += 1;
    if detail == Detail::Everything || sort.told.len() < EXAMPLES {
        sort.told.push(what());
    }
}

pub(crate) fn title_key(filed: &Filed) -> String {
    let mut whole = key(&filed.title);
    if let Some(by) = &filed.by {
        whole.push('/');
        whole += &key(by);
    }
    if let Some(year) = filed.year {
        whole += &format!(" {year}");
    }
    whole
}

/// Whether the files of a folder are one title: there is but one, or one of them is called as the
/// folder is.
pub(crate) fn is_one(shelf: &Shelf, names: &[impl AsRef<str>]) -> bool {
    if names.iter().any(|name| shelf.agrees(name.as_ref())) {
        return true;
    }
    let mut titles = names.iter().map(|name| key(&read(split_ending(name.as_ref()).0).title));
    let first = titles.next();
    titles.all(|title| Some(title) == first)
}

fn is_episode(name: &str) -> bool {
    let reading = read_episode(split_ending(name).0);
    reading.season.is_some() && !reading.episodes.is_empty()
}

fn is_film(name: &str) -> bool {
    let (stem, _) = split_ending(name);
    if !may_have_year(stem) {
        return false;
    }
    let reading = read(stem);
    !reading.title.is_empty() && reading.year.is_some()
}

fn name_of<'t>(region: &'t Region, tree: &'t Tree, node: NodeId) -> &'t [u8] {
    // What is mapped by itself goes by the name that it has in the view.
    let is_base = region.base.name() == Some(tree.name(node)) && tree.path(node) == region.base;
    match is_base {
        true => region.place.name().unwrap_or_default(),
        false => tree.name(node),
    }
}

fn view_of(region: &Region, tree: &Tree, node: NodeId) -> AbsPath {
    let path = tree.path(node);
    region.place.join(path.below(&region.base).unwrap_or_default())
}
