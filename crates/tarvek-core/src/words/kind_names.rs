//! What names of folders say of the media in them.

use crate::words::terms::Kind;

/// Words in the names of folders, and the kind that they speak of; the first that fits counts.
const KINDS: [(Kind, &[&str]); 6] = [
    (Kind::HomeVideo, &["home-video", "home-videos", "homevideo", "homevideos", "camcorder"]),
    (Kind::Films, &["films", "film", "movies", "movie", "cinema"]),
    (Kind::Series, &["series", "shows", "episodes", "tv", "television"]),
    (Kind::Music, &["music", "albums", "songs"]),
    (Kind::Photos, &["photos", "photo", "pictures", "images"]),
    (Kind::Books, &["books", "ebooks", "audiobooks", "comics"]),
];

/// The kind of media that a folder's name speaks of.
pub fn kind_by_name(folder: &[u8]) -> Option<Kind> {
    let name = plain_name(folder)?;
    KINDS.iter().find(|(_, words)| words.contains(&name.as_str())).map(|(kind, _)| *kind)
}

/// A folder's name in small letters; spaces and underscores are hyphens.
pub(crate) fn plain_name(folder: &[u8]) -> Option<String> {
    let name = std::str::from_utf8(folder).ok()?;
    Some(name.to_lowercase().replace([' ', '_'], "-"))
}

/// What a library is called after its kind.
pub fn usual_library_name(kind: Kind) -> &'static str {
    match kind {
        Kind::Films => "Films",
        Kind::Series => "Series",
        Kind::Music => "Music",
        Kind::Photos => "Photos",
        Kind::Books => "Books",
        Kind::HomeVideo => "Home video",
    }
}
