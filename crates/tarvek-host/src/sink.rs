//! Where a look at a tree puts what it sees, folder by folder.

use std::collections::HashSet;
use std::io;
use std::ops::Range;
use std::sync::{Arc, Mutex, PoisonError};

use tarvek_core::facts::build::NewEntry;
use tarvek_core::facts::classes::Extras;
use tarvek_core::facts::host::Gap;
use tarvek_core::facts::tree::Listing;
use tarvek_core::kernel::entry::{Meta, Project};
use tarvek_core::words::path::AbsPath;

/// The number by which a sink knows an entry. Sinks may give numbers to folders only.
pub type Number = u32;

/// What stands for the folder above the root, which holds the root alone, under an empty name.
pub const ABOVE: Number = 0;

/// Takes what is seen. Folders arrive before what they hold.
pub trait Sink: Sync {
    /// Puts in place what is known of a folder from an earlier look.
    ///
    /// # Errors
    /// An error ends the look.
    fn earlier(&self, folder: Number, into: &mut Earlier) -> io::Result<()>;

    /// Takes everything seen in one folder, sorted by name, and numbers it in that order. What was
    /// known of the folder before no longer counts.
    ///
    /// # Errors
    /// An error ends the look.
    fn fill(&self, folder: Number, seen: &Contents, before: &Earlier) -> io::Result<Vec<Number>>;

    /// Notes that a folder holds what it held.
    fn same(&self, folder: Number, before: &Earlier);

    /// Notes that nobody looked into a folder this time.
    ///
    /// # Errors
    /// An error ends the look.
    fn unread(&self, folder: Number) -> io::Result<()>;
}

/// What was seen in one folder, sorted by name.
#[derive(Debug)]
pub struct Contents {
    /// Names and targets.
    texts: Vec<u8>,
    pub entries: Vec<Found>,
    pub listing: Listing,
    /// The project of the folder itself, where somebody could ask for it.
    pub project: Option<Project>,
}

/// One entry of a folder.
#[derive(Debug)]
pub struct Found {
    name: Range<usize>,
    target: Option<Range<usize>>,
    pub meta: Meta,
    pub extras: Option<Arc<Extras>>,
    /// The entry that had this name in the earlier look.
    pub before: Option<usize>,
    /// Whether target and extras are still those of the earlier look.
    pub kept: bool,
}

impl Default for Contents {
    fn default() -> Self {
        Self { texts: Vec::new(), entries: Vec::new(), listing: Listing::NotListed, project: None }
    }
}

impl Contents {
    /// Of entries in the order of their names, and of what is known of them from before.
    pub fn of(
        entries: impl IntoIterator<Item = NewEntry>,
        before: &Earlier,
        listing: Listing,
        project: Option<Project>,
    ) -> Self {
        let mut all = Self { listing, project, ..Self::default() };
        for NewEntry { name, meta, target, extras } in entries {
            let found = all.push(&name, meta).before(before.find(&name), false);
            found.extras = (extras != Extras::default()).then(|| Arc::new(extras));
            if let Some(target) = target {
                all.target(&target);
            }
        }
        all
    }

    /// Forgets everything, and keeps the room.
    pub fn clear(&mut self) {
        self.texts.clear();
        self.entries.clear();
        self.listing = Listing::NotListed;
        self.project = None;
    }

    /// Adds an entry behind the others.
    pub fn push(&mut self, name: &[u8], meta: Meta) -> &mut Found {
        let name = keep(&mut self.texts, name);
        let (target, extras, before, kept) = (None, None, None, false);
        self.entries.push(Found { name, target, meta, extras, before, kept });
        self.entries.last_mut().expect("it was pushed")
    }

    /// Notes where the last entry points.
    pub fn target(&mut self, target: &[u8]) {
        let target = keep(&mut self.texts, target);
        self.entries.last_mut().expect("it follows an entry").target = Some(target);
    }

    /// What an entry of it is called.
    pub fn name_of(&self, found: &Found) -> &[u8] {
        &self.texts[found.name.clone()]
    }

    /// Where an entry of it points.
    pub fn target_of(&self, found: &Found) -> Option<&[u8]> {
        found.target.clone().map(|target| &self.texts[target])
    }

    /// All entries, for a tree.
    pub fn new_entries(&self) -> impl Iterator<Item = NewEntry> {
        self.entries.iter().map(|found| NewEntry {
            name: self.name_of(found).to_vec(),
            meta: found.meta,
            target: self.target_of(found).map(<[u8]>::to_vec),
            extras: found.extras.as_deref().cloned().unwrap_or_default(),
        })
    }
}

impl Found {
    /// Notes what is known of it from an earlier look, and whether that still holds.
    pub fn before(&mut self, before: Option<usize>, kept: bool) -> &mut Self {
        (self.before, self.kept) = (before, kept);
        self
    }
}

/// Appends a text to a buffer, and tells where it stands.
fn keep(texts: &mut Vec<u8>, text: &[u8]) -> Range<usize> {
    let start = texts.len();
    texts.extend_from_slice(text);
    start..texts.len()
}

/// What is known of one folder already.
#[derive(Clone, Debug)]
pub struct Earlier {
    /// Names and targets.
    texts: Vec<u8>,
    entries: Vec<Before>,
    /// Whether these were all.
    pub listing: Listing,
    /// The folder's own project.
    pub project: Option<Project>,
}

/// An entry of an earlier look.
#[derive(Clone, Debug)]
pub struct Before {
    name: Range<usize>,
    pub meta: Meta,
    /// The number of its class, where it was kept.
    pub class: u32,
    own: Own,
}

#[derive(Clone, Debug)]
enum Own {
    Nothing,
    Folder(Number),
    Target(Range<usize>),
}

/// What an entry has that others of its type do not.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum OwnOf<'a> {
    /// Files, and symlinks whose target is not known.
    Nothing,
    /// The number of a folder.
    Folder(Number),
    /// Where a symlink points.
    Target(&'a [u8]),
}

impl Default for Earlier {
    fn default() -> Self {
        Self { texts: Vec::new(), entries: Vec::new(), listing: Listing::NotListed, project: None }
    }
}

impl Earlier {
    /// Forgets everything, and keeps the room.
    pub fn clear(&mut self) {
        self.texts.clear();
        self.entries.clear();
        self.listing = Listing::NotListed;
        self.project = None;
    }

    /// Adds an entry behind the others; whether it stands there in the order of names.
    pub fn push(&mut self, name: &[u8], meta: Meta, class: u32, own: OwnOf) -> bool {
        let sorted = self.entries.is_empty() || self.name(self.entries.len() - 1) < name;
        let name = keep(&mut self.texts, name);
        let own = match own {
            OwnOf::Nothing => Own::Nothing,
            OwnOf::Folder(number) => Own::Folder(number),
            OwnOf::Target(target) => Own::Target(keep(&mut self.texts, target)),
        };
        self.entries.push(Before { name, meta, class, own });
        sorted
    }

    /// How many entries.
    pub fn len(&self) -> usize {
        self.entries.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.entries.is_empty()
    }

    /// An entry; they are sorted by name.
    pub fn entry(&self, index: usize) -> &Before {
        &self.entries[index]
    }

    /// What an entry is called.
    pub fn name(&self, index: usize) -> &[u8] {
        &self.texts[self.entries[index].name.clone()]
    }

    /// What it has for itself.
    pub fn own(&self, index: usize) -> OwnOf<'_> {
        match &self.entries[index].own {
            Own::Nothing => OwnOf::Nothing,
            Own::Folder(number) => OwnOf::Folder(*number),
            Own::Target(target) => OwnOf::Target(&self.texts[target.clone()]),
        }
    }

    /// The number of a folder.
    pub fn folder(&self, index: usize) -> Option<Number> {
        match self.own(index) {
            OwnOf::Folder(number) => Some(number),
            OwnOf::Nothing | OwnOf::Target(_) => None,
        }
    }

    /// Where a name stands.
    pub fn find(&self, name: &[u8]) -> Option<usize> {
        let at = |entry: &Before| self.texts[entry.name.clone()].cmp(name);
        self.entries.binary_search_by(at).ok()
    }
}

/// What could not be seen, from several threads.
#[derive(Debug, Default)]
pub struct Gaps(Mutex<Vec<Gap>>);

impl Gaps {
    /// Notes one.
    pub fn note(&self, path: AbsPath, why: String) {
        let gap = Gap { path, why: why.into() };
        self.0.lock().unwrap_or_else(PoisonError::into_inner).push(gap);
    }

    /// All of them, each once.
    pub fn into_inner(self) -> Vec<Gap> {
        let mut all = self.0.into_inner().unwrap_or_else(PoisonError::into_inner);
        let mut met = HashSet::new();
        all.retain(|gap| met.insert((gap.path.clone(), gap.why.clone())));
        all
    }
}
