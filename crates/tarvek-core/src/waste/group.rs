//! A group: files that belong together, and what to do about each.

use crate::waste::stock::NameAt;
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
    /// Bytes that come back once all that is suggested is done, counted at the first name of a file.
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
        let id = format!("{}-{:012x}", kind.word(), hash(key) >> 16);
        Self { id, kind, why: why.into(), items, frees: 0, at_most: false, digest: None }
    }
}

impl Item {
    /// A name with what to do about it.
    pub fn new(name: NameAt, suggest: Suggest, why: impl Into<String>) -> Self {
        Self { name, suggest, why: why.into(), frees: 0 }
    }
}

/// FNV-1a (RFC 9923) over parts, each set apart from the next.
pub fn hash(parts: &[&[u8]]) -> u64 {
    let bytes = parts.iter().flat_map(|part| part.iter().copied().chain([0]));
    bytes.fold(0xcbf2_9ce4_8422_2325, |hash, byte| {
        (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3)
    })
}
