//! Which files and folders make the titles of each kind.

use crate::words::terms::Kind;

/// File name endings of each kind, without the dot.
pub fn endings(kind: Kind) -> &'static [&'static str] {
    const VIDEO: &[&str] = &[
        "mkv", "mp4", "m4v", "webm", "avi", "mov", "mpg", "mpeg", "ts", "m2ts", "wmv", "ogv",
        "flv", "vob", "3gp", "iso",
    ];
    match kind {
        Kind::Films | Kind::Series | Kind::HomeVideo => VIDEO,
        Kind::Music => &[
            "flac", "mp3", "ogg", "oga", "opus", "m4a", "aac", "wav", "aif", "aiff", "wma", "wv",
            "ape", "mka",
        ],
        Kind::Photos => &[
            "jpg", "jpeg", "png", "gif", "webp", "heic", "heif", "avif", "tif", "tiff", "bmp",
            "dng", "cr2", "cr3", "nef", "arw", "orf", "rw2", "raf",
        ],
        Kind::Books => &[
            "epub", "pdf", "mobi", "azw3", "fb2", "djvu", "cbz", "cbr", "txt", "m4b", "mp3",
            "flac", "opus",
        ],
    }
}

/// Whether a file name has an ending of a kind.
pub fn is_media(kind: Kind, name: &[u8]) -> bool {
    endings(kind).iter().any(|known| is_ending(name, known))
}

/// Whether a file name has an ending of moving pictures or of sound.
pub fn plays(name: &[u8]) -> bool {
    [Kind::Films, Kind::Music].into_iter().any(|kind| is_media(kind, name))
        || is_ending(name, "m4b")
}

fn is_ending(name: &[u8], ending: &str) -> bool {
    let dot = name.iter().rposition(|&b| b == b'.').filter(|at| *at > 0);
    dot.is_some_and(|dot| name[dot + 1..].eq_ignore_ascii_case(ending.as_bytes()))
}

/// Whether a file name has an ending of subtitles.
pub fn is_subtitle(name: &[u8]) -> bool {
    ["srt", "ass", "ssa", "vtt", "sub", "sup"].iter().any(|ending| is_ending(name, ending))
}

/// What systems and storage boxes leave in folders, in lower case; with whether it is a folder.
const DEBRIS: [(&str, bool); 13] = [
    ("$recycle.bin", true),
    ("#recycle", true),
    ("@eadir", true),
    ("@recycle", true),
    ("lost+found", true),
    ("network trash folder", true),
    ("recycler", true),
    ("system volume information", true),
    ("temporary items", true),
    ("desktop.ini", false),
    ("ehthumbs.db", false),
    ("icon\r", false),
    ("thumbs.db", false),
];

/// What systems and storage boxes leave in folders, in lower case; with whether it is a folder.
pub fn debris() -> impl Iterator<Item = (&'static str, bool)> {
    DEBRIS.into_iter()
}

/// Whether a scan passes a name over whatever it holds: dot entries, and what systems leave behind.
pub fn is_passed_over(name: &[u8], folder: bool) -> bool {
    let known =
        |(debris, of): &(&str, bool)| *of == folder && name.eq_ignore_ascii_case(debris.as_bytes());
    name.starts_with(b".") || DEBRIS.iter().any(known)
}
