//! `tarvek waste`.

use std::cell::RefCell;
use std::collections::{HashMap, HashSet};
use std::path::Path;
use std::sync::atomic::Ordering;

use tarvek_core::facts::host::{Gap, Source};
use tarvek_core::facts::media::Media;
use tarvek_core::waste::back::{Exam, going};
use tarvek_core::waste::found::{Contents, count, groups};
use tarvek_core::waste::group::{Group, Item, Waste};
use tarvek_core::waste::inventory::{FileId, Inventory};
use tarvek_core::waste::pattern::Patterns;
use tarvek_core::waste::plan::{Plan, WantedWaste, plan};
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::text::counted;
use tarvek_formats::ignored::Ignored;
use tarvek_host::contents::{
    Cache, Candidate, Going, Holders, Memory, Nowhere, Settled, Snapshots, examine, settle,
    shared_bytes,
};
use tarvek_host::filesystem::{FilesystemId, identity_at};
use tarvek_host::media;
use tarvek_host::store::open_seen;
use tarvek_host::walk::Watch;

use super::progress::{interruptible, with_progress};
use crate::cli::{Globals, TableFormat, WasteArgs};
use crate::inputs::{self, waste_places};
use crate::outcome::{Failure, Outcome};
use crate::view::waste::{self, WasteReport};
use crate::view::{Screen, Volume, json, review};

pub(super) fn run(
    globals: &Globals,
    args: &WasteArgs,
    screen: &Screen,
) -> Result<Outcome, Failure> {
    let watch = interruptible();
    let mut places =
        with_progress(&watch, "entries", screen, || waste_places(globals, &args.folders, &watch))?;
    let ignored = args.ignored.clone().or_else(|| places.ignored.take());
    let ignored = match &ignored {
        Some(file) => inputs::ignored(file)?,
        None => Ignored::default(),
    };
    for what in &places.unseen {
        screen.complain(&format!("{what}; its waste is not known\n"));
    }
    let cache = args.cache.as_deref().map(open_cache).transpose()?;
    let stock = Inventory::new(&places.site, places.areas, &places.named);
    screen.tell_partial(places.site.partial());
    let patterns = Patterns::new(&places.site.layout.waste.leftovers);
    let plan = plan(&stock, &patterns, kinds(args));
    let read = Read::of(&stock, &plan, cache.as_ref(), &watch, screen)?;
    let mut found = groups(&stock, &patterns, plan, &read);
    let exams = exams(&stock, &found);
    count(&stock, &mut found, &|file| exams.of.get(&file).cloned());
    let mut failed = read.settled.failed;
    failed.extend(exams.failed);
    failed.sort_by(|a, b| a.path.cmp(&b.path));
    failed.dedup();
    let hidden = found.iter().filter(|group| ignored.has(&group.id)).count() as u64;
    let shown: Vec<Group> = found
        .into_iter()
        .filter(|group| {
            (args.show_ignored || !ignored.has(&group.id)) && asked(args, &stock, group)
        })
        .collect();
    let media = read.headers.into_inner();
    let filesystems = filesystems(&stock, &shown);
    let told = WasteReport {
        stock: &stock,
        groups: &shown,
        media: &media,
        filesystems: &filesystems,
        ignored: &ignored,
        hidden: if args.show_ignored { 0 } else { hidden },
        bytes_read: read.settled.bytes,
        header_bytes: read.header_bytes,
        carried: read.settled.carried,
        undecided: read.undecided,
        failed: &failed,
        blind: exams.blind,
        stopped: watch.stop.load(Ordering::Relaxed),
        unseen: &places.unseen,
        filtered: is_filtered(args),
    };
    if let Some(why) = &read.settled.forgets {
        screen.complain(&format!("what was read can't be kept: {why}\n"));
    }
    if read.undecided > 0 {
        screen.complain(&format!(
            "{} of surveys may be equal to others, and {} no digest: `tarvek survey --digests` on \
             those hosts tells\n",
            counted(read.undecided, "file"),
            if read.undecided == 1 { "has" } else { "have" },
        ));
    }
    let text = match args.format {
        TableFormat::Text => waste::text(&told, screen),
        TableFormat::Json => {
            json::text(&json::Waste::new(&told).with_partial(places.site.partial()))
        }
        TableFormat::Csv => String::from_utf8(review::text(&told)).expect("a table is UTF-8"),
    };
    screen.say(&text)?;
    if let Some(file) = &args.review {
        inputs::write_new(file, &review::text(&told))?;
        if screen.volume() != Volume::Quiet {
            screen.complain(&format!(
                "{} written for review: edit `decision`, then `tarvek reclaim {}`\n",
                counted(shown.iter().map(|group| group.items.len() as u64).sum(), "line"),
                inputs::name_of(file)
            ));
        }
    }
    if watch.stop.load(Ordering::Relaxed) {
        let kept = if cache.is_some() { "; what was read is kept" } else { "" };
        return Err(Failure::with_remedy(
            format!("interrupted: not everything was compared{kept}"),
            "run it again to go on",
        ));
    }
    // Where nothing could be looked at there is no answer.
    let blind = stock.areas.is_empty() && !places.unseen.is_empty();
    Ok(if blind { Outcome::Unanswered } else { Outcome::Fine })
}

/// What the filesystems of this machine are known by, by their device numbers of now.
fn filesystems(stock: &Inventory, groups: &[Group]) -> HashMap<u64, FilesystemId> {
    let mut known: HashMap<u64, Option<FilesystemId>> = HashMap::new();
    for item in groups.iter().flat_map(|group| &group.items) {
        let tree = stock.tree(item.name);
        let Some(device) = tree.meta(item.name.node).device else { continue };
        if stock.facts(item.name).source == Source::Live {
            known.entry(device).or_insert_with(|| {
                let parent = tree.parent(item.name.node);
                let is_own = tree.meta(parent).device == Some(device);
                is_own.then(|| identity_at(&tree.path(parent))).flatten()
            });
        }
    }
    known.into_iter().filter_map(|(device, id)| Some((device, id?))).collect()
}

fn open_cache(file: &Path) -> Result<Cache, Failure> {
    Cache::open(file).map_err(|error| inputs::store_failure(file, &error))
}

/// What is needed for the kinds that somebody asks for.
fn kinds(args: &WasteArgs) -> WantedWaste {
    let wants =
        |kinds: &[Waste]| args.kind.is_empty() || args.kind.iter().any(|kind| kinds.contains(kind));
    WantedWaste {
        copies: wants(&[Waste::Copy, Waste::Unlinked, Waste::Version]),
        versions: wants(&[Waste::Version]),
    }
}

fn is_filtered(args: &WasteArgs) -> bool {
    !args.kind.is_empty()
        || !args.library.is_empty()
        || args.at_least.is_some()
        || args.below.is_some()
}

/// Whether somebody asks for a group.
fn asked(args: &WasteArgs, stock: &Inventory, group: &Group) -> bool {
    let below = args.below.as_ref().map(|below| {
        let path = std::path::absolute(below).unwrap_or_else(|_| below.into());
        AbsPath::new(path.as_os_str().as_encoded_bytes()).ok()
    });
    let any = |is: &dyn Fn(&Item) -> bool| group.items.iter().any(is);
    (args.kind.is_empty() || args.kind.contains(&group.kind))
        && (args.library.is_empty()
            || any(&|item| {
                args.library.iter().any(|name| stock.area(item.name).name == *name.as_str())
            }))
        && args.at_least.is_none_or(|least| {
            any(&|item| stock.tree(item.name).meta(item.name.node).size >= least)
        })
        && below.is_none_or(|below| {
            below.is_some_and(|below| any(&|item| stock.path(item.name).within(&below)))
        })
}

/// What was read of files.
struct Read<'a> {
    stock: &'a Inventory<'a>,
    settled: Settled,
    headers: RefCell<HashMap<FileId, Option<Media>>>,
    header_bytes: u64,
    /// Files of surveys without a digest that may be equal to others.
    undecided: u64,
}

impl<'a> Read<'a> {
    fn of(
        stock: &'a Inventory<'a>,
        plan: &Plan,
        cache: Option<&Cache>,
        watch: &Watch,
        screen: &Screen,
    ) -> Result<Self, Failure> {
        let is_live = |file: FileId| stock.facts(stock.names(file)[0]).source == Source::Live;
        let digest = |file: FileId| {
            let name = stock.names(file)[0];
            stock
                .names(file)
                .iter()
                .find_map(|other| stock.facts(name).digests.get(&other.node).copied())
        };
        let mut undecided = 0;
        let classes: Vec<Vec<u32>> = plan
            .same_size
            .iter()
            .map(|files| {
                let known = |file: &&FileId| is_live(**file) || digest(**file).is_some();
                let class: Vec<u32> = files.iter().filter(known).map(|file| file.0).collect();
                undecided += (files.len() - class.len()) as u64;
                class
            })
            .filter(|class| class.len() > 1)
            .collect();
        let candidate = |id: u32| {
            let file = FileId(id);
            Candidate {
                path: stock.path(stock.names(file)[0]),
                meta: stock.meta(file),
                digest: if is_live(file) { None } else { digest(file) },
            }
        };
        let expected: u64 = classes
            .iter()
            .map(|class| stock.meta(FileId(class[0])).size * class.len() as u64)
            .sum();
        watch.expected.store(expected, Ordering::Relaxed);
        let memory: &dyn Memory = cache.map_or(&Nowhere, |cache| cache);
        let settled = with_progress(watch, "files of equal size", screen, || {
            settle(&classes, &candidate, memory, watch)
        });
        watch.expected.store(0, Ordering::Relaxed);
        let mut read =
            Self { stock, settled, headers: RefCell::default(), header_bytes: 0, undecided };
        for version in plan.titles.iter().flat_map(|title| &title.files) {
            if !watch.stop.load(Ordering::Relaxed) {
                read.header(version.file, cache);
            }
        }
        if let Some(cache) = cache {
            cache.flush().map_err(|error| Failure::new(error.to_string()))?;
        }
        Ok(read)
    }

    fn header(&mut self, file: FileId, cache: Option<&Cache>) {
        let name = self.stock.names(file)[0];
        let facts = self.stock.facts(name);
        let known = facts.media.get(&name.node).cloned();
        let (path, meta) = (self.stock.path(name), self.stock.meta(file));
        let media = match known.or_else(|| cache?.header(&path, &meta)) {
            Some(known) => known,
            None if facts.source == Source::Live => match open_seen(&path, &meta) {
                Ok(open) => {
                    let (media, bytes) = media::facts(open, meta.size);
                    self.header_bytes += bytes;
                    let kept = cache.map(|cache| cache.learn_header(&path, &meta, media.as_ref()));
                    if let Some(Err(why)) = kept {
                        self.settled.forgets = Some(why);
                    }
                    media
                }
                Err(why) => {
                    self.settled.failed.push(Gap { path, why: why.into() });
                    None
                }
            },
            None => None,
        };
        self.headers.get_mut().insert(file, media);
    }
}

impl Contents for Read<'_> {
    fn is_whole(&self, file: FileId) -> bool {
        // Of files that are mostly holes only what is not zero was read.
        !self.settled.sparse.contains(&file.0)
    }

    fn is_shared(&self, file: FileId) -> bool {
        let first = self.stock.names(file)[0];
        self.stock.facts(first).source == Source::Live
            && shared_bytes(&self.stock.path(first), &self.stock.meta(file)) > Some(0)
    }

    fn digest(&self, file: FileId) -> Option<[u8; 32]> {
        self.settled.digests.get(&file.0).copied()
    }

    fn media(&self, file: FileId) -> Option<Media> {
        self.headers.borrow().get(&file).cloned().flatten()
    }
}

/// What keeps the blocks of files that would go.
struct Exams {
    of: HashMap<FileId, Exam>,
    failed: Vec<Gap>,
    /// Whether processes of others could not be looked at.
    blind: bool,
}

fn exams(stock: &Inventory, groups: &[Group]) -> Exams {
    let names = going(stock, groups);
    let mut going: Vec<FileId> = names
        .keys()
        .copied()
        .filter(|file| stock.facts(stock.names(*file)[0]).source == Source::Live)
        .collect();
    going.sort_unstable();
    let id = |file: &FileId| stock.meta(*file).device.zip(stock.meta(*file).inode);
    let holders = Holders::of(&going.iter().filter_map(id).collect::<HashSet<_>>());
    let whole = |file: &&FileId| names[*file].len() as u64 >= u64::from(stock.meta(**file).links);
    let whole = going.iter().filter(whole).filter_map(id).filter(|id| !holders.hold(*id));
    let mut together = Going::of(whole.collect());
    let live = stock.hosts.iter().find(|facts| facts.source == Source::Live);
    let mounts = live.and_then(|facts| facts.mounts.as_ref());
    let snapshots = Snapshots::of(mounts.filter(|_| !going.is_empty()));
    let mut exams = Exams { of: HashMap::new(), failed: Vec::new(), blind: holders.partial };
    for file in going {
        match examine(
            &stock.path(stock.names(file)[0]),
            &stock.meta(file),
            &holders,
            &mut together,
            (&snapshots, mounts),
        ) {
            Ok(exam) => _ = exams.of.insert(file, exam),
            Err(gap) => {
                // Nothing is promised of what can't be looked at.
                let exam = Exam { shared: u64::MAX, ..Exam::default() };
                exams.of.insert(file, exam);
                exams.failed.push(gap);
            }
        }
    }
    exams
}
