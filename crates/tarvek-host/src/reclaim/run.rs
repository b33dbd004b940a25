//! A review, line by line.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::sync::atomic::Ordering;

use tarvek_core::facts::tree::HELD;
use tarvek_core::kernel::entry::Meta;
use tarvek_core::waste::group::Decision;
use tarvek_core::words::path::AbsPath;
use tarvek_formats::review::{Review, Row};

use super::compare::{Attention, digest};
use super::entry::{Location, Pinned, is_empty, names_in, open_folder};
use super::journal::{Intent, KnownStep, LetGo, PathText, Stage};
use super::keeper::{ChosenKeeper, KeeperSearch, LeavingFile};
use super::lease::{NoWriter, WriterFault};
use super::operation::{TakeFault, move_to_quarantine, replace_by_link};
use super::purge::{PurgedStep, ctime_tells};
use super::quarantine::{Quarantine, folder_above, held_name};
use super::row::{OwnChanges, check_file, check_line, is_line_of};
use super::step::{Operation, ReclaimReport, SiteKnowledge, Step, StepState};
use super::undo::{PURGED, Restored, give_back, settle, undo};
use crate::contents::{Holders, shared_of};
use crate::walk::{self, Watch};

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

/// What is asked for.
#[derive(Clone, Copy, Debug)]
pub struct Request<'a> {
    /// What was purged by now, by path and the inode that it had: the holding folder that knew it is
    /// gone with the last of it.
    pub purged: &'a HashSet<(AbsPath, u64)>,
    pub review: &'a Review,
    /// The name of this machine in it.
    pub host: &'a str,
    pub mode: Mode,
    /// Whether it is done; else it is only shown.
    pub yes: bool,
    /// Whether a link may take rights from somebody, or give some.
    pub accept_rights: bool,
}

/// Does what a review says, or shows it.
pub fn reclaim(request: &Request, site: &dyn SiteKnowledge, watch: &Watch) -> ReclaimReport {
    let mut run = Run {
        request,
        site,
        watch,
        quarantines: BTreeMap::new(),
        broken: BTreeMap::new(),
        kept: kept_in(request.review),
        earlier: HashMap::new(),
        own: OwnChanges::new(),
        report: ReclaimReport::default(),
    };
    run.find_quarantines();
    match request.mode {
        Mode::Do | Mode::Resume => run.carry_out(),
        Mode::Undo => run.undo(),
        Mode::Purge => run.purge(),
    }
    run.finish()
}

/// Groups of a review, with the inodes of files that it keeps in them.
fn kept_in(review: &Review) -> HashSet<(&str, u64)> {
    let kept = review.rows.iter().filter(|row| row.decision == Decision::Keep);
    kept.filter_map(|row| Some((row.group.as_str(), row.inode?))).collect()
}

struct Run<'a> {
    request: &'a Request<'a>,
    site: &'a dyn SiteKnowledge,
    watch: &'a Watch,
    /// By the folder that they lie in.
    quarantines: BTreeMap<AbsPath, Quarantine>,
    /// Holding folders that can't be used, and why.
    broken: BTreeMap<AbsPath, String>,
    /// Groups, with the inodes of files that the review keeps in them.
    kept: HashSet<(&'a str, u64)>,
    /// Steps of earlier runs, by path.
    earlier: HashMap<AbsPath, Vec<KnownStep>>,
    own: OwnChanges,
    report: ReclaimReport,
}

/// What came of a line.
struct LineOutcome {
    state: StepState,
    /// What the file was, and bytes of it that others share; `None` where nothing was left to be
    /// done.
    file: Option<(Meta, u64)>,
    changes: Vec<String>,
    why: Option<String>,
}

impl Run<'_> {
    fn stopped(&self) -> bool {
        self.watch.stop.load(Ordering::Relaxed)
    }

    fn rows(&self) -> &[Row] {
        &self.request.review.rows
    }

    /// The holding folders that are there already, wherever a line of the review may have led.
    fn find_quarantines(&mut self) {
        let mut seen: HashSet<AbsPath> = HashSet::new();
        let review = self.request.review;
        for row in &review.rows {
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
                    self.open_quarantine(&folder, false);
                }
            }
        }
        for known in self.quarantines.values().flat_map(|found| found.journal.steps.values()) {
            let was = &known.intent.was;
            let changed =
                [known.left.changed, known.stage.held_identity().map(|held| held.changed)];
            let own = changed.into_iter().flatten();
            self.own.extend(own.map(|changed| (was.filesystem.clone(), was.inode, changed)));
        }
    }

    /// Opens the holding folder in a folder, and makes it if it is to be used.
    fn open_quarantine(&mut self, above: &AbsPath, make: bool) {
        if self.quarantines.contains_key(above) || self.broken.contains_key(above) {
            return;
        }
        match Quarantine::open(above, make) {
            Ok(Some(found)) => _ = self.quarantines.insert(above.clone(), found),
            Ok(None) => {}
            Err(why) => _ = self.broken.insert(above.clone(), why),
        }
    }

    /// Lines whose path stands in several of them.
    fn ambiguous(&self) -> HashSet<AbsPath> {
        let mut seen: HashSet<&AbsPath> = HashSet::new();
        let again = self.rows().iter().filter(|row| !seen.insert(&row.path));
        again.map(|row| row.path.clone()).collect()
    }

    fn refuse_bad_lines(&mut self, operation: Operation) {
        for bad in &self.request.review.bad {
            self.report.refuse(&bad.path, operation, format!("line {}: {}", bad.line, bad.why));
        }
    }

    fn carry_out(&mut self) {
        if self.request.yes {
            self.settle();
        }
        for known in self.quarantines.values().flat_map(|found| found.journal.steps.values()) {
            self.earlier.entry(known.intent.path.0.clone()).or_default().push(known.clone());
        }
        self.refuse_bad_lines(Operation::Drop);
        let ambiguous = self.ambiguous();
        let review = self.request.review;
        let mut groups: HashMap<&str, Vec<&Row>> = HashMap::new();
        for row in review.rows.iter().filter(|row| !ambiguous.contains(&row.path)) {
            groups.entry(row.group.as_str()).or_default().push(row);
        }
        // Folders go when they are empty: the innermost last of all files, before what it is in.
        let is_folder = |row: &Row| {
            row.bytes == Some(0)
                && row.digest.is_empty()
                && Location::open(row.root.as_ref(), &row.path)
                    .is_ok_and(|at| at.pin().is_ok_and(|now| now.meta.is_folder()))
        };
        let takes = |row: &&Row| matches!(row.decision, Decision::Drop | Decision::Link);
        let (mut files, mut folders): (Vec<&Row>, Vec<&Row>) =
            review.rows.iter().filter(takes).partition(|row| !is_folder(row));
        folders.sort_by_key(|row| std::cmp::Reverse(row.path.components().count()));
        files.append(&mut folders);
        let file_of =
            |row: &Row| row.inode.map(|inode| (row.filesystem.clone(), row.device, inode));
        let mut names: HashMap<_, u32> = HashMap::new();
        for row in &files {
            *names.entry(file_of(row)).or_default() += 1;
        }
        let going: HashSet<AbsPath> = files.iter().map(|row| row.path.clone()).collect();
        let mut counted = HashSet::new();
        for row in files {
            if self.stopped() {
                self.report.stopped = true;
                break;
            }
            let operation = match row.decision {
                Decision::Link => Operation::Link,
                _ => Operation::Drop,
            };
            let group = groups.get(row.group.as_str()).map(Vec::as_slice).unwrap_or_default();
            let outcome = match ambiguous.contains(&row.path) {
                true => Err("it stands twice in the review".to_owned()),
                false => self.carry_out_line(row, operation, group, &going),
            };
            match outcome {
                Ok(LineOutcome { state, file, changes, why }) => {
                    let first = counted.insert(file_of(row));
                    let all = names[&file_of(row)];
                    let frees = file.filter(|_| first).map_or(0, |file| frees(&file, all));
                    let path = row.path.as_bytes().to_vec();
                    let before = file.is_none();
                    self.report.steps.push(Step {
                        path,
                        operation,
                        frees,
                        state,
                        before,
                        changes,
                        why,
                    });
                }
                Err(_) if self.stopped() => {
                    self.report.stopped = true;
                    break;
                }
                Err(why) => self.report.refuse(row.path.as_bytes(), operation, why),
            }
        }
    }

    /// Brings to an end what was broken off.
    fn settle(&mut self) {
        for quarantine in self.quarantines.values_mut() {
            let begun = |(_, known): &(&u64, &KnownStep)| known.stage == Stage::Begun;
            let begun: Vec<u64> =
                quarantine.journal.steps.iter().filter(begun).map(|(step, _)| *step).collect();
            for step in begun {
                let outcome = settle(quarantine, step);
                let known = quarantine.step(step);
                match (outcome, known.left.changed) {
                    (Err(why), _) => {
                        let path = known.intent.path.0.as_bytes();
                        self.report.refuse(path, known.intent.operation(), why);
                    }
                    (Ok(()), Some(changed)) => {
                        let was = &known.intent.was;
                        self.own.insert((was.filesystem.clone(), was.inode, changed));
                    }
                    (Ok(()), None) => {}
                }
            }
        }
    }

    /// Whether a line was done before, and nothing has changed since.
    fn done_before(&self, row: &Row, operation: Operation) -> bool {
        let now =
            Location::open(row.root.as_ref(), &row.path).and_then(|location| location.pin_or_why());
        if self.was_purged(row) {
            return match (operation, &now) {
                (Operation::Link, Ok(now)) => self.is_kept(row, now),
                (_, Ok(_)) => false,
                (_, Err(_)) => true,
            };
        }
        let Some(earlier) = self.earlier.get(&row.path) else { return false };
        let is_done = |known: &KnownStep| {
            known.intent.operation() == operation
                && (known.stage.held_identity().is_some()
                    || matches!(known.stage, Stage::Purged(_)))
                && Some(known.intent.was.inode) == row.inode
                && match (operation, &now) {
                    (Operation::Link, Ok(now)) => {
                        known.intent.kept.as_ref().is_some_and(|kept| now.is_file_of(&kept.was))
                    }
                    (_, Ok(_)) => false,
                    (_, Err(_)) => true,
                }
        };
        earlier.iter().any(is_done)
    }

    /// Whether what a line speaks of was purged.
    fn was_purged(&self, row: &Row) -> bool {
        row.inode.is_some_and(|inode| self.request.purged.contains(&(row.path.clone(), inode)))
    }

    /// Whether a file is one that the review keeps in the group of a line.
    fn is_kept(&self, row: &Row, file: &Pinned) -> bool {
        let inode = file.meta.inode.filter(|inode| Some(*inode) != row.inode);
        inode.is_some_and(|inode| self.kept.contains(&(row.group.as_str(), inode)))
    }

    /// Does what a line says, or shows it.
    fn carry_out_line(
        &mut self,
        row: &Row,
        operation: Operation,
        group: &[&Row],
        going: &HashSet<AbsPath>,
    ) -> Result<LineOutcome, String> {
        let yes = self.request.yes;
        let kind = check_line(row, self.request.host, self.site)?;
        if self.done_before(row, operation) {
            let why = Some("done before".to_owned());
            return Ok(LineOutcome {
                state: StepState::Done,
                file: None,
                changes: Vec::new(),
                why,
            });
        }
        let location = Location::open(row.root.as_ref(), &row.path)?;
        let pinned = location.pin_or_why()?;
        check_file(row, kind, &pinned, &self.own)?;
        let is_folder = pinned.meta.is_folder();
        if !kind.needs_keeper() && operation == Operation::Link {
            return Err("nothing is there to make it a link of".to_owned());
        }
        if kind.needs_keeper() && is_folder {
            return Err("it is a folder".to_owned());
        }
        let parent = row.path.parent().unwrap_or_else(AbsPath::root);
        let above = folder_above(row.root.as_ref(), &parent)
            .map_err(|error| format!("its folder can't be opened: {}", walk::why(error)))?;
        if is_folder && !self.will_be_empty(&location, &row.path, going) {
            return Err("it is not empty".to_owned());
        }
        // What nobody may read can be taken away all the same.
        let file = pinned.read();
        let guard = match &file {
            Ok(file) => match NoWriter::of(file, &pinned.meta) {
                Ok(guard) => Some(guard),
                Err(WriterFault::Writing(who)) => return Err(who),
                Err(WriterFault::Unknown(_)) => None,
            },
            Err(_) => None,
        };
        let found = match (kind.needs_keeper(), &file) {
            (false, _) => None,
            (true, Err(why)) => return Err(why.clone()),
            (true, Ok(file)) => {
                let search = KeeperSearch {
                    row,
                    operation,
                    group,
                    host: self.request.host,
                    site: self.site,
                    own: &self.own,
                    watch: self.watch,
                    compares: yes,
                };
                let guard = guard.as_ref();
                Some(search.find_keeper(&LeavingFile {
                    location: &location,
                    pinned: &pinned,
                    file,
                    guard,
                })?)
            }
        };
        let changes = match &found {
            Some(found) if operation == Operation::Link => self.rights_change(row, found)?,
            _ => Vec::new(),
        };
        let shared = file.as_ref().map_or(0, shared_of);
        let of_file = Some((pinned.meta, shared));
        if !yes {
            return Ok(LineOutcome {
                state: StepState::Planned,
                file: of_file,
                changes,
                why: None,
            });
        }
        // Where no time tells of every write, the bytes do.
        let needs_digest = match (&found, &file) {
            (Some(found), _) => !found.is_equal,
            (None, Ok(file)) => !is_folder && !ctime_tells(file),
            (None, Err(_)) => false,
        };
        let was = match (needs_digest, &file) {
            (true, Ok(file)) => {
                let guards: Vec<&NoWriter> = guard.as_ref().into_iter().collect();
                Some(digest(file, &Attention { watch: self.watch, guards: &guards })?)
            }
            _ => None,
        };
        drop(guard);
        self.open_quarantine(&above, true);
        let Some(quarantine) = self.quarantines.get_mut(&above) else {
            let why = self.broken.get(&above).cloned();
            return Err(why.unwrap_or_else(|| "it can't be held".to_owned()));
        };
        let intent = Intent {
            word: operation.word().to_owned(),
            path: PathText(row.path.clone()),
            was: pinned.identity(),
            digest: was,
            allocated: match is_folder {
                true => 0,
                false => pinned.meta.allocated.unwrap_or(pinned.meta.size),
            },
            group: row.group.clone(),
            kind: row.kind.clone(),
            library: row.library.clone(),
            kept: found.as_ref().map(ChosenKeeper::kept_file),
            equal: found.as_ref().is_some_and(|found| found.is_equal),
        };
        let step = quarantine.journal.begin(intent)?;
        let taken = match (operation, &found) {
            (Operation::Link, Some(found)) => {
                replace_by_link(quarantine, &location, step, &pinned, &found.keeper.pinned)
            }
            _ => move_to_quarantine(quarantine, &location, step, &pinned),
        };
        let (held, remark) = match taken {
            Ok(taken) => taken,
            Err(TakeFault::Untouched(why)) => {
                let left = location.pin().ok().and_then(|now| now.meta.changed);
                quarantine.journal.refused(step, LetGo { changed: left })?;
                return Err(why);
            }
            Err(TakeFault::Held(why, identity)) => {
                quarantine.journal.done(step, identity)?;
                return Err(why);
            }
            Err(TakeFault::Stray(why, identity)) => {
                quarantine.journal.stray(step, identity)?;
                return Err(why);
            }
        };
        quarantine.journal.done(step, held.identity())?;
        self.own.insert(own_change(&held));
        // Once more, now that it can't change any more: what was kept for it has to be there.
        if let Some(found) = &found
            && !found.keeper.is_there()
        {
            match give_back(quarantine, step)? {
                Restored::Back(left) => quarantine.journal.undone(step, left)?,
                Restored::NothingTaken => quarantine.journal.undone(step, LetGo::default())?,
            }
            return Err(format!("{} was kept instead, and changed meanwhile", found.keeper.path));
        }
        Ok(LineOutcome { state: StepState::Done, file: of_file, changes, why: remark })
    }

    /// What changes for a name that becomes a link.
    ///
    /// # Errors
    /// If somebody gains or loses by it, and nobody said that they may.
    fn rights_change(&self, row: &Row, found: &ChosenKeeper) -> Result<Vec<String>, String> {
        let change = self.site.rights_change(&row.path, &found.keeper.path)?;
        if change.is_for_somebody() && !self.request.accept_rights {
            let why = format!("as a link {}", change.for_whom());
            return Err(format!("{why}; --accept-rights does it all the same"));
        }
        Ok(change.lines())
    }

    /// Whether a folder is empty, or will be once what is planned is done.
    fn will_be_empty(&self, at: &Location, path: &AbsPath, going: &HashSet<AbsPath>) -> bool {
        if self.request.yes {
            return is_empty(&at.folder, &at.name);
        }
        let names = open_folder(path).and_then(|folder| names_in(&folder));
        names.is_ok_and(|names| names.iter().all(|name| going.contains(&path.child(name))))
    }

    /// Every step that its holding folders know, the last one first, with the lines of the review
    /// that have its path.
    fn each_known(
        &mut self,
        mut work: impl FnMut(&mut Self, &AbsPath, u64, &[&Row]) -> Option<Step>,
    ) {
        let mut rows: HashMap<&AbsPath, Vec<&Row>> = HashMap::new();
        for row in &self.request.review.rows {
            rows.entry(&row.path).or_default().push(row);
        }
        for (above, why) in &self.broken {
            let path = above.child(HELD.as_bytes());
            self.report.refuse(path.as_bytes(), Operation::Drop, why.clone());
        }
        let places: Vec<AbsPath> = self.quarantines.keys().cloned().collect();
        for place in places {
            let known = self.quarantines[&place].journal.steps.iter().rev();
            let steps: Vec<(u64, Vec<&Row>)> = known
                .filter_map(|(step, known)| Some((*step, rows.get(&known.intent.path.0)?.clone())))
                .collect();
            for (step, lines) in steps {
                if self.stopped() {
                    self.report.stopped = true;
                    return;
                }
                let outcome = work(self, &place, step, &lines);
                self.report.steps.extend(outcome);
            }
        }
    }

    fn undo(&mut self) {
        let yes = self.request.yes;
        self.each_known(|run, place, step, lines| {
            let quarantine = run.quarantines.get_mut(place)?;
            // Another review may have taken another file of that name.
            let inode = Some(quarantine.step(step).intent.was.inode);
            lines.iter().any(|line| line.inode == inode).then_some(())?;
            undo(quarantine, step, yes)
        });
        self.tell_missing();
    }

    /// Names lines that were carried out as it seems, and of which no holding folder knows.
    fn tell_missing(&mut self) {
        let known: HashSet<(AbsPath, Option<u64>)> = self
            .quarantines
            .values()
            .flat_map(|found| found.journal.steps.values())
            .map(|known| (known.intent.path.0.clone(), Some(known.intent.was.inode)))
            .collect();
        let review = self.request.review;
        for row in &review.rows {
            let takes = matches!(row.decision, Decision::Drop | Decision::Link);
            let is_own = row.host.is_empty() || row.host == self.request.host;
            if !takes || !is_own || known.contains(&(row.path.clone(), row.inode)) {
                continue;
            }
            let now = Location::open(row.root.as_ref(), &row.path)
                .and_then(|location| location.pin_or_why());
            let what = match &now {
                Err(_) => "it is not there",
                Ok(now) if self.is_kept(row, now) => "it is a link of the file that is kept",
                Ok(_) => continue,
            };
            if self.was_purged(row) {
                // Only who wants it back has to hear of it.
                if self.request.mode == Mode::Undo {
                    self.report.refuse(row.path.as_bytes(), Operation::Drop, PURGED.to_owned());
                }
                continue;
            }
            let root = row.root.clone().or_else(|| row.path.parent()).unwrap_or_else(AbsPath::root);
            let why = format!(
                "{what}, and no holding folder below {root} knows of it: if one ({HELD}) was \
                 renamed or moved, put it back"
            );
            self.report.refuse(row.path.as_bytes(), Operation::Drop, why);
        }
    }

    fn purge(&mut self) {
        let wanted: HashSet<(u64, u64)> = self
            .quarantines
            .values()
            .flat_map(|found| {
                let held = |(step, known): (&u64, &KnownStep)| {
                    known.stage.held_identity()?;
                    let file = found.pin(&held_name(*step)).ok()??;
                    file.meta.device.zip(file.meta.inode)
                };
                found.journal.steps.iter().filter_map(held)
            })
            .collect();
        let holders = Holders::of(&wanted);
        if self.request.yes {
            self.settle();
        }
        self.refuse_bad_lines(Operation::Purge);
        let (yes, watch) = (self.request.yes, self.watch);
        self.each_known(|run, place, step, lines| {
            let quarantine = run.quarantines.get_mut(place)?;
            let known = quarantine.step(step).clone();
            known.stage.held_identity().or(match &known.stage {
                Stage::Stray(held) => Some(held),
                _ => None,
            })?;
            let told = |state, why: &str| {
                Some(Step {
                    operation: Operation::Purge,
                    ..Step::of(&known.intent, state, Some(why.to_owned()))
                })
            };
            let [line] = lines else {
                return told(
                    StepState::Refused,
                    "it stands twice in the review: what is held is \
                                                 kept",
                );
            };
            if !is_line_of(line, &known.intent) {
                return told(
                    StepState::Refused,
                    "its line speaks of another file or group than the one that is held: what is \
                     held is kept",
                );
            }
            // What somebody decided since counts.
            let decided = match line.decision {
                Decision::Drop => Some(Operation::Drop),
                Decision::Link => Some(Operation::Link),
                Decision::Keep | Decision::Ignore => None,
            };
            match decided {
                None => return run.give_back_kept(place, step, &known),
                Some(operation) if operation == known.intent.operation() => {}
                Some(other) => {
                    let why = format!(
                        "the review says {} now, and it was carried out as {}: --undo, then do it \
                         again; what is held is kept",
                        other.word(),
                        known.intent.operation().word()
                    );
                    return told(StepState::Refused, &why);
                }
            }
            // All names of a file that are held go together; where that is only shown, the first of
            // them says what comes back.
            let is_other_name = |other: &KnownStep| {
                other.stage.held_identity().is_some()
                    && (&other.intent.was.filesystem, other.intent.was.inode)
                        == (&known.intent.was.filesystem, known.intent.was.inode)
            };
            let mut names =
                quarantine.journal.steps.iter().filter(|(_, other)| is_other_name(other));
            let first = names.next().map(|(first, _)| *first);
            let going = match yes {
                true => 1,
                false if first == Some(step) => 1 + names.count() as u32,
                false => 0,
            };
            let keepers = run
                .request
                .review
                .rows
                .iter()
                .filter(|row| {
                    row.group == known.intent.group
                        && row.decision == Decision::Keep
                        && check_line(row, run.request.host, run.site).is_ok()
                })
                .map(|row| row.path.clone())
                .collect();
            let own = &mut run.own;
            PurgedStep { yes, going, holders: &holders, keepers, own, watch }
                .carry_out(quarantine, step)
        });
        self.tell_missing();
        if yes {
            let of = |step: &Step| if step.state == StepState::Done { step.frees } else { 0 };
            self.report.freed = self.report.steps.iter().map(of).sum();
        }
    }

    /// Gives back what the review says to keep by now.
    fn give_back_kept(&mut self, place: &AbsPath, step: u64, known: &KnownStep) -> Option<Step> {
        let told = |state, why: String| Some(Step::of(&known.intent, state, Some(why)));
        const WHY: &str = "the review says to keep it by now";
        if !self.request.yes {
            return told(StepState::Planned, format!("{WHY}: it would be put back"));
        }
        let done = undo(self.quarantines.get_mut(place)?, step, true)?;
        match (done.state, done.why) {
            (StepState::Undone, _) => told(StepState::Undone, WHY.to_owned()),
            (state, why) => told(state, format!("{WHY}, and {}", why.unwrap_or_default())),
        }
    }

    fn finish(mut self) -> ReclaimReport {
        let mut counted = HashSet::new();
        for quarantine in self.quarantines.values() {
            for (step, known) in &quarantine.journal.steps {
                let held = known
                    .stage
                    .held_identity()
                    .and_then(|_| quarantine.pin(&held_name(*step)).ok()?);
                if let Some(held) = held
                    && counted.insert((held.meta.device, held.meta.inode))
                {
                    self.report.held += known.intent.allocated;
                }
            }
            self.report.folders.push(quarantine.path());
        }
        self.report
    }
}

fn own_change(file: &Pinned) -> (String, u64, i64) {
    let identity = file.identity();
    (identity.filesystem, identity.inode, identity.changed)
}

/// What comes back once a file is purged, of which so many names are to go.
fn frees((meta, shared): &(Meta, u64), going: u32) -> u64 {
    if meta.is_folder() || going < meta.links {
        return 0;
    }
    meta.allocated.unwrap_or(meta.size).saturating_sub(*shared)
}
