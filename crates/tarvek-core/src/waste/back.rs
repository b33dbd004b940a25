//! What really comes back: nothing until the last name of a file is gone, nobody holds it open, and
//! no snapshot or other file holds its blocks.

use std::collections::HashMap;

use crate::facts::host::Source;
use crate::waste::group::Group;
use crate::waste::inventory::{FileId, Inventory, NameAt};
use crate::words::word::words;

/// What was found out about a file that would go.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Exam {
    /// A process that holds it open.
    pub held_by: Option<String>,
    /// Bytes of it that other files or snapshots hold as well (`ioctl_fiemap(2)`, shared extents).
    pub shared: u64,
    /// Whether a snapshot of its dataset may hold it: one that was made after the file was.
    pub snapshot: bool,
    /// Whether processes that nobody could look at may hold it open.
    pub unsure: bool,
    /// Whether its blocks are packed, so that what it takes is not told.
    pub packed: bool,
}

words! {
    /// What keeps bytes from coming back.
    pub enum Kept {
        /// Other names of the file stay.
        Names = "other names of it stay",
        Open = "a process holds it open",
        Snapshot = "a snapshot of its dataset holds it",
        /// Its blocks belong to other files or snapshots as well.
        Shared = "other files or snapshots share its blocks",
    }
}

/// What comes back of a file, if so many of its names go.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct FreedSpace {
    pub bytes: u64,
    /// Whether it may be less.
    pub at_most: bool,
    /// Why not all of it.
    pub kept: Option<Kept>,
}

/// What comes back of a file if `going` of its names go.
pub fn of_file(stock: &Inventory, file: FileId, going: usize, exam: Option<&Exam>) -> FreedSpace {
    let meta = stock.meta(file);
    let first = stock.names(file)[0];
    let all = meta.allocated.unwrap_or(meta.size);
    // A file bound to further places shows more names than it has.
    if (going as u64) < u64::from(meta.links) {
        return FreedSpace { kept: Some(Kept::Names), ..FreedSpace::default() };
    }
    let default = Exam::default();
    let exam = exam.unwrap_or(&default);
    if exam.held_by.is_some() {
        return FreedSpace { kept: Some(Kept::Open), ..FreedSpace::default() };
    }
    if exam.snapshot {
        return FreedSpace { kept: Some(Kept::Snapshot), ..FreedSpace::default() };
    }
    let bytes = all.saturating_sub(exam.shared);
    let live = stock.facts(first).source == Source::Live;
    let at_most = !live || exam.unsure || exam.packed || meta.allocated.is_none();
    FreedSpace { bytes, at_most, kept: (exam.shared > 0).then_some(Kept::Shared) }
}

/// Files that are to go by what some groups suggest, with how many of their names.
pub fn going(stock: &Inventory, groups: &[Group]) -> HashMap<FileId, Vec<NameAt>> {
    let mut going: HashMap<FileId, Vec<NameAt>> = HashMap::new();
    for item in groups.iter().flat_map(|group| &group.items).filter(|item| item.suggest.takes()) {
        if let Some(file) = stock.file(item.name) {
            going.entry(file).or_default().push(item.name);
        }
    }
    going
}

/// Counts in each group what comes back by it; of a file with names in several groups, at the last
/// one.
pub(super) fn count(
    stock: &Inventory,
    groups: &mut [Group],
    exam: &dyn Fn(FileId) -> Option<Exam>,
) {
    let going = going(stock, groups);
    let mut counted: HashMap<FileId, ()> = HashMap::new();
    for group in groups.iter_mut().rev() {
        for item in &mut group.items {
            let Some(file) = stock.file(item.name).filter(|_| item.suggest.takes()) else {
                continue;
            };
            if counted.insert(file, ()).is_some() {
                continue;
            }
            let exam = exam(file);
            let back = of_file(stock, file, going[&file].len(), exam.as_ref());
            item.frees = back.bytes;
            group.frees += back.bytes;
            group.at_most |= back.at_most && back.bytes > 0;
            let why = match (back.kept, exam.and_then(|exam| exam.held_by)) {
                (Some(Kept::Open), Some(by)) => {
                    format!("{by} holds it open: nothing comes back before it lets go")
                }
                (Some(Kept::Names), _) => {
                    let stay = u64::from(stock.meta(file).links) - going[&file].len() as u64;
                    format!("nothing comes back: {stay} of its names stay")
                }
                (Some(kept), _) => kept.word().to_owned(),
                (None, _) => continue,
            };
            match item.why.is_empty() {
                true => item.why = why,
                false => item.why += &format!("; {why}"),
            }
        }
    }
}
