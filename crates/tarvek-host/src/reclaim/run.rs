//! A review, line by line.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::ffi::OsStr;
use std::fs::File;
use std::os::unix::ffi::OsStrExt;
use std::sync::atomic::Ordering;

use tarvek_core::kernel::entry::Meta;
use tarvek_core::waste::group::{Decision, Waste};
use tarvek_core::waste::stock::HELD;
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::text::shown;
use tarvek_core::words::word::Word;
use tarvek_formats::review::{Review, Row};

use super::act::{Readers, Spot, drop_name, intent, is_empty, link_name, verified};
use super::compare::equal;
use super::held::{Holding, above, look};
use super::journal::{Bytes, Known, Stage, Stays, Was, held_name};
use super::purge::purge;
use super::undo::{put_back, recover, undo};
use super::{Deed, Report, State, Step};
use crate::contents::{Holders, shared_bytes};
use crate::walk::Watch;

/// What is to be done with a review.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Mode {
    /// What it says.
    Do,
    /// What was broken off, then the rest of it.
    Resume,
    /// Put everything back.
    Undo,
    /// Delete what is held.
    Purge,
}

/// Does what a review says, or shows it.
pub fn reclaim(
    review: &Review,
    host: &str,
    mode: Mode,
    yes: bool,
    readers: &dyn Readers,
    watch: &Watch,
) -> Report {
    let mut run = Run {
        review,
        host,
        yes,
        readers,
        watch,
        holdings: BTreeMap::new(),
        broken: HashMap::new(),
        earlier: HashMap::new(),
        report: Report::default(),
    };
    run.find_holdings();
    match mode {
        Mode::Do | Mode::Resume => run.all(),
        Mode::Undo => run.each_known(|holding, step, run| undo(holding, step, run.yes)),
        Mode::Purge => run.purge(),
    }
    run.finish()
}

struct Run<'a> {
    review: &'a Review,
    host: &'a str,
    yes: bool,
    readers: &'a dyn Readers,
    watch: &'a Watch,
    /// By the folder that they lie in.
    holdings: BTreeMap<AbsPath, Holding>,
    /// Holding folders that can't be used, and why.
    broken: HashMap<AbsPath, String>,
    /// Steps of earlier runs, by path.
    earlier: HashMap<AbsPath, Vec<Known>>,
    report: Report,
}

/// What came of a line.
struct Outcome {
    state: State,
    /// What the file was; `None` where nothing was left to be done.
    meta: Option<Meta>,
    why: Option<String>,
}

impl Run<'_> {
    fn stopped(&self) -> bool {
        self.watch.stop.load(Ordering::Relaxed)
    }

    /// The holding folders that are there already, wherever a line of the review may have led.
    fn find_holdings(&mut self) {
        let mut seen: HashSet<AbsPath> = HashSet::new();
        for row in &self.review.rows {
            let folders = std::iter::successors(row.path.parent(), AbsPath::parent);
            let inside = |folder: &AbsPath| match &row.root {
                Some(root) => folder.within(root),
                None => Some(folder) == row.path.parent().as_ref(),
            };
            for folder in folders.take_while(inside) {
                if !seen.insert(folder.clone()) {
                    break;
                }
                let held = folder.child(HELD.as_bytes());
                if std::fs::symlink_metadata(OsStr::from_bytes(held.as_bytes())).is_ok() {
                    self.hold(&folder, false);
                }
            }
        }
    }

    /// Opens the holding folder in a folder, and makes it if it is to be used.
    fn hold(&mut self, above: &AbsPath, make: bool) {
        if self.holdings.contains_key(above) || self.broken.contains_key(above) {
            return;
        }
        match Holding::open(above, make) {
            Ok(Some(holding)) => _ = self.holdings.insert(above.clone(), holding),
            Ok(None) => {}
            Err(why) => _ = self.broken.insert(above.clone(), why),
        }
    }

    fn all(&mut self) {
        if self.yes {
            self.settle();
        }
        for known in self.holdings.values().flat_map(|holding| holding.journal.steps.values()) {
            self.earlier.entry(known.intent.path.0.clone()).or_default().push(known.clone());
        }
        for bad in &self.review.bad {
            self.report.refuse(&bad.path, Deed::Drop, format!("line {}: {}", bad.line, bad.why));
        }
        let mut seen: HashSet<&AbsPath> = HashSet::new();
        let mut twice: HashSet<&AbsPath> = HashSet::new();
        for row in &self.review.rows {
            if !seen.insert(&row.path) {
                twice.insert(&row.path);
            }
        }
        let mut groups: HashMap<&str, Vec<&Row>> = HashMap::new();
        for row in self.review.rows.iter().filter(|row| !twice.contains(&row.path)) {
            groups.entry(row.group.as_str()).or_default().push(row);
        }
        let takes = |row: &&Row| matches!(row.decision, Decision::Drop | Decision::Link);
        // Folders go when they are empty: the innermost last of all files, before what it is in.
        let (mut files, mut folders): (Vec<&Row>, Vec<&Row>) =
            self.review.rows.iter().filter(takes).partition(|row| {
                let waits = row.bytes == Some(0) && row.digest.is_empty();
                !(waits
                    && Spot::of(&row.path)
                        .is_ok_and(|spot| spot.look().is_ok_and(|meta| meta.is_folder())))
            });
        folders.sort_by_key(|row| std::cmp::Reverse(row.path.components().count()));
        files.append(&mut folders);
        let mut links: HashMap<(u64, u64), u32> = HashMap::new();
        for row in &files {
            if let Some(id) = row.device.zip(row.inode) {
                *links.entry(id).or_default() += 1;
            }
        }
        let going: HashSet<AbsPath> = files.iter().map(|row| row.path.clone()).collect();
        let mut counted: HashSet<(u64, u64)> = HashSet::new();
        for row in files {
            if self.stopped() {
                self.report.stopped = true;
                break;
            }
            let deed = if row.decision == Decision::Link { Deed::Link } else { Deed::Drop };
            let group = groups.get(row.group.as_str()).map(Vec::as_slice).unwrap_or_default();
            let outcome = match twice.contains(&row.path) {
                true => Err("it stands twice in the review".to_owned()),
                false => self.row(row, deed, group, &going),
            };
            match outcome {
                Ok(Outcome { state, meta, why }) => {
                    let id = row.device.zip(row.inode);
                    let first = id.is_none_or(|id| counted.insert(id));
                    let all = id.and_then(|id| links.get(&id)).copied().unwrap_or(1);
                    let frees = meta.filter(|_| first).map_or(0, |meta| frees(row, &meta, all));
                    let path = row.path.as_bytes().to_vec();
                    self.report.steps.push(Step {
                        path,
                        deed,
                        frees,
                        state,
                        before: meta.is_none(),
                        why,
                    });
                }
                Err(_) if self.stopped() => {
                    self.report.stopped = true;
                    break;
                }
                Err(why) => self.report.refuse(row.path.as_bytes(), deed, why),
            }
        }
    }

    /// Brings to an end what was broken off.
    fn settle(&mut self) {
        for holding in self.holdings.values_mut() {
            let begun: Vec<u64> = holding
                .journal
                .steps
                .iter()
                .filter(|(_, known)| known.stage == Stage::Begun)
                .map(|(step, _)| *step)
                .collect();
            for step in begun {
                if let Err(why) = recover(holding, step) {
                    let known = &holding.journal.steps[&step];
                    let path = known.intent.path.0.as_bytes().to_vec();
                    self.report.refuse(&path, known.intent.deed(), why);
                }
            }
        }
    }

    /// Whether a line was done before, and nothing has changed since.
    fn done_before(&self, row: &Row, deed: Deed) -> bool {
        let Some(earlier) = self.earlier.get(&row.path) else { return false };
        let now =
            Spot::of(&row.path).and_then(|spot| spot.look().map_err(|error| error.to_string()));
        let done = |known: &Known| {
            known.intent.deed() == deed
                && matches!(known.stage, Stage::Done | Stage::Purging | Stage::Purged(_))
                && Some(known.intent.was.inode) == row.inode
                && match (deed, &now) {
                    (Deed::Link, Ok(meta)) => {
                        known.intent.stays.first().is_some_and(|stays| stays.was.is_same_file(meta))
                    }
                    (_, Ok(_)) => false,
                    (_, Err(_)) => true,
                }
        };
        earlier.iter().any(done)
    }

    /// Does what a line says, or shows it.
    fn row(
        &mut self,
        row: &Row,
        deed: Deed,
        group: &[&Row],
        going: &HashSet<AbsPath>,
    ) -> Result<Outcome, String> {
        if !row.host.is_empty() && row.host != self.host {
            return Err(format!(
                "it is a file of {}: run reclaim there",
                shown(row.host.as_bytes())
            ));
        }
        if self.done_before(row, deed) {
            let why = Some("done before".to_owned());
            return Ok(Outcome { state: State::Done, meta: None, why });
        }
        let kind = Waste::named(&row.kind)
            .ok_or_else(|| format!("{:?} is no kind of waste", shown(row.kind.as_bytes())))?;
        let spot = Spot::of(&row.path)?;
        let meta = verified(&spot, row)?;
        let was = Was::of(&meta).ok_or("its filesystem does not number files")?;
        let pairs = matches!(kind, Waste::Copy | Waste::Unlinked | Waste::Version);
        if !pairs && deed == Deed::Link {
            return Err("nothing is there to make it a link of".to_owned());
        }
        if pairs && meta.is_folder() {
            return Err("it is a folder".to_owned());
        }
        let own_folder = above(row.root.as_ref(), &row.path.parent().unwrap_or_else(AbsPath::root))
            .map_err(|error| format!("its folder can't be opened: {error}"))?;
        if meta.is_folder() && !self.empties(&spot, &row.path, going) {
            return Err("it is not empty".to_owned());
        }
        let kept = match pairs {
            true => Some(self.kept(row, deed, group, &spot, &meta)?),
            false => None,
        };
        if let (Some(kept), Deed::Link) = (&kept, deed) {
            let lose = self.readers.lose(&row.path, &kept.path)?;
            if let Some(first) = lose.first() {
                let more = if lose.len() > 1 {
                    format!(" and {} more", lose.len() - 1)
                } else {
                    String::new()
                };
                return Err(format!("as a link {first}{more} could no longer read it"));
            }
        }
        if !self.yes {
            return Ok(Outcome { state: State::Planned, meta: Some(meta), why: None });
        }
        self.hold(&own_folder, true);
        let Some(holding) = self.holdings.get_mut(&own_folder) else {
            let why = self.broken.get(&own_folder).cloned();
            return Err(why.unwrap_or_else(|| "it can't be held".to_owned()));
        };
        let stays = kept
            .iter()
            .map(|kept| Stays { path: Bytes(kept.path.clone()), was: kept.was })
            .collect();
        let is_equal = kept.as_ref().is_some_and(|kept| kept.equal);
        let word = if deed == Deed::Link { "link" } else { "drop" };
        let step = holding.journal.begin(intent(row, word, &meta, stays, is_equal)?)?;
        let outcome = match (deed, &kept) {
            (Deed::Link, Some(kept)) => {
                link_name(holding, &spot, step, &was, (&kept.file, &kept.was))
            }
            _ => drop_name(holding, &spot, step, &was).map(|()| None),
        };
        match outcome {
            Ok(left) => {
                holding.journal.done(step)?;
                // Whoever changes or removes what is kept at that very moment must not take the last of it.
                if let Some(kept) = kept.filter(|kept| !kept.is_there()) {
                    let known = holding.journal.steps[&step].clone();
                    put_back(holding, step, &known)?;
                    holding.journal.undone(step)?;
                    return Err(format!("{} was kept instead, and changed meanwhile", kept.path));
                }
                Ok(Outcome { state: State::Done, meta: Some(meta), why: left })
            }
            Err(why) => {
                // What could not go back is held all the same.
                match look(&holding.folder, held_name(step).as_bytes()) {
                    Ok(_) => holding.journal.done(step)?,
                    Err(_) => holding.journal.refused(step)?,
                }
                Err(why)
            }
        }
    }

    /// Whether a folder is empty, or will be once what is planned is done.
    fn empties(&self, spot: &Spot, path: &AbsPath, going: &HashSet<AbsPath>) -> bool {
        if self.yes {
            return is_empty(&spot.folder, &spot.name);
        }
        let entries = std::fs::read_dir(OsStr::from_bytes(path.as_bytes()));
        entries.is_ok_and(|entries| {
            entries.into_iter().all(|entry| {
                entry.is_ok_and(|entry| going.contains(&path.child(entry.file_name().as_bytes())))
            })
        })
    }

    /// A file of the group that stays: with the same bytes, where the group is one of equal files.
    fn kept(
        &self,
        row: &Row,
        deed: Deed,
        group: &[&Row],
        spot: &Spot,
        meta: &Meta,
    ) -> Result<Kept, String> {
        if row.group.is_empty() {
            return Err(
                "the line names no group, so that nothing is known to be kept for it".to_owned()
            );
        }
        let stays = |other: &&&Row| matches!(other.decision, Decision::Keep | Decision::Ignore);
        let mut keepers: Vec<&Row> = group.iter().filter(stays).copied().collect();
        if keepers.is_empty() {
            // Whoever drops all of a group keeps the one that stands first.
            match group.first() {
                Some(first) if first.path != row.path => keepers.push(first),
                _ => return Err("it is the last of its group, and stays".to_owned()),
            }
        }
        let needs_equal = row.kind != Waste::Version.word() || deed == Deed::Link;
        let mut fault = "none of its group is kept".to_owned();
        for keeper in keepers {
            match self.keeps(row, keeper, needs_equal, deed, spot, meta) {
                Ok(kept) => return Ok(kept),
                Err(why) => fault = format!("{} is kept instead, and {why}", keeper.path),
            }
            if self.stopped() {
                break;
            }
        }
        Err(fault)
    }

    fn keeps(
        &self,
        row: &Row,
        keeper: &Row,
        needs_equal: bool,
        deed: Deed,
        spot: &Spot,
        meta: &Meta,
    ) -> Result<Kept, String> {
        let own = Spot::of(&keeper.path)?;
        let of_keeper = verified(&own, keeper)?;
        let was = Was::of(&of_keeper).ok_or("its filesystem does not number files")?;
        let file = own.open()?;
        if deed == Deed::Link && of_keeper.device != meta.device {
            return Err("it lies on another filesystem".to_owned());
        }
        let same_file = (of_keeper.device, of_keeper.inode) == (meta.device, meta.inode);
        if same_file && deed == Deed::Link {
            return Err("both are one file already".to_owned());
        }
        if needs_equal && !same_file && self.yes {
            let other = spot.open()?;
            if !equal(&other, &file, meta.size, self.watch)? {
                return Err("has other bytes".to_owned());
            }
            // Nobody wrote to either while they were compared.
            verified(spot, row)?;
            verified(&own, keeper)?;
        }
        Ok(Kept { path: keeper.path.clone(), was, file, equal: needs_equal })
    }

    /// Every step of the review that its holding folders know, the last one first.
    fn each_known(&mut self, mut work: impl FnMut(&mut Holding, u64, &RunFlags) -> Option<Step>) {
        let paths: HashSet<&AbsPath> = self.review.rows.iter().map(|row| &row.path).collect();
        let flags = RunFlags { yes: self.yes };
        for why in self.broken.values() {
            self.report.refuse(b"", Deed::Drop, why.clone());
        }
        for holding in self.holdings.values_mut() {
            let steps: Vec<u64> = holding
                .journal
                .steps
                .iter()
                .rev()
                .filter(|(_, known)| paths.contains(&known.intent.path.0))
                .map(|(step, _)| *step)
                .collect();
            for step in steps {
                if self.watch.stop.load(Ordering::Relaxed) {
                    self.report.stopped = true;
                    return;
                }
                self.report.steps.extend(work(holding, step, &flags));
            }
        }
    }

    fn purge(&mut self) {
        let ids: HashSet<(u64, u64)> = self
            .holdings
            .values()
            .flat_map(|holding| holding.journal.steps.values())
            .filter(|known| matches!(known.stage, Stage::Done | Stage::Purging))
            .map(|known| (known.intent.was.device, known.intent.was.inode))
            .collect();
        let holders = Holders::of(&ids);
        let watch = self.watch;
        if self.yes {
            self.settle();
        }
        self.each_known(|holding, step, run| {
            let of = |known: &Known| (known.intent.was.device, known.intent.was.inode);
            let own = of(holding.journal.steps.get(&step)?);
            // All names of a file that are held go together; where that is only shown, the first of them says what comes back.
            let held = |known: &&Known| {
                matches!(known.stage, Stage::Done | Stage::Purging) && of(known) == own
            };
            let names = holding.journal.steps.values().filter(held).count() as u32;
            let first = holding
                .journal
                .steps
                .iter()
                .find(|(_, known)| held(known))
                .map(|(first, _)| *first);
            let going = match run.yes {
                true => 1,
                false if first == Some(step) => names,
                false => 0,
            };
            purge(holding, step, (run.yes, going), &holders, watch)
        });
        if self.yes {
            let of = |step: &Step| if step.state == State::Done { step.frees } else { 0 };
            self.report.freed = self.report.steps.iter().map(of).sum();
        }
    }

    fn finish(mut self) -> Report {
        let mut counted = HashSet::new();
        for holding in self.holdings.values() {
            for (step, known) in &holding.journal.steps {
                let held = matches!(known.stage, Stage::Done | Stage::Purging)
                    && look(&holding.folder, held_name(*step).as_bytes()).is_ok();
                if held && counted.insert((known.intent.was.device, known.intent.was.inode)) {
                    self.report.held += known.intent.allocated;
                }
            }
            self.report.folders.push(holding.path());
        }
        self.report
    }
}

/// What a step has to know of its run.
struct RunFlags {
    yes: bool,
}

/// A file that stays.
struct Kept {
    path: AbsPath,
    was: Was,
    file: File,
    equal: bool,
}

impl Kept {
    /// Whether it is there still, as it was.
    fn is_there(&self) -> bool {
        Spot::of(&self.path).is_ok_and(|spot| spot.look().is_ok_and(|meta| self.was.is(&meta)))
    }
}

/// What comes back once a file is purged, of which so many names are to go.
fn frees(row: &Row, meta: &Meta, going: u32) -> u64 {
    if meta.is_folder() || going < meta.links {
        return 0;
    }
    let shared = shared_bytes(&row.path, meta).unwrap_or(0);
    meta.allocated.unwrap_or(meta.size).saturating_sub(shared)
}
