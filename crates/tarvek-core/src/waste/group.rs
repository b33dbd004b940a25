//! A group: files that belong together, and what to do about each.

use crate::waste::inventory::NameAt;
use crate::waste::pattern::{Patterns, Sort};
use crate::words::path::AbsPath;
use crate::words::word::words;

words! {
    /// Why something takes space for nothing.
    #[derive(PartialOrd, Ord)]
    pub enum Waste {
        /// Equal bytes in different files.
        Copy = "copy",
        /// A copy in an intake of what lies in a library: it should be a link.
        Unlinked = "unlinked",
        /// One title in several files.
        Version = "version",
        /// What is left of something else.
        Leftover = "leftover",
        /// A folder with nothing but debris.
        Hollow = "hollow",
    }
}

words! {
    /// What to do about a file.
    pub enum Suggest {
        Keep = "keep",
        /// Take its name away.
        Drop = "drop",
        /// Make its name one of the file that is kept.
        Link = "link",
        /// Somebody has to look at it.
        Look = "look",
    }
}

words! {
    /// What somebody decided about a name.
    pub enum Decision {
        Keep = "keep",
        Drop = "drop",
        Link = "link",
        /// Never show its group again.
        Ignore = "ignore",
    }
}

impl Waste {
    /// Whether files of this kind go because another one stays.
    pub fn needs_keeper(self) -> bool {
        matches!(self, Self::Copy | Self::Unlinked | Self::Version)
    }
}

impl Suggest {
    /// Whether its name goes from its file.
    pub fn takes(self) -> bool {
        matches!(self, Self::Drop | Self::Link)
    }
}

/// One name in a group.
#[derive(Clone, Debug, PartialEq)]
pub struct Item {
    pub name: NameAt,
    pub suggest: Suggest,
    /// Why just this; empty where the group says it.
    pub why: String,
    /// Bytes that come back once all that is suggested is done, counted at the first name of a
    /// file.
    pub frees: u64,
}

/// Files that belong together.
#[derive(Clone, Debug, PartialEq)]
pub struct Group {
    /// The same at each look, as long as it is about the same.
    pub id: String,
    pub kind: Waste,
    pub why: String,
    /// Those that stay first.
    pub items: Vec<Item>,
    /// Bytes that come back by what is suggested.
    pub frees: u64,
    /// Whether it may be less, since the filesystem does not tell.
    pub at_most: bool,
    /// What its files hold, if they hold the same.
    pub digest: Option<[u8; 32]>,
}

impl Group {
    /// One of which nothing is counted yet.
    pub fn new(kind: Waste, key: &[&[u8]], why: impl Into<String>, items: Vec<Item>) -> Self {
        Self {
            id: id_of(kind, key),
            kind,
            why: why.into(),
            items,
            frees: 0,
            at_most: false,
            digest: None,
        }
    }
}

impl Item {
    /// A name with what to do about it.
    pub fn new(name: NameAt, suggest: Suggest, why: impl Into<String>) -> Self {
        Self { name, suggest, why: why.into(), frees: 0 }
    }
}

/// The id of a group of a kind, made of what makes it one.
fn id_of(kind: Waste, key: &[&[u8]]) -> String {
    format!("{}-{:012x}", kind.word(), hash(key) >> 16)
}

/// What the id of the debris of an area is made of besides its host and path.
pub(super) const DEBRIS: &[u8] = b"debris";

/// Whether a name can belong to the group of an id, as far as the name and its digest (in
/// hexadecimal digits, or nothing) tell. Of versions only titles do.
pub fn is_id_of(id: &str, kind: Waste, host: &str, path: &AbsPath, digest: &str) -> bool {
    let host = host.as_bytes();
    match kind {
        Waste::Copy | Waste::Unlinked => {
            let bytes: Option<Vec<u8>> = (0..digest.len() / 2)
                .map(|n| u8::from_str_radix(digest.get(2 * n..2 * n + 2)?, 16).ok())
                .collect();
            // Of what is mostly holes nobody has a digest; bytes are compared.
            digest.is_empty() && id.starts_with(kind.word())
                || bytes.is_some_and(|bytes| id == id_of(kind, &[&bytes]))
        }
        Waste::Version => id.strip_prefix(kind.word()).is_some_and(|rest| rest.starts_with('-')),
        Waste::Leftover | Waste::Hollow => {
            let mut above = std::iter::successors(Some(path.clone()), AbsPath::parent);
            let is_debris = || {
                Patterns::new(&[]).sort(path.name().unwrap_or_default(), false)
                    == Some(Sort::Debris)
            };
            above.any(|place| {
                id == id_of(kind, &[host, place.as_bytes()])
                    || id == id_of(kind, &[DEBRIS, host, place.as_bytes()]) && is_debris()
            })
        }
    }
}

/// FNV-1a (RFC 9923) over parts, each set apart from the next.
pub fn hash(parts: &[&[u8]]) -> u64 {
    let bytes = parts.iter().flat_map(|part| part.iter().copied().chain([0]));
    bytes.fold(0xcbf2_9ce4_8422_2325, |hash, byte| {
        (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3)
    })
}
