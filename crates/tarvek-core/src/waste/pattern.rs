//! Which names are left over from something, as data.

use std::collections::{HashMap, HashSet};

use crate::scan::kinds::debris;
use crate::words::pattern::matches;
use crate::words::word::{Word, words};

words! {
    /// What something is left over from.
    #[derive(PartialOrd, Ord)]
    pub enum Sort {
        /// Thumbnail caches and desktop metadata, which whoever made them makes again.
        Debris = "debris",
        /// What somebody deleted already.
        Trash = "trash",
        /// A download that never came to its end.
        Partial = "partial",
        /// A short piece, to see whether a download is what it says.
        Sample = "sample",
        /// An archive, or a volume of one.
        Archive = "archive",
        /// What stands beside a film, a track or a book.
        Sidecar = "sidecar",
        /// A version that a server made for some device.
        Converted = "converted",
        /// What the layout adds.
        Declared = "declared",
    }
}

impl Sort {
    /// Of it, in a sentence.
    pub fn words(self) -> &'static str {
        match self {
            Self::Debris => "what systems and desktops leave behind, and make again",
            Self::Trash => "it was deleted already, and waits in a trash folder",
            Self::Partial => "a download that never came to its end",
            Self::Sample => "a sample; the whole stands beside it",
            Self::Archive => "an archive whose contents stand beside it",
            Self::Sidecar => "it belongs to a file that is not there",
            Self::Converted => "a version that a server made for some device; it can make it again",
            Self::Declared => "the layout calls it a leftover",
        }
    }
}

/// Patterns of names, in lower case; `*` and `?` stand for any characters and for one. Those of
/// folders mean everything in them. Debris has more, which scans pass over as well ([`debris`]).
const PATTERNS: [(Sort, bool, &[&str]); 10] = [
    (Sort::Debris, false, &["._*", ".ds_store", ".directory", ".localized", ".thumbs"]),
    (
        Sort::Debris,
        true,
        &[".appledouble", ".fseventsd", ".spotlight-v100", ".temporaryitems", ".thumbnails"],
    ),
    (
        Sort::Trash,
        true,
        &[
            "$recycle.bin",
            "#recycle",
            "@recycle",
            "recycler",
            ".recycle",
            ".trash",
            ".trash-*",
            ".trashes",
        ],
    ),
    (
        Sort::Partial,
        false,
        &[
            "*.part",
            "*.partial",
            "*.incomplete",
            "*.unfinished",
            "*.download",
            "*.crdownload",
            "*.opdownload",
            "*.filepart",
            "*.aria2",
            "*.!??",
            "*.temp",
            "*.tmp",
        ],
    ),
    (
        Sort::Sample,
        false,
        &["sample.*", "sample-*", "*-sample.*", "*.sample.*", "*_sample.*", "* sample.*"],
    ),
    (Sort::Sample, true, &["sample", "samples"]),
    (
        Sort::Archive,
        false,
        &[
            "*.zip",
            "*.rar",
            "*.7z",
            "*.tar",
            "*.tgz",
            "*.tar.gz",
            "*.tar.xz",
            "*.tar.zst",
            "*.r[0-9][0-9]",
            "*.[0-9][0-9][0-9]",
        ],
    ),
    (
        Sort::Sidecar,
        false,
        &["*.srt", "*.ass", "*.ssa", "*.vtt", "*.sub", "*.idx", "*.sup", "*.nfo", "*.lrc", "*.cue"],
    ),
    (
        Sort::Sidecar,
        false,
        &[
            "poster.*",
            "folder.*",
            "cover.*",
            "fanart.*",
            "banner.*",
            "backdrop.*",
            "*-poster.*",
            "*-fanart.*",
            "*-thumb.*",
            "*-banner.*",
            "*-backdrop.*",
        ],
    ),
    (
        Sort::Converted,
        true,
        &[
            "converted versions",
            "optimised versions",
            "optimized versions",
            "transcoded",
            "transcodes",
        ],
    ),
];

/// A set of bytes.
#[derive(Clone, Copy, Debug, Default)]
struct Bytes([u64; 4]);

impl Bytes {
    fn add(&mut self, byte: u8) {
        self.0[usize::from(byte >> 6)] |= 1 << (byte & 63);
    }

    fn has(self, byte: u8) -> bool {
        self.0[usize::from(byte >> 6)] >> (byte & 63) & 1 == 1
    }
}

/// The patterns at hand, those of the layout among them.
#[derive(Debug, Default)]
pub struct Patterns {
    /// Names without wildcards.
    plain: HashMap<(bool, Vec<u8>), Sort>,
    /// Of files, by their ending.
    endings: HashMap<Vec<u8>, Sort>,
    others: Vec<(Sort, bool, Vec<u8>)>,
    /// A word of each of those, of which a name that matches has one.
    words: HashSet<Vec<u8>>,
    /// Whether some of them have no word at all.
    wordless: bool,
    /// The first bytes of plain names, and of words: most names have none of them, and need no look
    /// into a table.
    first: [Bytes; 2],
}

impl Patterns {
    /// The usual ones, and further ones: of folders if they end with a slash.
    pub fn new(further: &[String]) -> Self {
        let mut all = Self::default();
        for further in further {
            let (pattern, folder) = match further.strip_suffix('/') {
                Some(pattern) => (pattern, true),
                None => (further.as_str(), false),
            };
            all.add(Sort::Declared, folder, pattern);
        }
        for (sort, folder, pattern) in listed() {
            all.add(sort, folder, pattern);
        }
        all
    }

    fn add(&mut self, sort: Sort, folder: bool, pattern: &str) {
        let pattern = pattern.to_lowercase().into_bytes();
        let wild = |text: &[u8]| text.iter().any(|b| b"*?[".contains(b));
        match pattern.strip_prefix(b"*.") {
            _ if !wild(&pattern) => {
                self.first[0].add(pattern.first().copied().unwrap_or(0));
                self.plain.entry((folder, pattern)).or_insert(sort);
            }
            Some(ending) if !folder && !wild(ending) && !ending.contains(&b'.') => {
                self.endings.entry(ending.to_vec()).or_insert(sort);
            }
            _ => {
                match word_of(&pattern) {
                    Some(word) => {
                        self.first[1].add(word[0]);
                        self.words.insert(word);
                    }
                    // Names that begin with a dot or end with a digit are looked at anyway.
                    None if pattern.starts_with(b".") || pattern.ends_with(b"[0-9]") => {}
                    None => self.wordless = true,
                }
                self.others.push((sort, folder, pattern));
            }
        }
    }

    /// What a name is left over from, by the name alone.
    pub fn sort(&self, name: &[u8], folder: bool) -> Option<Sort> {
        let lower = (folder, name.to_ascii_lowercase());
        let first = lower.1.first().copied().unwrap_or(0);
        if let Some(sort) = self.first[0].has(first).then(|| self.plain.get(&lower)).flatten() {
            return Some(*sort);
        }
        let name = &lower.1;
        let of_ending = || {
            let dot = name.iter().rposition(|b| *b == b'.').filter(|at| *at > 0 && !folder)?;
            self.endings.get(&name[dot + 1..]).copied()
        };
        let other = |of: &&(Sort, bool, Vec<u8>)| of.1 == folder && matches(&of.2, name);
        // What says more of a name comes before its ending: `film-sample.part`.
        let likely = self.wordless
            || name.starts_with(b".")
            || name.last().is_some_and(u8::is_ascii_digit)
            || words(name).any(|word| self.first[1].has(word[0]) && self.words.contains(word));
        let other = if likely { self.others.iter().find(other) } else { None };
        other.map(|(sort, ..)| *sort).or_else(of_ending)
    }
}

/// The words of a name.
fn words(name: &[u8]) -> impl Iterator<Item = &[u8]> {
    name.split(|b| !b.is_ascii_alphanumeric()).filter(|word| word.len() > 1)
}

/// A word that every name of a pattern has, set apart as in the pattern.
fn word_of(pattern: &[u8]) -> Option<Vec<u8>> {
    // A word beside a wildcard may go on in a name.
    let whole = |from: usize, to: usize| {
        let beside = [from.checked_sub(1).map(|at| pattern[at]), pattern.get(to).copied()];
        !beside.into_iter().flatten().any(|b| b"*?[]".contains(&b))
    };
    let mut found = None;
    let mut from = 0;
    for to in 0..=pattern.len() {
        if pattern.get(to).is_some_and(u8::is_ascii_alphanumeric) {
            continue;
        }
        if to - from > 1 && whole(from, to) {
            found.get_or_insert_with(|| pattern[from..to].to_vec());
        }
        from = to + 1;
    }
    found
}

/// Every usual pattern: what it stands for, whether it is one of folders, and how it is written.
pub fn listed() -> impl Iterator<Item = (Sort, bool, &'static str)> {
    let own = PATTERNS.iter().flat_map(|(sort, folder, patterns)| {
        patterns.iter().map(|pattern| (*sort, *folder, *pattern))
    });
    // What was found after a check of a filesystem is nobody's debris.
    let passed = debris().filter(|(name, _)| *name != "lost+found");
    own.chain(passed.map(|(name, folder)| (Sort::Debris, folder, name)))
}

/// The usual patterns as a table: a line for each sort.
pub fn table() -> Vec<(Sort, String)> {
    Sort::ALL
        .iter()
        .map(|sort| {
            let of = listed().filter(|(of, ..)| of == sort);
            // The first that says what a name is has it.
            let mut seen = Vec::new();
            for (_, folder, pattern) in of {
                let text = format!("{}{}", pattern.trim_end(), if folder { "/" } else { "" });
                if Patterns::new(&[]).sort(pattern.as_bytes(), folder).is_none_or(|is| is == *sort)
                    && !seen.contains(&text)
                {
                    seen.push(text);
                }
            }
            (*sort, seen.join("  "))
        })
        .filter(|(_, patterns)| !patterns.is_empty())
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_say_what_they_are_left_over_from() {
        let patterns = Patterns::new(&["*.bak".to_owned(), "old/".to_owned()]);
        for (name, folder, sort) in [
            ("Thumbs.db", false, Some(Sort::Debris)),
            ("._film.mkv", false, Some(Sort::Debris)),
            ("@eaDir", true, Some(Sort::Debris)),
            ("#recycle", true, Some(Sort::Trash)),
            (".Trash-1000", true, Some(Sort::Trash)),
            ("lost+found", true, None),
            ("film.mkv.part", false, Some(Sort::Partial)),
            ("film-sample.mkv", false, Some(Sort::Sample)),
            ("Sample", true, Some(Sort::Sample)),
            ("Sample (2011).mkv", false, None),
            ("film.r07", false, Some(Sort::Archive)),
            ("film.part01.rar", false, Some(Sort::Archive)),
            ("film.001", false, Some(Sort::Archive)),
            ("film.x01", false, None),
            ("film.en.srt", false, Some(Sort::Sidecar)),
            ("cover.jpg", false, Some(Sort::Sidecar)),
            ("photo.jpg", false, None),
            ("film.mkv", false, None),
            ("x.BAK", false, Some(Sort::Declared)),
            ("Old", true, Some(Sort::Declared)),
            ("Old", false, None),
        ] {
            assert_eq!(patterns.sort(name.as_bytes(), folder), sort, "{name}");
        }
    }

    #[test]
    fn every_sort_of_the_table_has_patterns() {
        let all: Vec<Sort> = table().iter().map(|(sort, _)| *sort).collect();
        assert_eq!(all, &Sort::ALL[..7], "those of the layout are in no table");
    }
}
