//! What no configuration says, told from names and rights, each with its reason. A person corrects
//! it.

use crate::words::name::Name;
use crate::words::part::Part;
use crate::words::terms::Kind;

/// Something that was guessed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Guess {
    pub host: Name,
    /// The part of the layout that it is about.
    pub about: Part,
    pub what: String,
    pub because: String,
}

/// Words in the names of folders, and the kind that they speak of; the first that fits counts.
const KINDS: [(Kind, &[&str]); 6] = [
    (Kind::HomeVideo, &["home-video", "home-videos", "homevideo", "homevideos", "camcorder"]),
    (Kind::Films, &["films", "film", "movies", "movie", "cinema"]),
    (Kind::Series, &["series", "shows", "episodes", "tv", "television"]),
    (Kind::Music, &["music", "albums", "songs"]),
    (Kind::Photos, &["photos", "photo", "pictures", "images"]),
    (Kind::Books, &["books", "ebooks", "audiobooks", "comics"]),
];

/// Words in the names of folders of downloads.
const INTAKE: [&str; 12] = [
    "intake",
    "downloads",
    "download",
    "incoming",
    "done",
    "complete",
    "completed",
    "partial",
    "incomplete",
    "fetched",
    "unsorted",
    "inbox",
];

/// The kind of media that a folder's name speaks of.
pub(super) fn kind(folder: &[u8]) -> Option<Kind> {
    let name = plain(folder)?;
    KINDS.iter().find(|(_, words)| words.contains(&name.as_str())).map(|(kind, _)| *kind)
}

/// Whether a folder's name speaks of downloads.
pub(super) fn is_intake(folder: &[u8]) -> bool {
    plain(folder).is_some_and(|name| INTAKE.contains(&name.as_str()))
}

/// A folder's name in small letters; spaces and underscores are hyphens.
fn plain(folder: &[u8]) -> Option<String> {
    let name = std::str::from_utf8(folder).ok()?;
    Some(name.to_lowercase().replace([' ', '_'], "-"))
}

/// What a library is called after its kind.
pub(super) fn title(kind: Kind) -> &'static str {
    match kind {
        Kind::Films => "Films",
        Kind::Series => "Series",
        Kind::Music => "Music",
        Kind::Photos => "Photos",
        Kind::Books => "Books",
        Kind::HomeVideo => "Home video",
    }
}
