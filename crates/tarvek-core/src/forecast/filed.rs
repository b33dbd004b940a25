//! What a file is by its name and the folders that it lies in.

use super::key::key;
use super::numbers::{Date, bare_year, digits, number, plain_episode, said_episode};
use super::reading::{Reading, episode_in, read, read_show, show_in, split_ending};
use super::tags::{EXTRAS, SEASONS, SPECIALS};
use super::tokens::Tokens;
use crate::words::terms::Kind;

/// What a file is read as.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Filed {
    /// Of the film, show, album or work; of a photo or home video its own.
    pub title: String,
    /// Of music the artist, of a book the author.
    pub by: Option<String>,
    pub year: Option<u16>,
    pub season: Option<u16>,
    pub episodes: Vec<u16>,
    pub date: Option<Date>,
    /// How many folders below the root the one stands that gives the title; 0 where the file's own
    /// name does.
    pub named_by: usize,
}

/// Why a name gives nothing.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Unread {
    NoTitle,
    NoEpisode,
}

impl Unread {
    /// In words.
    pub fn words(self) -> &'static str {
        match self {
            Self::NoTitle => "no title can be read from it",
            Self::NoEpisode => "no episode can be read from it",
        }
    }
}

/// A folder with media of a library, and what its path says; read once for all files in it.
#[derive(Clone, Debug)]
pub struct Shelf {
    kind: Kind,
    /// Names of the folders from the root down.
    folders: Vec<String>,
    /// What they say, where it matters for all files alike.
    context: Context,
}

#[derive(Clone, Debug)]
enum Context {
    Film(Option<(usize, Reading)>),
    Show { show: Option<(usize, Reading)>, season: Option<u16> },
    Album(Option<(usize, Album)>),
    Other,
}

#[derive(Clone, Debug, Default)]
struct Album {
    title: String,
    year: Option<u16>,
    artist: Option<String>,
}

impl Shelf {
    /// The folders from the root of a library to that of some files.
    pub fn new(kind: Kind, folders: Vec<String>) -> Self {
        let context = match kind {
            Kind::Films => Context::Film(film_folder(&folders)),
            Kind::Series => show_folder(&folders),
            Kind::Music => Context::Album(album_folder(&folders)),
            Kind::Photos | Kind::HomeVideo | Kind::Books => Context::Other,
        };
        Self { kind, folders, context }
    }

    /// How many folders lie between the root and its files.
    pub fn depth(&self) -> usize {
        self.folders.len()
    }

    /// The folders of it, down to one of them.
    pub fn folders(&self, count: usize) -> &[String] {
        &self.folders[..count.min(self.folders.len())]
    }

    /// The season that its folders say, of a series.
    pub fn season(&self) -> Option<u16> {
        match self.context {
            Context::Show { season, .. } => season,
            _ => None,
        }
    }

    /// What a file in it is; `alone` says that no other title lies in the same folder.
    ///
    /// # Errors
    /// Why its name and folders say nothing.
    pub fn file(&self, name: &str, alone: bool) -> Result<Filed, Unread> {
        let (stem, ending) = split_ending(name);
        match &self.context {
            Context::Film(folder) => film(folder.as_ref(), stem, alone),
            Context::Show { show, season } => self.episode(show.as_ref(), *season, stem),
            Context::Album(album) => track(album.as_ref(), stem),
            Context::Other if self.kind == Kind::Books => self.book(stem, ending, alone),
            Context::Other => Ok(Filed { title: stem.to_owned(), ..Filed::default() }),
        }
    }

    /// Whether what a file is depends on its neighbours.
    pub fn asks_neighbours(&self) -> bool {
        match &self.context {
            Context::Film(Some((_, folder))) => folder.year.is_none() || folder.years,
            Context::Other => self.kind == Kind::Books && self.folders.len() > 1,
            _ => false,
        }
    }

    /// Whether a file's own name agrees with the folder that would name it, or says nothing of its
    /// own.
    pub fn agrees(&self, name: &str) -> bool {
        let (stem, _) = split_ending(name);
        let own = key(&read(stem).title);
        let folder = match &self.context {
            Context::Film(Some((_, folder))) => key(&folder.title),
            _ => self.folders.last().map(|name| key(&read(name).title)).unwrap_or_default(),
        };
        own.is_empty() || own.starts_with(&folder) || folder.starts_with(&own)
    }

    fn episode(
        &self,
        show: Option<&(usize, Reading)>,
        season: Option<u16>,
        stem: &str,
    ) -> Result<Filed, Unread> {
        let mut filed = Filed::default();
        if let Some((depth, folder)) = show {
            (filed.title, filed.year, filed.named_by) = (folder.title.clone(), folder.year, *depth);
        }
        let tokens = Tokens::of(stem);
        // What its name says of the show matters only where no folder does.
        let named = !filed.title.is_empty();
        let own = if named { episode_in(&tokens) } else { show_in(&tokens) };
        if own.is_episode() {
            (filed.season, filed.episodes, filed.date) = (own.season, own.episodes, own.date);
            if !named {
                (filed.title, filed.year) = (own.title, own.year);
            }
        } else {
            let shown = || if named { show_in(&tokens).title } else { own.title };
            let weak = weak_episode(&tokens, season, shown);
            let (episodes, title) = weak.ok_or(Unread::NoEpisode)?;
            (filed.season, filed.episodes) = (season.or(Some(1)), episodes);
            if filed.title.is_empty() {
                filed.title = title;
            }
        }
        if filed.title.is_empty() { Err(Unread::NoTitle) } else { Ok(filed) }
    }

    fn book(&self, stem: &str, ending: &str, alone: bool) -> Result<Filed, Unread> {
        let author = self.folders.first().map(|name| name.trim().to_owned());
        let spoken = ["mp3", "m4b", "flac", "opus"].iter().any(|e| ending.eq_ignore_ascii_case(e));
        let folder = self.folders.get(1).filter(|_| spoken || alone);
        if let Some(folder) = folder {
            let own =
                self.folders[1..].iter().rposition(|name| !is_disc(name)).map_or(1, |n| n + 1);
            let name = if spoken { &self.folders[own] } else { folder };
            let depth = if spoken { own + 1 } else { 2 };
            let (title, year) = work(name, author.as_deref());
            return match title.is_empty() {
                true => Err(Unread::NoTitle),
                false => Ok(Filed { title, year, by: author, named_by: depth, ..Filed::default() }),
            };
        }
        let (title, year, by) = match &author {
            Some(author) => {
                let (title, year) = work(stem, Some(author));
                (title, year, Some(author.clone()))
            }
            // `Author - Title` lies loose.
            None => match stem.split_once(" - ") {
                Some((author, title)) => {
                    let (title, year) = work(title, None);
                    (title, year, Some(author.trim().to_owned()))
                }
                None => {
                    let (title, year) = work(stem, None);
                    (title, year, None)
                }
            },
        };
        if title.is_empty() {
            return Err(Unread::NoTitle);
        }
        Ok(Filed { title, year, by, ..Filed::default() })
    }
}

/// The title of a book, and its year: without its author in front or behind.
fn work(name: &str, author: Option<&str>) -> (String, Option<u16>) {
    let same = |part: &str| author.is_some_and(|author| key(part) == key(author));
    let front = name.split_once(" - ").filter(|(front, _)| same(front)).map(|(_, rest)| rest);
    let behind = name.rsplit_once(" - ").filter(|(_, last)| same(last)).map(|(rest, _)| rest);
    let reading = read(front.or(behind).unwrap_or(name));
    (reading.title, reading.year)
}

/// A folder for one disc of several.
fn is_disc(name: &str) -> bool {
    let name = name.trim();
    let numbered = ["cd", "disc", "disk", "dvd", "part"].iter().any(|word| {
        let rest = name.get(..word.len()).filter(|head| head.eq_ignore_ascii_case(word));
        rest.is_some() && number(name[word.len()..].trim_matches([' ', '-', '_', '.']), 2).is_some()
    });
    numbered || ["bdmv", "stream", "video_ts"].iter().any(|known| name.eq_ignore_ascii_case(known))
}

/// Whether a folder holds what comes with a title and is none of its own.
pub(crate) fn is_extras(name: &str) -> bool {
    EXTRAS.iter().any(|known| name.trim().eq_ignore_ascii_case(known))
}

/// The folder that names a film: the innermost with a year, else the innermost that is none of
/// discs or extras.
fn film_folder(folders: &[String]) -> Option<(usize, Reading)> {
    let mut innermost = None;
    for (n, name) in folders.iter().enumerate().rev() {
        if is_disc(name) || is_extras(name) || season_of(name).is_some() {
            continue;
        }
        let reading = read(name);
        if reading.title.is_empty() {
            continue;
        }
        if reading.year.is_some() {
            return Some((n + 1, reading));
        }
        innermost.get_or_insert((n + 1, reading));
    }
    innermost
}

fn film(folder: Option<&(usize, Reading)>, stem: &str, alone: bool) -> Result<Filed, Unread> {
    let of = |reading: &Reading, named_by: usize| Filed {
        title: reading.title.clone(),
        year: reading.year,
        named_by,
        ..Filed::default()
    };
    if let Some((depth, folder)) = folder {
        // A folder of one film speaks for what lies in it; one of several lets each file speak.
        if folder.year.is_some() && !folder.years {
            return Ok(of(folder, *depth));
        }
        let own = read(stem);
        let own_film = !own.title.is_empty() && (own.year.is_some() || !alone);
        return Ok(if own_film { of(&own, 0) } else { of(folder, *depth) });
    }
    let own = read(stem);
    if own.title.is_empty() { Err(Unread::NoTitle) } else { Ok(of(&own, 0)) }
}

/// The season that a folder stands for: `Season 01`, `S01`, `Staffel 2`, `Specials`.
pub(crate) fn season_of(folder: &str) -> Option<u16> {
    let lower = folder.trim().to_lowercase();
    if SPECIALS.contains(&lower.as_str()) {
        return Some(0);
    }
    let tokens = Tokens::of(&lower);
    let first = tokens.text(0)?;
    for word in SEASONS {
        let Some(rest) = first.strip_prefix(word) else { continue };
        let numeral: String = rest.chars().take_while(char::is_ascii_digit).collect();
        if !numeral.is_empty() {
            return number(&numeral, 4);
        }
        if rest.is_empty() {
            return number(tokens.text(1)?, 4);
        }
    }
    // `1. Staffel`, `2 сезон`.
    let numbered =
        number(first, 4).filter(|_| tokens.text(1).is_some_and(|word| SEASONS.contains(&word)));
    let short = first.strip_prefix('s').filter(|rest| digits(rest) && rest.len() <= 4);
    numbered.or_else(|| number(short.filter(|_| tokens.words.len() == 1)?, 4))
}

/// The folder that names a show, and the season that the folders below it say.
fn show_folder(folders: &[String]) -> Context {
    let first_season = folders.iter().position(|name| season_of(name).is_some());
    let season = folders.iter().rev().find_map(|name| season_of(name));
    if let Some(at) = first_season {
        let show = at.checked_sub(1).map(|at| (at + 1, read_show(&folders[at])));
        return Context::Show { show: show.filter(|(_, show)| !show.title.is_empty()), season };
    }
    let readings: Vec<Reading> = folders.iter().map(|name| read_show(name)).collect();
    let season = readings.iter().rev().find_map(|reading| reading.season);
    // The years of broadcasts, below the show.
    let is_year = |n: usize| n > 0 && bare_year(folders[n].trim()).is_some();
    let names = |n: &usize| {
        let reading = &readings[*n];
        !reading.title.is_empty()
            && !is_year(*n)
            && !is_disc(&folders[*n])
            && !is_extras(&folders[*n])
    };
    // A folder of one episode speaks last.
    let of_show = (0..folders.len()).rev().filter(names).find(|n| !readings[*n].is_episode());
    let show = of_show.or_else(|| (0..folders.len()).find(names));
    Context::Show { show: show.map(|n| (n + 1, readings[n].clone())), season }
}

/// The episodes of a file that says so in fewer words, and what stands before them. `shown`: the
/// title that the whole name would give.
fn weak_episode(
    tokens: &Tokens,
    season: Option<u16>,
    shown: impl FnOnce() -> String,
) -> Option<(Vec<u16>, String)> {
    let words = &tokens.words;
    let before = |n: usize| read_show(&tokens.stem[..words[n].start]).title;
    for n in 0..words.len() {
        if let Some((episodes, _)) = said_episode(tokens, n) {
            return Some((episodes, before(n)));
        }
    }
    let own: Vec<usize> = (0..words.len()).filter(|n| words[*n].group.is_none()).collect();
    let first = *own.first()?;
    let set_apart = own.iter().copied().find_map(|n| {
        let token = words[n];
        Some((plain_episode(&token).filter(|_| token.dash)?, n))
    });
    // `7 Lamps - 27`: a title may begin with a number.
    let leads = set_apart.is_none() || own.get(1).is_some_and(|n| words[*n].dash);
    if let Some(episodes) = plain_episode(&words[first]).filter(|_| leads) {
        return Some((in_season(episodes, season), String::new()));
    }
    // `Show 045` and `Show.045.720p`: a number of two digits or more where the title ends.
    let at_the_end = || {
        let shown = shown();
        let n = own.iter().copied().rev().find(|n| {
            let end = words[*n].start + words[*n].text.len();
            words[*n].text.len() > 1 && shown.ends_with(words[*n].text) && end <= tokens.stem.len()
        })?;
        Some((plain_episode(&words[n])?, n))
    };
    let (episodes, n) = set_apart.or_else(at_the_end)?;
    Some((in_season(episodes, season), before(n)))
}

/// `102` in the folder of season 1 is its second episode.
fn in_season(episodes: Vec<u16>, season: Option<u16>) -> Vec<u16> {
    match (&episodes[..], season) {
        ([one], Some(season @ 1..)) if *one >= 100 && one / 100 == season && one % 100 > 0 => {
            vec![one % 100]
        }
        _ => episodes,
    }
}

/// The folder of an album: the innermost that is no disc's.
fn album_folder(folders: &[String]) -> Option<(usize, Album)> {
    let at = folders.iter().rposition(|name| !is_disc(name))?;
    let artist = at.checked_sub(1).map(|above| folders[above].trim().to_owned());
    let album = album(&folders[at], artist);
    (!album.title.is_empty()).then_some((at + 1, album))
}

/// `Album (1998)`, `1998 - Album`, `Artist - Album`, `Artist - 1998 - Album`.
fn album(name: &str, artist: Option<String>) -> Album {
    let mut parts: Vec<&str> = name.split(" - ").map(str::trim).collect();
    let mut year = None;
    // Of two, a year behind the artist is what the album is called.
    let dated = parts.len() > 2 || bare_year(parts[0]).is_some();
    if dated
        && parts.len() > 1
        && let Some(at) = parts.iter().position(|part| bare_year(part).is_some())
    {
        year = bare_year(parts.remove(at));
    }
    let mut artist = artist;
    if parts.len() > 1 {
        let same = artist.as_ref().is_none_or(|known| key(known) == key(parts[0]));
        if same {
            let front = parts.remove(0).to_owned();
            artist.get_or_insert(front);
        }
    }
    let whole = parts.join(" - ");
    let reading = read(&whole);
    // A number is a title like any other here.
    let title = if reading.title.is_empty() { whole.trim().to_owned() } else { reading.title };
    Album { title, year: year.or(reading.year), artist }
}

fn track(album_of: Option<&(usize, Album)>, stem: &str) -> Result<Filed, Unread> {
    if let Some((depth, album)) = album_of {
        return Ok(Filed {
            title: album.title.clone(),
            by: album.artist.clone(),
            year: album.year,
            named_by: *depth,
            ..Filed::default()
        });
    }
    // `Artist - Album - 01 - Title` lies loose.
    let parts: Vec<&str> = stem.split(" - ").map(str::trim).collect();
    let numbered = parts.iter().position(|part| number(part, 3).is_some());
    match (parts.as_slice(), numbered) {
        ([artist, name, ..], Some(at)) if at >= 2 => {
            let album = album(name, Some((*artist).to_owned()));
            Ok(Filed { title: album.title, by: album.artist, year: album.year, ..Filed::default() })
        }
        _ => Err(Unread::NoTitle),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn summary(kind: Kind, path: &str) -> String {
        let mut folders: Vec<String> = path.split('/').map(str::to_owned).collect();
        let name = folders.pop().unwrap();
        let shelf = Shelf::new(kind, folders);
        let filed = match shelf.file(&name, true) {
            Ok(filed) => filed,
            Err(why) => return why.words().to_owned(),
        };
        let mut told = filed.by.map(|by| by + ": ").unwrap_or_default() + &filed.title;
        told += &filed.year.map(|year| format!(" ({year})")).unwrap_or_default();
        told += &filed.season.map(|season| format!(" s{season}")).unwrap_or_default();
        for episode in filed.episodes {
            told += &format!(" e{episode}");
        }
        told += &filed.date.map(|date| format!(" {date}")).unwrap_or_default();
        told + &format!(" @{}", filed.named_by)
    }

    #[test]
    fn folders_speak_where_they_know_better() {
        use Kind::*;
        for (kind, path, is) in [
            (Films, "The Salt Orchard (2011)/x.mkv", "The Salt Orchard (2011) @1"),
            (
                Films,
                "The Salt Orchard (2011)/the.salt.orchard.2012.mkv",
                "The Salt Orchard (2011) @1",
            ),
            (Films, "Drama/The Salt Orchard (2011)/CD1/a.avi", "The Salt Orchard (2011) @2"),
            (Films, "Vey (1998-2004)/Lanterns of Vey (1998).mkv", "Lanterns of Vey (1998) @0"),
            (Films, "Vey/Lanterns of Vey (1998).mkv", "Lanterns of Vey (1998) @0"),
            (Films, "Low Water/movie.mkv", "Low Water @1"),
            (Films, "Low.Water.2003.720p.mkv", "Low Water (2003) @0"),
            (Films, "IMG_0001.mkv", "no title can be read from it"),
            (Series, "Ferry Nine/Season 01/Ferry Nine S01E02 Ice.mkv", "Ferry Nine s1 e2 @1"),
            (Series, "Ferry Nine (2003)/Season 1/1x02.mkv", "Ferry Nine (2003) s1 e2 @1"),
            (Series, "Ferry Nine/Season 1/02 - Ice.mkv", "Ferry Nine s1 e2 @1"),
            (Series, "Ferry Nine/Season 1/102.mkv", "Ferry Nine s1 e2 @1"),
            (Series, "Ferry Nine/Specials/S00E03.mkv", "Ferry Nine s0 e3 @1"),
            (Series, "Ferry Nine/Staffel 2/Folge 5.mkv", "Ferry Nine s2 e5 @1"),
            (Series, "Drama/Ferry Nine/Season 2/S02E05.mkv", "Ferry Nine s2 e5 @2"),
            (Series, "Ferry.Nine.S01.720p/ferry.nine.s01e02.mkv", "Ferry Nine s1 e2 @1"),
            (Series, "Ferry Nine/Ferry.Nine.S01E02.720p/x.S01E02.mkv", "Ferry Nine s1 e2 @1"),
            (Series, "Ferry.Nine.2003.S01E02.720p.mkv", "Ferry Nine (2003) s1 e2 @0"),
            (Series, "[KH] Ferry Nine - 045 [720p].mkv", "Ferry Nine s1 e45 @0"),
            (Series, "Harbour News/2011-03-04.mkv", "Harbour News 2011-03-04 @1"),
            (Series, "Harbour News/2011/Harbour News 2011-03-04.mkv", "Harbour News 2011-03-04 @1"),
            (Series, "Pier 88/Season 01/Pier 88 S01E03.mkv", "Pier 88 s1 e3 @1"),
            (Series, "Ferry Nine/making of.mkv", "no episode can be read from it"),
            (Series, "S01E02.mkv", "no title can be read from it"),
            (
                Music,
                "Low Tide Choir/Harbour (1998)/01 Ice.flac",
                "Low Tide Choir: Harbour (1998) @2",
            ),
            (
                Music,
                "Low Tide Choir/1998 - Harbour/CD2/01 Ice.flac",
                "Low Tide Choir: Harbour (1998) @2",
            ),
            (
                Music,
                "Low Tide Choir - Harbour (1998)/01 Ice.flac",
                "Low Tide Choir: Harbour (1998) @1",
            ),
            (Music, "Low Tide Choir - Harbour - 01 - Ice.flac", "Low Tide Choir: Harbour @0"),
            (Music, "ice.flac", "no title can be read from it"),
            (Books, "Mira Vey/Salt.epub", "Mira Vey: Salt @0"),
            (Books, "Mira Vey/Mira Vey - Salt (1998).epub", "Mira Vey: Salt (1998) @0"),
            (Books, "Mira Vey/Salt/01.mp3", "Mira Vey: Salt @2"),
            (Books, "Mira Vey - Salt.epub", "Mira Vey: Salt @0"),
            (Photos, "2011/IMG_0001.jpg", "IMG_0001 @0"),
        ] {
            assert_eq!(summary(kind, path), is, "{path}");
        }
    }

    #[test]
    fn season_folders_in_many_languages() {
        for (name, season) in [
            ("Season 01", Some(1)),
            ("season 1 (2003)", Some(1)),
            ("S02", Some(2)),
            ("Series 3", Some(3)),
            ("1. Staffel", Some(1)),
            ("Сезон 4", Some(4)),
            ("第1季", Some(1)),
            ("シーズン2", Some(2)),
            ("Specials", Some(0)),
            ("Season", None),
            ("Seasons of Salt", None),
            ("S", None),
        ] {
            assert_eq!(season_of(name), season, "{name}");
        }
    }
}
