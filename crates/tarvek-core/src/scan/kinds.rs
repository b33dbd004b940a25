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
    let Some(dot) = name.iter().rposition(|&b| b == b'.').filter(|at| *at > 0) else {
        return false;
    };
    let ending = &name[dot + 1..];
    endings(kind).iter().any(|known| ending.eq_ignore_ascii_case(known.as_bytes()))
}

/// How deep below a root the folder of one title stands; photos and home video have no such folder.
pub(crate) fn title_depth(kind: Kind) -> Option<u32> {
    match kind {
        Kind::Films | Kind::Series | Kind::Books => Some(1),
        Kind::Music => Some(2),
        Kind::Photos | Kind::HomeVideo => None,
    }
}
