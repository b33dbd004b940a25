//! What is left over from something, and folders with nothing but that.

use std::cell::OnceCell;
use std::collections::{BTreeMap, HashMap, HashSet};

use crate::facts::tree::NodeId;
use crate::forecast::filed::season_of;
use crate::forecast::key::key;
use crate::forecast::reading::{Reading, read_show, split_ending};
use crate::kernel::entry::EntryKind;
use crate::scan::kinds::{is_media, is_subtitle, plays};
use crate::waste::group::{DEBRIS, Group, Item, Suggest, Waste};
use crate::waste::inventory::{Inventory, NameAt, Role};
use crate::waste::pattern::{Patterns, Sort};
use crate::words::terms::Kind;
use crate::words::text::counted;

/// What was written to within so many seconds may still be written to.
const FRESH: i64 = 86_400;

/// A whole is so many times larger than its sample.
const SAMPLE: u64 = 3;

/// Leftovers and hollow folders, and the names in them.
#[derive(Debug, Default)]
pub struct Leftovers {
    pub groups: Vec<Group>,
    /// What belongs to them; no other group has it.
    pub taken: HashSet<NameAt>,
}

/// Finds them in all places.
pub fn leftovers(stock: &Inventory, patterns: &Patterns) -> Leftovers {
    let mut finder = Finder::new(stock, patterns);
    finder.wholes();
    finder.hollows();
    finder.tell()
}

/// A folder, and what is in it by name alone.
struct Content {
    /// Files that are left over by their names.
    sorted: Vec<(NameAt, Sort)>,
    folders: Vec<usize>,
    /// Whether there is anything else.
    other: bool,
}

struct Finder<'a, 's> {
    stock: &'a Inventory<'s>,
    patterns: &'a Patterns,
    at: HashMap<(u16, NodeId), usize>,
    contents: Vec<Content>,
    /// What the folder at the top of all this is left over from, and that folder.
    whole: Vec<Option<(usize, Sort)>>,
    hollow: Vec<bool>,
    /// The size of the largest video of each folder, once somebody has asked.
    largest: Vec<OnceCell<u64>>,
    out: Leftovers,
}

impl<'a, 's> Finder<'a, 's> {
    fn new(stock: &'a Inventory<'s>, patterns: &'a Patterns) -> Self {
        let folders = &stock.folders;
        let at: HashMap<(u16, NodeId), usize> =
            folders.iter().enumerate().map(|(n, f)| ((f.host, f.node), n)).collect();
        let content = |folder: &NameAt| {
            let mut content = Content { sorted: Vec::new(), folders: Vec::new(), other: false };
            let photos = stock.area(*folder).kind == Some(Kind::Photos);
            for name in stock.children(*folder) {
                match stock.tree(name).kind(name.node) {
                    EntryKind::File => match patterns.sort(stock.name(name), false) {
                        Some(sort) if !(photos && sort == Sort::Sidecar) => {
                            content.sorted.push((name, sort));
                        }
                        _ => content.other = true,
                    },
                    EntryKind::Folder => match at.get(&(name.host, name.node)) {
                        Some(n) => content.folders.push(*n),
                        None => content.other = true,
                    },
                    _ => content.other = true,
                }
            }
            content
        };
        let contents: Vec<Content> = folders.iter().map(content).collect();
        let (whole, hollow) = (vec![None; contents.len()], vec![false; contents.len()]);
        let largest = vec![OnceCell::new(); contents.len()];
        Self { stock, patterns, at, contents, whole, hollow, largest, out: Leftovers::default() }
    }

    fn above(&self, n: usize) -> Option<usize> {
        let folder = self.stock.folders[n];
        let parent = self.stock.tree(folder).parent(folder.node);
        self.at.get(&(folder.host, parent)).copied().filter(|above| *above != n)
    }

    fn size(&self, name: NameAt) -> u64 {
        self.stock.tree(name).size(name.node)
    }

    /// The files in a folder.
    fn files_in(&self, n: usize) -> impl Iterator<Item = NameAt> + '_ {
        self.stock.children(self.stock.folders[n]).filter(|name| self.stock.is_file(*name))
    }

    fn largest_video(&self, n: usize) -> u64 {
        *self.largest[n].get_or_init(|| {
            let videos = self.files_in(n).filter(|name| {
                let bytes = self.stock.name(*name);
                is_media(Kind::Films, bytes)
                    && self.patterns.sort(bytes, false) != Some(Sort::Sample)
            });
            videos.map(|name| self.size(name)).max().unwrap_or(0)
        })
    }

    /// Folders that are leftovers with all that is in them.
    fn wholes(&mut self) {
        // Folders on which somebody relies, and those that hold one; what holds stands first.
        let mut named = vec![false; self.contents.len()];
        for n in (0..self.contents.len()).rev() {
            let below = self.contents[n].folders.iter().any(|below| named[*below]);
            named[n] = below || self.stock.is_named(self.stock.folders[n]);
        }
        for (n, is_named) in named.into_iter().enumerate() {
            let folder = self.stock.folders[n];
            if let Some(above) = self.above(n).and_then(|above| self.whole[above]) {
                self.whole[n] = Some(above);
                continue;
            }
            let sort = self.patterns.sort(self.stock.name(folder), true);
            let is_whole = |sort: &Sort| match sort {
                Sort::Sample => {
                    let largest = self.files_in(n).map(|name| self.size(name)).max();
                    let whole = self.above(n).map_or(0, |above| self.largest_video(above));
                    whole > 0 && whole >= largest.unwrap_or(0).saturating_mul(SAMPLE)
                }
                _ => true,
            };
            self.whole[n] = sort.filter(is_whole).filter(|_| !is_named).map(|sort| (n, sort));
        }
    }

    /// Folders with nothing but debris, the innermost first.
    fn hollows(&mut self) {
        for n in (0..self.contents.len()).rev() {
            let folder = self.stock.folders[n];
            let content = &self.contents[n];
            let debris = |sort: Sort| matches!(sort, Sort::Debris | Sort::Sidecar);
            let empty = content.sorted.iter().all(|(_, sort)| debris(*sort))
                && content.folders.iter().all(|below| {
                    self.hollow[*below] || matches!(self.whole[*below], Some((_, Sort::Debris)))
                });
            self.hollow[n] = empty
                && !content.other
                && self.whole[n].is_none()
                && self.stock.is_seen(folder)
                && !self.stock.stays(folder)
                && !self.is_fresh(folder);
        }
        // Sidecars in a folder of their own belong to what stands above it, unless that is hollow
        // as well.
        for n in 0..self.contents.len() {
            if !self.hollow[n] {
                continue;
            }
            let sidecars = self.contents[n].sorted.iter().any(|(_, sort)| *sort == Sort::Sidecar);
            let above = self.above(n);
            let folder = self.stock.folders[n];
            let name = String::from_utf8_lossy(self.stock.name(folder));
            let own = || {
                let top = above.is_none_or(|above| {
                    self.stock.folders[above].area != folder.area
                        || self.stock.stays(self.stock.folders[above])
                });
                let reading = read_show(&name);
                top || reading.year.is_some() || season_of(&name).is_some()
            };
            if sidecars && !above.is_some_and(|above| self.hollow[above]) && !own() {
                self.hollow[n] = false;
            }
        }
    }

    fn tell(mut self) -> Leftovers {
        let mut debris: BTreeMap<(u16, u16), Vec<Item>> = BTreeMap::new();
        for n in 0..self.contents.len() {
            let above = self.above(n);
            let folder = self.stock.folders[n];
            if self.hollow[n] {
                if !above.is_some_and(|above| self.hollow[above]) {
                    self.hollow_group(n);
                }
                continue;
            }
            match self.whole[n] {
                Some((top, sort)) if top == n => {
                    let inside = above.is_some_and(|above| self.hollow[above]);
                    if !inside {
                        self.whole_group(n, sort);
                    }
                }
                Some(_) => {}
                None => {
                    let sorted = std::mem::take(&mut self.contents[n].sorted);
                    if !sorted.is_empty() {
                        let loose = debris.entry((folder.host, folder.area)).or_default();
                        self.files(n, &sorted, loose);
                    }
                }
            }
        }
        for ((_, area), items) in debris {
            if !items.is_empty() {
                let area = &self.stock.areas[usize::from(area)];
                let key = [DEBRIS, area.place.host.raw().as_bytes(), area.place.path.as_bytes()];
                let why = Sort::Debris.words().to_owned();
                self.put(Waste::Leftover, &key, why, items);
            }
        }
        self.out
    }

    fn put(&mut self, kind: Waste, key: &[&[u8]], why: String, items: Vec<Item>) {
        self.out.taken.extend(items.iter().map(|item| item.name));
        self.out.groups.push(Group::new(kind, key, why, items));
    }

    /// All files below a folder, then the folders, the innermost first: so they can go one by one.
    fn below(&self, n: usize) -> Vec<NameAt> {
        let (mut files, mut folders, mut todo) = (Vec::new(), Vec::new(), vec![n]);
        while let Some(n) = todo.pop() {
            folders.push(self.stock.folders[n]);
            files.extend(self.files_in(n));
            todo.extend(&self.contents[n].folders);
        }
        files.extend(folders.into_iter().rev());
        files
    }

    fn group_of(&mut self, n: usize, kind: Waste, suggest: Suggest, why: String) {
        let place = self.stock.place(self.stock.folders[n]);
        let items =
            self.below(n).into_iter().map(|name| Item::new(name, suggest, String::new())).collect();
        self.put(kind, &[place.host.raw().as_bytes(), place.path.as_bytes()], why, items);
    }

    fn hollow_group(&mut self, n: usize) {
        let below = self.below(n);
        let files = below.iter().filter(|name| self.stock.is_file(**name)).count() as u64;
        let why = match (files, below.len() as u64 - files) {
            (0, 1) => "an empty folder".to_owned(),
            (0, folders) => format!("{} with nothing in them", counted(folders, "folder")),
            (files, 1) => format!("a folder with nothing but {} of debris", counted(files, "file")),
            (files, folders) => {
                format!(
                    "{} with nothing but {} of debris",
                    counted(folders, "folder"),
                    counted(files, "file")
                )
            }
        };
        self.group_of(n, Waste::Hollow, Suggest::Drop, why);
    }

    fn whole_group(&mut self, n: usize, sort: Sort) {
        let suggest = if sort == Sort::Converted { Suggest::Look } else { Suggest::Drop };
        self.group_of(n, Waste::Leftover, suggest, sort.words().to_owned());
    }

    /// Single files of a folder.
    fn files(&mut self, n: usize, sorted: &[(NameAt, Sort)], debris: &mut Vec<Item>) {
        let mut archives: BTreeMap<Vec<u8>, Vec<NameAt>> = BTreeMap::new();
        let neighbours = OnceCell::new();
        for (name, sort) in sorted {
            let bytes = self.stock.name(*name);
            let (suggest, why) = match sort {
                Sort::Debris => {
                    debris.push(Item::new(*name, Suggest::Drop, String::new()));
                    self.out.taken.insert(*name);
                    continue;
                }
                Sort::Archive => {
                    archives.entry(set_of(bytes)).or_default().push(*name);
                    continue;
                }
                Sort::Partial => match self.unfinished(*name) {
                    Some(why) => (Suggest::Look, why),
                    None => (Suggest::Drop, String::new()),
                },
                Sort::Sample => {
                    let whole = self.size(*name).saturating_mul(SAMPLE);
                    let above = self.above(n).map_or(0, |above| self.largest_video(above));
                    let largest = self.largest_video(n).max(above);
                    if !is_media(Kind::Films, bytes) || largest == 0 || largest < whole {
                        continue;
                    }
                    (Suggest::Drop, String::new())
                }
                Sort::Sidecar => match self.is_orphan(n, bytes, &neighbours) {
                    true if is_subtitle(bytes) => {
                        (Suggest::Look, "its film may have another name by now".to_owned())
                    }
                    true => (Suggest::Drop, String::new()),
                    false => continue,
                },
                Sort::Declared => (Suggest::Drop, String::new()),
                // In folders of that name only.
                Sort::Trash | Sort::Converted => continue,
            };
            let place = self.stock.place(*name);
            let key = [place.host.raw().as_bytes(), place.path.as_bytes()];
            self.put(
                Waste::Leftover,
                &key,
                sort.words().to_owned(),
                vec![Item::new(*name, suggest, why)],
            );
        }
        if archives.is_empty() {
            return;
        }
        let played = self.files_in(n).filter(|name| {
            let bytes = self.stock.name(*name);
            plays(bytes) && self.patterns.sort(bytes, false).is_none()
        });
        let played = played.fold((0, 0), |(largest, all): (u64, u64), name| {
            (largest.max(self.size(name)), all + self.size(name))
        });
        for volumes in archives.into_values() {
            self.archive(volumes, played);
        }
    }

    /// Why a partial download may go on.
    /// Whether it was written to, or a folder made, within a day; somebody may be about to use it.
    fn is_fresh(&self, name: NameAt) -> bool {
        let modified = self.stock.tree(name).meta(name.node).modified / 1_000_000_000;
        modified > 0 && self.stock.site.now - modified < FRESH
    }

    fn unfinished(&self, name: NameAt) -> Option<String> {
        if self.stock.area(name).role == Role::Intake {
            return Some("what fetches it may go on".to_owned());
        }
        self.is_fresh(name).then(|| "it was written to within a day".to_owned())
    }

    /// The volumes of one archive, if what they hold stands beside them by its size: the largest
    /// file there that plays, or all of them.
    fn archive(&mut self, volumes: Vec<NameAt>, (largest, all): (u64, u64)) {
        let packed: u64 = volumes.iter().map(|name| self.size(*name)).sum();
        let like = |size: u64| size > 0 && size >= packed / 10 * 9 && size / 3 <= packed;
        if !like(largest) && !like(all) {
            return;
        }
        let place = self.stock.place(volumes[0]);
        let key = [place.host.raw().as_bytes(), place.path.as_bytes()];
        let items = volumes
            .into_iter()
            .map(|name| Item::new(name, Suggest::Look, "nobody has compared its contents"))
            .collect();
        self.put(Waste::Leftover, &key, Sort::Archive.words().to_owned(), items);
    }

    /// Whether a sidecar names a title that none of its neighbours is.
    fn is_orphan(&self, n: usize, name: &[u8], neighbours: &OnceCell<Neighbours>) -> bool {
        let text = String::from_utf8_lossy(name);
        let (stem, _) = split_ending(&text);
        let neighbours = neighbours.get_or_init(|| {
            let media = self.files_in(n).map(|name| self.stock.name(name));
            Neighbours::new(media.filter(|name| is_any_media(name)))
        });
        // Most sidecars are called as their film is; nothing has to be read of those.
        if neighbours.stems.is_empty() || neighbours.have_name_of(stem) {
            return false;
        }
        let own = read_show(stem);
        (own.year.is_some() || own.is_episode()) && !neighbours.have_title_of(&own)
    }
}

/// The media of a folder, as sidecars name them.
struct Neighbours {
    /// Names without their endings, in order.
    stems: Vec<String>,
    /// What they are, once somebody has asked.
    readings: OnceCell<HashSet<TitleKey>>,
}

/// Title, season and episodes of a name.
type TitleKey = (String, Option<u16>, Vec<u16>);

fn title_key_of(reading: &Reading) -> TitleKey {
    (key(&reading.title), reading.season, reading.episodes.clone())
}

impl Neighbours {
    fn new<'n>(names: impl Iterator<Item = &'n [u8]>) -> Self {
        let stem = |name: &[u8]| split_ending(&String::from_utf8_lossy(name)).0.to_owned();
        let mut stems: Vec<String> = names.map(stem).collect();
        stems.sort_unstable();
        Self { stems, readings: OnceCell::new() }
    }

    /// Whether the name of one of them begins with that of a sidecar, or the other way round.
    fn have_name_of(&self, stem: &str) -> bool {
        let longer = self.stems.partition_point(|other| other.as_str() < stem);
        self.stems.get(longer).is_some_and(|other| other.starts_with(stem))
            || self.has_beginning_of(stem)
    }

    /// Whether one of them is the title that a sidecar names.
    fn have_title_of(&self, own: &Reading) -> bool {
        let read = || self.stems.iter().map(|stem| title_key_of(&read_show(stem))).collect();
        self.readings.get_or_init(read).contains(&title_key_of(own))
    }

    /// Whether a name begins with one of them. What stands last before a name has more in common
    /// with it than all before that.
    fn has_beginning_of(&self, name: &str) -> bool {
        let mut common = name.len();
        loop {
            let before =
                self.stems.partition_point(|other| other.as_bytes() <= &name.as_bytes()[..common]);
            let Some(last) = before.checked_sub(1).map(|n| self.stems[n].as_bytes()) else {
                return false;
            };
            if name.as_bytes().starts_with(last) {
                return true;
            }
            common = last.iter().zip(name.as_bytes()).take_while(|(a, b)| a == b).count();
            if common == 0 {
                return self.stems.first().is_some_and(String::is_empty);
            }
        }
    }
}

fn is_any_media(name: &[u8]) -> bool {
    plays(name) || is_media(Kind::Books, name)
}

/// What the volumes of one archive have in common: the name without its ending, and without the
/// number of a part.
fn set_of(name: &[u8]) -> Vec<u8> {
    let lower = name.to_ascii_lowercase();
    let dot = lower.iter().rposition(|b| *b == b'.').unwrap_or(lower.len());
    let stem = &lower[..dot];
    let part = stem.iter().rposition(|b| *b == b'.').filter(|at| {
        stem[at + 1..]
            .strip_prefix(b"part")
            .is_some_and(|n| !n.is_empty() && n.iter().all(u8::is_ascii_digit))
            || &stem[at + 1..] == b"tar"
    });
    stem[..part.unwrap_or(stem.len())].to_vec()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn beginnings_are_found_as_by_going_through_all() {
        let mut state = 7_u64;
        let mut next = |end: u64| {
            state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
            (state >> 33) % end
        };
        for _ in 0..2000 {
            let mut word = || -> String {
                (0..next(6)).map(|_| ["a", "b", "é", " "][next(4) as usize]).collect()
            };
            let names: Vec<String> = (0..5).map(|_| word()).collect();
            let name = word();
            let bytes: Vec<&[u8]> = names.iter().map(String::as_bytes).collect();
            let neighbours = Neighbours::new(bytes.into_iter());
            let found = neighbours.stems.iter().any(|stem| name.starts_with(stem.as_str()));
            assert_eq!(neighbours.has_beginning_of(&name), found, "{name:?} {names:?}");
        }
    }
}
