//! What has to be read, so that waste can be judged.

use std::cmp::Reverse;

use rayon::prelude::*;

use crate::waste::inventory::{FileId, Inventory};
use crate::waste::leftovers::{Leftovers, leftovers};
use crate::waste::pattern::Patterns;
use crate::waste::versions::{Title, titles};

/// What names and sizes say by themselves, and what is to be read for more.
#[derive(Debug)]
pub struct Plan {
    pub leftovers: Leftovers,
    /// Files of one size, which may be equal: at least two in each, the largest first.
    pub same_size: Vec<Vec<FileId>>,
    /// Titles in several files, whose headers have to be compared.
    pub titles: Vec<Title>,
}

/// What is asked for besides leftovers and hollow folders.
#[derive(Clone, Copy, Debug)]
pub struct WantedWaste {
    /// Files that may be equal.
    pub copies: bool,
    /// Titles in several files.
    pub versions: bool,
}

impl WantedWaste {
    /// Everything.
    pub const ALL: Self = Self { copies: true, versions: true };
}

/// Looks at names and sizes.
pub fn plan(stock: &Inventory, patterns: &Patterns, asked: WantedWaste) -> Plan {
    let leftovers = leftovers(stock, patterns);
    let titles = if asked.versions { titles(stock, &leftovers.taken) } else { Vec::new() };
    let same_size = if asked.copies { same_size(stock, &leftovers) } else { Vec::new() };
    Plan { leftovers, same_size, titles }
}

fn same_size(stock: &Inventory, leftovers: &Leftovers) -> Vec<Vec<FileId>> {
    let is_free = |file: FileId| {
        let taken = &leftovers.taken;
        taken.is_empty() || stock.names(file).iter().any(|name| !taken.contains(name))
    };
    let mut sized: Vec<(Reverse<u64>, FileId)> = stock
        .files()
        .map(|file| (Reverse(stock.size(file)), file))
        .filter(|(size, file)| size.0 > 0 && is_free(*file))
        .collect();
    sized.par_sort_unstable();
    let classes = sized.chunk_by(|one, other| one.0 == other.0).filter(|class| class.len() > 1);
    classes.map(|class| class.iter().map(|(_, file)| *file).collect()).collect()
}
