//! What was taken back so far, over all time: a line for each file that was purged, with its
//! library.

use std::collections::{BTreeMap, HashSet};
use std::fs::File;
use std::io::{self, Read, Write};
use std::os::unix::fs::{DirBuilderExt, MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

use rustix::fs::FlockOperation;
use serde::{Deserialize, Serialize};
use tarvek_core::words::path::AbsPath;
use tarvek_formats::review::Review;

use super::journal::{PathText, Stage};
use super::quarantine::{Quarantine, take_away_rest};
use crate::observe::own_uid;

/// What was taken back of a library.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ReclaimedFromLibrary {
    pub library: String,
    pub files: u64,
    pub bytes: u64,
    /// Since when, in seconds since 1970 UTC.
    pub since: i64,
}

#[derive(Debug, Serialize, Deserialize)]
struct Entry {
    /// The filesystem and inode of the holding folder, and the step there: each counts once.
    step: (String, u64, u64),
    library: String,
    bytes: u64,
    when: i64,
    /// What was purged, and the inode that it had: a review that names it again is told so.
    path: PathText,
    inode: u64,
    /// Whether it was a folder; then it is counted as no file.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    folder: bool,
}

impl Entry {
    /// What makes it the only one of its kind: a holding folder may have the inode of an earlier
    /// one.
    fn key(&self) -> (String, u64, u64, i64) {
        let (filesystem, inode, step) = self.step.clone();
        (filesystem, inode, step, self.when)
    }
}

/// The folders in which the lines of a review may have made a holding folder.
fn folders_of(review: &Review) -> Vec<AbsPath> {
    let mut seen = HashSet::new();
    let mut all = Vec::new();
    for row in &review.rows {
        let folders = std::iter::successors(row.path.parent(), AbsPath::parent);
        let is_inside = |folder: &AbsPath| row.root.as_ref().is_none_or(|root| folder.within(root));
        for folder in folders.take_while(is_inside) {
            if !seen.insert(folder.clone()) {
                break;
            }
            all.push(folder);
        }
    }
    all
}

/// The holding folders of a review, but those that can't be used.
fn quarantines_of(review: &Review) -> impl Iterator<Item = Quarantine> {
    let folders = folders_of(review).into_iter();
    folders.filter_map(|folder| Quarantine::open(&folder, false).ok().flatten())
}

/// What was purged of a holding folder.
fn purged_of(quarantine: &Quarantine) -> Result<Vec<Entry>, String> {
    let (filesystem, inode) = quarantine.identity()?;
    let steps = quarantine.journal.steps.iter();
    let purged = steps.filter_map(|(step, known)| {
        let Stage::Purged(bytes) = known.stage else { return None };
        Some(Entry {
            step: (filesystem.clone(), inode, *step),
            library: known.intent.library.clone(),
            bytes,
            when: known.when,
            path: known.intent.path.clone(),
            inode: known.intent.was.inode,
            folder: known.intent.was.folder,
        })
    });
    Ok(purged.collect())
}

/// The ledger of whoever runs it.
#[derive(Debug)]
pub struct Ledger {
    file: PathBuf,
}

impl Ledger {
    /// In the folder that programs keep their state in (XDG Base Directory Specification).
    ///
    /// # Errors
    /// If nothing says where that is.
    pub fn usual() -> Result<Self, String> {
        let set = |name: &str| {
            std::env::var_os(name).map(PathBuf::from).filter(|path| path.is_absolute())
        };
        let home = || {
            set("HOME").or_else(|| {
                nix::unistd::User::from_uid(nix::unistd::geteuid()).ok()?.map(|user| user.dir)
            })
        };
        let state = set("XDG_STATE_HOME").or_else(|| home().map(|home| home.join(".local/state")));
        let state = state.ok_or("neither XDG_STATE_HOME nor HOME says where the total is kept")?;
        Ok(Self { file: state.join("tarvek").join("reclaimed") })
    }

    /// The file.
    pub fn path(&self) -> &Path {
        &self.file
    }

    fn read(&self) -> Result<Vec<Entry>, String> {
        let told = |error: &dyn std::fmt::Display| {
            format!("the total in {} can't be read: {error}", self.file.display())
        };
        let flags = libc::O_NOFOLLOW | libc::O_NONBLOCK;
        let mut text = String::new();
        match File::options().read(true).custom_flags(flags).open(&self.file) {
            Ok(mut file) => {
                self.own(&file).map_err(|why| told(&why))?;
                file.read_to_string(&mut text).map_err(|error| told(&error))?;
            }
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
            Err(error) => return Err(told(&error)),
        }
        // A line that was broken off is written again.
        let whole = text.rfind('\n').map_or(0, |end| end + 1);
        text[..whole]
            .lines()
            .map(|line| serde_json::from_str(line).map_err(|error| told(&error)))
            .collect()
    }

    fn own(&self, file: &File) -> Result<(), String> {
        let meta = file.metadata().map_err(|error| error.to_string())?;
        match meta.is_file() && meta.uid() == own_uid() {
            true => Ok(()),
            false => Err("it is somebody else's".to_owned()),
        }
    }

    /// Writes down what was purged by a review and is not written down yet.
    ///
    /// # Errors
    /// If it can't be read or written.
    pub fn settle(&self, review: &Review) -> Result<(), String> {
        let known: HashSet<_> = self.read()?.iter().map(Entry::key).collect();
        let mut new = Vec::new();
        for quarantine in quarantines_of(review) {
            let purged = purged_of(&quarantine)?;
            new.extend(purged.into_iter().filter(|entry| !known.contains(&entry.key())));
        }
        if new.is_empty() {
            return Ok(());
        }
        let told = |error: io::Error| {
            format!("the total can't be kept in {}: {error}", self.file.display())
        };
        let folder = self.file.parent().unwrap_or(Path::new("/"));
        if let Some(above) = folder.parent() {
            std::fs::create_dir_all(above).map_err(told)?;
        }
        match std::fs::DirBuilder::new().mode(0o700).create(folder) {
            Err(error) if error.kind() != io::ErrorKind::AlreadyExists => return Err(told(error)),
            _ => {}
        }
        let flags = libc::O_NOFOLLOW | libc::O_NONBLOCK;
        let file = File::options()
            .append(true)
            .read(true)
            .create(true)
            .mode(0o600)
            .custom_flags(flags)
            .open(&self.file);
        let mut file = file.map_err(told)?;
        self.own(&file)?;
        rustix::fs::flock(&file, FlockOperation::LockExclusive)
            .map_err(|error| told(error.into()))?;
        let mut text = Vec::new();
        let mut last = String::new();
        file.read_to_string(&mut last).map_err(told)?;
        if !last.is_empty() && !last.ends_with('\n') {
            let whole = last.rfind('\n').map_or(0, |end| end + 1);
            file.set_len(whole as u64).map_err(told)?;
        }
        for entry in new {
            serde_json::to_writer(&mut text, &entry).map_err(|error| error.to_string())?;
            text.push(b'\n');
        }
        file.write_all(&text).and_then(|()| file.sync_all()).map_err(told)
    }

    /// Takes the holding folders of a review away in which nothing is held any more, once all that
    /// was purged from them is written down here.
    ///
    /// # Errors
    /// If it can't be read, or one of them can't be taken away.
    pub fn take_away_empty(&self, review: &Review) -> Result<(), String> {
        let known: HashSet<_> = self.read()?.iter().map(Entry::key).collect();
        for quarantine in quarantines_of(review) {
            if purged_of(&quarantine)?.iter().all(|entry| known.contains(&entry.key())) {
                quarantine.take_away()?;
            }
        }
        // One that was broken off is left without its journal.
        folders_of(review).iter().try_for_each(take_away_rest)
    }

    /// What was purged, by path and the inode that it had.
    ///
    /// # Errors
    /// If it can't be read.
    pub fn purged(&self) -> Result<HashSet<(AbsPath, u64)>, String> {
        Ok(self.read()?.into_iter().map(|entry| (entry.path.0, entry.inode)).collect())
    }

    /// What was taken back, by library.
    ///
    /// # Errors
    /// If it can't be read.
    pub fn total(&self) -> Result<Vec<ReclaimedFromLibrary>, String> {
        let mut all: BTreeMap<String, ReclaimedFromLibrary> = BTreeMap::new();
        for entry in self.read()?.into_iter().filter(|entry| !entry.folder) {
            let taken = all.entry(entry.library.clone()).or_insert_with(|| ReclaimedFromLibrary {
                library: entry.library,
                since: entry.when,
                ..ReclaimedFromLibrary::default()
            });
            taken.files += 1;
            taken.bytes = taken.bytes.saturating_add(entry.bytes);
            taken.since = taken.since.min(entry.when);
        }
        Ok(all.into_values().collect())
    }
}
