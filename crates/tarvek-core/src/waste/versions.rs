//! One title in several files: which one to keep.
//!
//! Names bring files together, headers say which is better. Where anything leaves a doubt, nothing
//! is suggested but to look.

use std::cmp::Reverse;
use std::collections::{HashMap, HashSet};

use rayon::prelude::*;

use crate::facts::media::Media;
use crate::forecast::filed::{Filed, Shelf, is_extras};
use crate::forecast::key::key;
use crate::forecast::reading::{self, Reading, read_show, split_ending};
use crate::forecast::titles::{is_one, title_key};
use crate::scan::kinds::is_media;
use crate::waste::copies::{Rank, free_names, rank};
use crate::waste::group::{Group, Item, Suggest, Waste, hash};
use crate::waste::inventory::{FileId, Inventory, NameAt, Role};
use crate::words::path::components;
use crate::words::prefer::{Prefer, Preference};
use crate::words::terms::Kind;
use crate::words::text::bytes;

/// A title in several files.
#[derive(Clone, Debug, PartialEq)]
pub struct Title {
    /// `The Salt Orchard (2011)`, `Ferry Nine S01E02`.
    pub name: String,
    key: String,
    pub files: Vec<Version>,
    known: HashSet<FileId>,
}

/// One file of a title.
#[derive(Clone, Debug, PartialEq)]
pub struct Version {
    pub file: FileId,
    pub name: NameAt,
    /// What its own name says.
    own: Reading,
    filed: Filed,
}

/// Ends of names of what comes with a title and is no version of it.
const COMES_WITH: [&str; 5] = ["trailer", "teaser", "featurette", "sample", "interview"];

/// How much longer one of two equally long files may play, in milliseconds, and in parts of a
/// hundred.
const SAME_LENGTH: (u64, u64) = (30_000, 2);

/// Titles in several files, by their names.
///
/// Most titles have one file. So all names are read once for a hash of their title, and again only
/// those that share it with others.
pub fn titles(stock: &Inventory, taken: &HashSet<NameAt>) -> Vec<Title> {
    let folders: Vec<NameAt> =
        stock.folders.iter().copied().filter(|folder| has_titles(stock, *folder)).collect();
    let hashes = |folder: &NameAt| {
        let mut hashes = Vec::new();
        each_title(stock, *folder, taken, &|_| true, &mut |n, _, read| {
            hashes.resize(n, None);
            let host = u64::from(folder.host).to_le_bytes();
            hashes.push(Some(hash(&[&host, read.key.as_bytes()])));
        });
        hashes
    };
    // By folder, of each video in its order.
    let by_folder: Vec<Vec<Option<u64>>> = folders.par_iter().map(hashes).collect();
    let mut all: Vec<u64> = by_folder.iter().flatten().flatten().copied().collect();
    all.sort_unstable();
    let twice: HashSet<u64> =
        all.windows(2).filter(|pair| pair[0] == pair[1]).map(|pair| pair[0]).collect();
    drop(all);
    let mut titles: HashMap<String, Title> = HashMap::new();
    for (folder, hashes) in folders.iter().zip(&by_folder) {
        let shares = |n: usize| {
            hashes.get(n).is_some_and(|hash| hash.is_some_and(|hash| twice.contains(&hash)))
        };
        if !(0..hashes.len()).any(shares) {
            continue;
        }
        each_title(stock, *folder, taken, &shares, &mut |_, video, read| {
            let Some(file) = stock.file(video) else { return };
            let key = format!("{}/{}", stock.facts(video).name.raw(), read.key);
            let title = titles.entry(key.clone()).or_insert_with(|| Title {
                name: read.name,
                key,
                files: Vec::new(),
                known: HashSet::new(),
            });
            // Further names of a file are no further files.
            if title.known.insert(file) {
                let text = String::from_utf8_lossy(stock.name(video));
                let (stem, _) = split_ending(&text);
                let own =
                    if read.kind == Kind::Series { read_show(stem) } else { reading::read(stem) };
                title.files.push(Version { file, name: video, own, filed: read.filed });
            }
        });
    }
    let mut titles: Vec<Title> =
        titles.into_values().filter(|title| title.files.len() > 1).collect();
    titles.sort_by(|a, b| a.key.cmp(&b.key));
    titles
}

/// Whether a folder may hold versions of titles.
fn has_titles(stock: &Inventory, folder: NameAt) -> bool {
    let area = stock.area(folder);
    matches!(area.kind, None | Some(Kind::Films | Kind::Series)) && area.role != Role::Intake
}

/// Reads the videos of a folder whose names are titles: those that are wanted, by their number
/// among its videos.
fn each_title(
    stock: &Inventory,
    folder: NameAt,
    taken: &HashSet<NameAt>,
    wanted: &dyn Fn(usize) -> bool,
    each: &mut dyn FnMut(usize, NameAt, TitleRead),
) {
    let is_video = |name: &NameAt| {
        is_media(Kind::Films, stock.name(*name)) && stock.is_file(*name) && !taken.contains(name)
    };
    let videos: Vec<NameAt> = stock.children(folder).filter(is_video).collect();
    if videos.is_empty() {
        return;
    }
    let area = stock.area(folder);
    let path = stock.path(folder);
    let below = components(path.below(&area.place.path).unwrap_or_default());
    let folders: Vec<String> =
        below.map(|name| String::from_utf8_lossy(name).into_owned()).collect();
    let names: Vec<String> =
        videos.iter().map(|name| String::from_utf8_lossy(stock.name(*name)).into_owned()).collect();
    let mut reader = TitleReader::new(area.kind, &folders, &names);
    for (n, (video, name)) in videos.iter().zip(&names).enumerate() {
        if wanted(n)
            && let Some(read) = reader.read(name)
        {
            each(n, *video, read);
        }
    }
}

/// The title that a video is, by its name and the folders above it in its library; the same for all
/// versions of it. `names`: all videos of its folder.
pub fn title_at(
    kind: Option<Kind>,
    folders: &[String],
    names: &[String],
    name: &str,
) -> Option<String> {
    let names: Vec<String> =
        names.iter().filter(|name| is_media(Kind::Films, name.as_bytes())).cloned().collect();
    TitleReader::new(kind, folders, &names).read(name).map(|read| read.key)
}

/// Reads the titles of the videos of one folder.
struct TitleReader<'a> {
    /// Of the library.
    kind: Option<Kind>,
    folders: &'a [String],
    names: &'a [String],
    /// By kind, what the folders say, and whether a title there stands alone.
    shelves: HashMap<Kind, (Shelf, bool)>,
}

struct TitleRead {
    name: String,
    key: String,
    kind: Kind,
    filed: Filed,
}

impl<'a> TitleReader<'a> {
    fn new(kind: Option<Kind>, folders: &'a [String], names: &'a [String]) -> Self {
        Self { kind, folders, names, shelves: HashMap::new() }
    }

    /// What a video is, if its name says so.
    fn read(&mut self, name: &str) -> Option<TitleRead> {
        if self.folders.iter().any(|name| is_extras(name)) {
            return None;
        }
        let (stem, _) = split_ending(name);
        let kind = self.kind.unwrap_or_else(|| match read_show(stem).is_episode() {
            true => Kind::Series,
            false => Kind::Films,
        });
        let last = stem.rsplit(|c: char| !c.is_alphanumeric()).next().unwrap_or_default();
        if COMES_WITH.contains(&last.to_lowercase().as_str()) {
            return None;
        }
        let (shelf, alone) = self.shelves.entry(kind).or_insert_with(|| {
            let shelf = Shelf::new(kind, self.folders.to_vec());
            let alone = !shelf.asks_neighbours() || is_one(&shelf, self.names);
            (shelf, alone)
        });
        let filed = shelf.file(name, *alone).ok()?;
        // A title without a year says little; of episodes that is usual.
        if kind == Kind::Films && filed.year.is_none() && reading::read(stem).title.is_empty() {
            return None;
        }
        let episodes: String = filed.episodes.iter().map(|n| format!("E{n:02}")).collect();
        let episode = match (filed.season, filed.date) {
            (_, Some(date)) => format!(" {date}"),
            (Some(season), None) if !filed.episodes.is_empty() => {
                format!(" S{season:02}{episodes}")
            }
            _ => String::new(),
        };
        let key = format!("{kind:?}/{}{episode}", title_key(&filed));
        let year = filed.year.map(|year| format!(" ({year})")).unwrap_or_default();
        Some(TitleRead { name: format!("{}{year}{episode}", filed.title), key, kind, filed })
    }
}

/// The group of a title. `same`: which files have equal bytes, by any number; `media`: what a
/// header says.
pub(super) fn versions(
    stock: &Inventory,
    title: &Title,
    taken: &HashSet<NameAt>,
    same: &dyn Fn(FileId) -> Option<[u8; 32]>,
    media: &dyn Fn(FileId) -> Option<Media>,
) -> Option<Group> {
    let free = |version: &&Version| free_names(stock, version.file, taken).next().is_some();
    let mut files: Vec<(&Version, Option<Media>)> =
        title.files.iter().filter(free).map(|version| (version, media(version.file))).collect();
    if files.len() < 2 {
        return None;
    }
    // Without a library's wishes those of its own area.
    let prefer = files.iter().map(|(v, _)| &stock.area(v.name).prefer).find(|p| !p.0.is_empty());
    let prefer = prefer.cloned().unwrap_or_default();
    files.sort_by_cached_key(|(version, media)| {
        Reverse(worth(stock, version.file, media.as_ref(), &prefer))
    });
    let (best, best_media) = (files[0].0, files[0].1.clone());
    let mut items: Vec<Item> = Vec::new();
    let mut better = String::new();
    for (n, (version, media)) in files.iter().enumerate() {
        let equal = same(version.file).is_some() && same(version.file) == same(best.file);
        let (suggest, why) = match n {
            0 => (Suggest::Keep, String::new()),
            _ if equal => (Suggest::Drop, "the same bytes as the one that is kept".to_owned()),
            _ => match doubt((best, best_media.as_ref()), (version, media.as_ref())) {
                Some(why) => (Suggest::Look, why),
                None if stock.device(version.name) != stock.device(best.name) => (
                    Suggest::Look,
                    "it lies on another filesystem, and may be there for safety".to_owned(),
                ),
                None => {
                    let why =
                        reason(stock, best, version, best_media.as_ref(), media.as_ref(), &prefer);
                    if better.is_empty() {
                        better.clone_from(&why);
                    }
                    (Suggest::Drop, why)
                }
            },
        };
        items.extend(
            free_names(stock, version.file, taken)
                .map(|name| Item::new(name, suggest, why.clone())),
        );
    }
    let why = match better.is_empty() {
        true => format!("{} in {} files", title.name, files.len()),
        false => format!("{} in {} files; the one that is kept {better}", title.name, files.len()),
    };
    Some(Group::new(Waste::Version, &[title.key.as_bytes()], why, items))
}

/// How much a version is worth; the greatest stays.
type Worth = (bool, Vec<i64>, u64, u64, u64, Rank);

fn worth(stock: &Inventory, file: FileId, media: Option<&Media>, prefer: &Prefer) -> Worth {
    let size = stock.meta(file).size;
    let whole = media.is_some_and(|media| !media.cut);
    let picture =
        media.map_or(0, |m| u64::from(m.width.unwrap_or(0)) * u64::from(m.height.unwrap_or(0)));
    let rate = media.and_then(|media| media.bits_per_second(size)).unwrap_or(0);
    let wishes = prefer.0.iter().map(|wish| match wish {
        Preference::Codec(codec) => {
            i64::from(media.and_then(|media| media.video.as_deref()) == Some(codec.as_str()))
        }
        Preference::AtMost(lines) => i64::from(media.is_some_and(|m| lines_of(m) <= *lines)),
        Preference::Larger | Preference::Smaller => 0,
    });
    let (rate, size) =
        match prefer.0.iter().find(|w| matches!(w, Preference::Larger | Preference::Smaller)) {
            Some(Preference::Smaller) => (0, u64::MAX - size),
            Some(_) => (size, size),
            None => (rate, size),
        };
    (whole, wishes.collect(), picture, rate, size, rank(stock, file, false))
}

/// The lines that a picture counts as: a wide one has fewer than its format.
fn lines_of(media: &Media) -> u32 {
    let (width, height) = (media.width.unwrap_or(0), media.height.unwrap_or(0));
    height.max(width.saturating_mul(9) / 16)
}

/// Why one file can't be told to be a version of another that may go.
fn doubt(best: (&Version, Option<&Media>), other: (&Version, Option<&Media>)) -> Option<String> {
    let (Some(one), Some(two)) = (best.1, other.1) else {
        return Some("a header can't be read".to_owned());
    };
    let (best, other) = (best.0, other.0);
    for version in [best, other] {
        let own = &version.own;
        let disagrees = !own.title.is_empty() && key(&own.title) != key(&version.filed.title)
            || own.year.is_some() && version.filed.year.is_some() && own.year != version.filed.year;
        if disagrees {
            return Some("its name and its folder speak of two titles".to_owned());
        }
    }
    if best.filed.year != other.filed.year
        || best.filed.year.is_none() && best.filed.season.is_none() && best.filed.date.is_none()
    {
        return Some("no year says that both are one film".to_owned());
    }
    let edition = |version: &Version| version.own.edition.as_deref().map(key);
    if edition(best) != edition(other) {
        return Some("one is another edition".to_owned());
    }
    if best.own.part != other.own.part || best.own.part.is_some() {
        return Some("they are parts".to_owned());
    }
    if one.cut || two.cut {
        return Some("one of them ends too early".to_owned());
    }
    let (Some(a), Some(b)) = (one.millis, two.millis) else {
        return Some("a header does not say how long it plays".to_owned());
    };
    let (apart, most) = (a.abs_diff(b), a.max(b));
    if apart > SAME_LENGTH.0 || apart.saturating_mul(100) > most.saturating_mul(SAME_LENGTH.1) {
        return Some(format!("they play {} s and {} s", a / 1000, b / 1000));
    }
    if one.height.is_none() || two.height.is_none() {
        return Some("a header does not say how large the picture is".to_owned());
    }
    None
}

/// What is better in the one that is kept.
fn reason(
    stock: &Inventory,
    best: &Version,
    other: &Version,
    one: Option<&Media>,
    two: Option<&Media>,
    prefer: &Prefer,
) -> String {
    let (Some(one), Some(two)) = (one, two) else { return String::new() };
    let (a, b) = (stock.meta(best.file).size, stock.meta(other.file).size);
    for wish in &prefer.0 {
        match wish {
            Preference::Codec(codec)
                if one.video != two.video && one.video.as_ref() == Some(codec) =>
            {
                return format!("has the preferred codec {codec}");
            }
            Preference::AtMost(lines) if lines_of(one) <= *lines && lines_of(two) > *lines => {
                return format!("has at most {lines} lines, as is preferred");
            }
            _ => {}
        }
    }
    let picture = |media: &Media| (media.width.unwrap_or(0), media.height.unwrap_or(0));
    if picture(one) != picture(two) {
        let ((w, h), (v, g)) = (picture(one), picture(two));
        return format!("has the larger picture ({w}×{h} to {v}×{g})");
    }
    if prefer.0.contains(&Preference::Smaller) {
        return format!("is the smaller one, as is preferred ({} to {})", bytes(a), bytes(b));
    }
    match (one.bits_per_second(a), two.bits_per_second(b)) {
        (Some(x), Some(y)) if x > y && !prefer.0.contains(&Preference::Larger) => {
            format!("has the higher bit rate ({} to {} kbit/s)", x / 1000, y / 1000)
        }
        _ => format!("is the larger one ({} to {})", bytes(a), bytes(b)),
    }
}
