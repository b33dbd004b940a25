//! Groups of what is wasted, from what was planned and what was read.

use std::cmp::Reverse;
use std::collections::{HashMap, HashSet};

use crate::facts::media::Media;
use crate::waste::back::{self, Exam};
use crate::waste::copies::{beside, copies};
use crate::waste::group::{Group, Suggest, Waste};
use crate::waste::pattern::Patterns;
use crate::waste::plan::Plan;
use crate::waste::stock::{FileId, NameAt, Stock};
use crate::waste::versions::versions;

/// What was read of files.
pub trait Contents {
    /// The digest of a file, where it was needed and could be had.
    fn digest(&self, file: FileId) -> Option<[u8; 32]>;
    /// What its header says.
    fn media(&self, file: FileId) -> Option<Media>;
}

/// Groups, before it is counted what comes back.
pub fn groups(
    stock: &Stock,
    patterns: &Patterns,
    plan: Plan,
    contents: &dyn Contents,
) -> Vec<Group> {
    let mut taken: HashSet<NameAt> = plan.leftovers.taken;
    let mut groups = plan.leftovers.groups;
    let mut equal: HashMap<[u8; 32], Vec<FileId>> = HashMap::new();
    for file in plan.same_size.iter().flatten() {
        if let Some(digest) = contents.digest(*file) {
            equal.entry(digest).or_default().push(*file);
        }
    }
    equal.retain(|_, files| files.len() > 1);
    let copied: HashMap<FileId, [u8; 32]> = equal
        .iter()
        .flat_map(|(digest, files)| files.iter().map(|file| (*file, *digest)))
        .collect();
    let same = |file: FileId| copied.get(&file).copied();
    let media = |file: FileId| contents.media(file);
    // A title of which some files are equal is one group with all of them.
    for title in &plan.titles {
        let kinds: HashSet<Option<[u8; 32]>> = title.files.iter().map(|v| same(v.file)).collect();
        let all_equal = kinds.len() == 1 && !kinds.contains(&None);
        if all_equal {
            continue;
        }
        let Some(mut group) = versions(stock, title, &taken, &same, &media) else { continue };
        let own: HashSet<FileId> = title.files.iter().map(|version| version.file).collect();
        let outside: Vec<FileId> = kinds
            .iter()
            .flatten()
            .flat_map(|digest| equal[digest].iter().copied())
            .filter(|file| !own.contains(file))
            .collect();
        // Where nobody can say that one may go, what is equal to it counts for more.
        let goes = group.items.iter().any(|item| item.suggest == Suggest::Drop);
        if !outside.is_empty() && !goes {
            continue;
        }
        let best = group.items.first().and_then(|item| stock.file(item.name));
        for file in outside {
            let keep = best.filter(|best| same(*best) == same(file));
            group.items.extend(beside(stock, patterns, keep, file, &taken));
        }
        taken.extend(group.items.iter().map(|item| item.name));
        groups.push(group);
    }
    let mut equal: Vec<([u8; 32], Vec<FileId>)> = equal.into_iter().collect();
    equal.sort_by_key(|(_, files)| files[0]);
    for (digest, mut files) in equal {
        files.sort_unstable();
        if let Some(group) = copies(stock, patterns, &files, digest, &taken) {
            taken.extend(group.items.iter().map(|item| item.name));
            groups.push(group);
        }
    }
    // What is left of titles whose equal files belong to another group.
    for title in &plan.titles {
        if let Some(group) = versions(stock, title, &taken, &same, &media) {
            taken.extend(group.items.iter().map(|item| item.name));
            groups.push(group);
        }
    }
    groups
}

/// Counts what comes back, and puts first what brings most.
pub fn count(stock: &Stock, groups: &mut Vec<Group>, exam: &dyn Fn(FileId) -> Option<Exam>) {
    back::count(stock, groups, exam);
    let weight = |group: &Group| -> u64 {
        let all = group.items.iter().filter(|item| item.suggest != Suggest::Keep);
        all.filter_map(|item| stock.file(item.name))
            .map(|file| stock.meta(file).allocated.unwrap_or(0))
            .sum()
    };
    groups.sort_by_cached_key(|group| {
        let first = group.items.first().map(|item| stock.place(item.name));
        (Reverse(group.frees), Reverse(weight(group)), first, group.kind)
    });
}

/// What a kind or an area comes to.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Sum {
    pub groups: u64,
    /// Names that would go.
    pub files: u64,
    pub bytes: u64,
    pub at_most: bool,
    /// Groups at which somebody has to look.
    pub look: u64,
}

impl Sum {
    /// Both together.
    pub fn add_sum(&mut self, other: &Self) {
        self.groups += other.groups;
        self.files += other.files;
        self.bytes += other.bytes;
        self.at_most |= other.at_most;
        self.look += other.look;
    }

    /// With one more group.
    pub fn add(&mut self, group: &Group) {
        self.groups += 1;
        self.files += group.items.iter().filter(|item| item.suggest.takes()).count() as u64;
        self.bytes += group.frees;
        self.at_most |= group.at_most;
        self.look += u64::from(group.items.iter().any(|item| item.suggest == Suggest::Look));
    }
}

/// What each kind comes to.
pub fn by_kind(groups: &[Group]) -> Vec<(Waste, Sum)> {
    let mut sums: HashMap<Waste, Sum> = HashMap::new();
    for group in groups {
        sums.entry(group.kind).or_default().add(group);
    }
    let mut sums: Vec<(Waste, Sum)> = sums.into_iter().collect();
    sums.sort_by_key(|(kind, sum)| (Reverse(sum.bytes), *kind));
    sums
}

/// What each area gives back, by its place in [`Stock::areas`], with the groups that have files in it.
pub fn by_area(stock: &Stock, groups: &[Group]) -> Vec<(u16, Sum)> {
    let mut sums: Vec<Sum> = vec![Sum::default(); stock.areas.len()];
    for group in groups {
        let mut met = HashSet::new();
        for item in &group.items {
            let sum = &mut sums[usize::from(item.name.area)];
            sum.bytes += item.frees;
            sum.files += u64::from(item.suggest.takes());
            sum.at_most |= group.at_most && item.frees > 0;
            sum.look += u64::from(item.suggest == Suggest::Look);
            if item.suggest != Suggest::Keep && met.insert(item.name.area) {
                sum.groups += 1;
            }
        }
    }
    let mut sums: Vec<(u16, Sum)> =
        sums.into_iter().enumerate().map(|(n, sum)| (n as u16, sum)).collect();
    sums.sort_by_key(|(n, sum)| (Reverse(sum.bytes), *n));
    sums
}
