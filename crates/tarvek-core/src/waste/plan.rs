//! What has to be read, so that waste can be judged.

use std::collections::HashMap;

use crate::waste::leftovers::{Leftovers, leftovers};
use crate::waste::pattern::Patterns;
use crate::waste::stock::{FileId, Stock};
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
pub struct Asked {
    /// Files that may be equal.
    pub copies: bool,
    /// Titles in several files.
    pub versions: bool,
}

impl Asked {
    /// Everything.
    pub const ALL: Self = Self { copies: true, versions: true };
}

/// Looks at names and sizes.
pub fn plan(stock: &Stock, patterns: &Patterns, asked: Asked) -> Plan {
    let leftovers = leftovers(stock, patterns);
    let titles = if asked.versions { titles(stock, &leftovers.taken) } else { Vec::new() };
    let same_size = if asked.copies { same_size(stock, &leftovers) } else { Vec::new() };
    Plan { leftovers, same_size, titles }
}

fn same_size(stock: &Stock, leftovers: &Leftovers) -> Vec<Vec<FileId>> {
    let mut sizes: HashMap<u64, u32> = HashMap::new();
    let counts = |file: &FileId| {
        let size = stock.meta(*file).size;
        let free = || stock.names(*file).iter().any(|name| !leftovers.taken.contains(name));
        (size > 0 && free()).then_some(size)
    };
    for size in stock.files().filter_map(|file| counts(&file)) {
        *sizes.entry(size).or_default() += 1;
    }
    let mut of_size: HashMap<u64, Vec<FileId>> = HashMap::new();
    for file in stock.files() {
        if let Some(size) = counts(&file).filter(|size| sizes[size] > 1) {
            of_size.entry(size).or_default().push(file);
        }
    }
    let mut same_size: Vec<(u64, Vec<FileId>)> = of_size.into_iter().collect();
    same_size.sort_by_key(|(size, files)| (std::cmp::Reverse(*size), files[0]));
    same_size.into_iter().map(|(_, files)| files).collect()
}
