//! The journal of a holding folder: a line of JSON for each thing that is about to be done or was
//! done. A step is written down and synced before anything is changed, so that after any
//! interruption it can be told what has to be looked at.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::fs::MetadataExt;

use base64::Engine as _;
use base64::prelude::BASE64_STANDARD;
use rustix::fs::{FallocateFlags, FlockOperation, Mode, OFlags};
use rustix::io::Errno;
use serde::{Deserialize, Serialize};
use tarvek_core::words::path::AbsPath;

use super::entry::{FileIdentity, why};
use super::step::{Operation, Step, StepState};
use crate::filesystem::identity;
use crate::observe::own_uid;
use crate::walk;

/// The journal's name in its folder.
pub(super) const NAME: &str = "journal";
/// What is read of one at most.
const MOST: u64 = 1 << 30;
/// Room that is there for lines before a step is begun, so that its end can be written down on a
/// full disk.
const RESERVE: u64 = 64 << 10;
/// The form of the lines.
const VERSION: u32 = 2;

/// Which holding folder a journal belongs to: its first line.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct JournalHead {
    journal: u32,
    filesystem: String,
    inode: u64,
}

/// A file that stays, whose bytes or title the one that goes has as well.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct KeptFile {
    pub(super) path: PathText,
    pub(super) was: FileIdentity,
    /// What it held, where what goes is no equal of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(super) digest: Option<String>,
}

/// What is to be done.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Intent {
    /// `drop` or `link`.
    #[serde(rename = "do")]
    pub(super) word: String,
    pub(super) path: PathText,
    pub(super) was: FileIdentity,
    /// What it held, where nothing else proves it later.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(super) digest: Option<String>,
    /// Bytes that it takes.
    pub(super) allocated: u64,
    pub(super) group: String,
    pub(super) kind: String,
    pub(super) library: String,
    /// What stays; of a link the one that the name becomes. None for leftovers.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(super) kept: Option<KeptFile>,
    /// Whether what stays has the same bytes.
    pub(super) equal: bool,
}

impl Intent {
    pub(super) fn operation(&self) -> Operation {
        if self.word == Operation::Link.word() { Operation::Link } else { Operation::Drop }
    }
}

/// A line of a journal.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct JournalLine {
    step: u64,
    /// Seconds since 1970 UTC.
    when: i64,
    #[serde(flatten)]
    event: JournalEvent,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
enum JournalEvent {
    Intent(Box<Intent>),
    /// What is held now is what was meant.
    Done(FileIdentity),
    /// What is held now came to stand there at that very moment, and its name was taken when it was
    /// to go back.
    Stray(FileIdentity),
    Refused(LetGo),
    Undone(LetGo),
    /// It is about to be deleted.
    Purging,
    Purged {
        /// Bytes that came back.
        bytes: u64,
        #[serde(flatten)]
        left: LetGo,
    },
}

/// What is known of a file when nothing of it is held any more: the ctime that the last rename or
/// removal gave it, by which it is known again as unchanged.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct LetGo {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(super) changed: Option<i64>,
}

/// Where a step stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Stage {
    /// It may be done or not.
    Begun,
    /// This is held.
    Done(FileIdentity),
    /// Somebody else's file is held.
    Stray(FileIdentity),
    Purging(FileIdentity),
    /// Nothing of it is left to be done.
    Over,
    Purged(u64),
}

impl Stage {
    /// What is held, if that is what the step was to take.
    pub(super) fn held_identity(&self) -> Option<&FileIdentity> {
        match self {
            Self::Done(held) | Self::Purging(held) => Some(held),
            _ => None,
        }
    }
}

/// A step as its journal knows it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct KnownStep {
    pub(super) intent: Intent,
    pub(super) stage: Stage,
    /// When it was done last.
    pub(super) when: i64,
    /// The ctime that it was left with.
    pub(super) left: LetGo,
}

/// An open journal; nobody else writes it as long as it is.
#[derive(Debug)]
pub(super) struct Journal {
    file: File,
    /// How long it is.
    length: u64,
    /// Up to where there is room for more.
    reserved: u64,
    /// The greatest number that was ever given.
    last: u64,
    /// Why nothing more can be written, if so.
    broken: Option<String>,
    pub(super) steps: BTreeMap<u64, KnownStep>,
}

impl Journal {
    /// Opens the journal of a holding folder, or makes it. `last`: the greatest number that a file
    /// in it has.
    pub(super) fn open(folder: &OwnedFd, make: bool, last: u64) -> Result<Option<Self>, String> {
        let create = if make { OFlags::CREATE } else { OFlags::empty() };
        let flags =
            OFlags::RDWR | OFlags::APPEND | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
        let file = match rustix::fs::openat(folder, NAME, flags | create, Mode::RUSR | Mode::WUSR) {
            Ok(file) => File::from(file),
            Err(Errno::NOENT) => return Ok(None),
            Err(error) => return Err(format!("its journal can't be opened: {}", why(error))),
        };
        let meta = file.metadata().map_err(unreadable)?;
        if !meta.is_file()
            || meta.uid() != own_uid()
            || meta.nlink() != 1
            || meta.mode() & 0o077 != 0
        {
            return Err("its journal is somebody else's".to_owned());
        }
        if meta.len() > MOST {
            return Err("its journal is too long to be one".to_owned());
        }
        rustix::fs::flock(&file, FlockOperation::NonBlockingLockExclusive)
            .map_err(|_| "another reclaim works in it; wait until that is done".to_owned())?;
        // Whoever had the lock may have taken the folder away.
        if file.metadata().map_err(unreadable)?.nlink() != 1 {
            return Err("it was just taken away, with nothing held in it; do this again".to_owned());
        }
        let mut journal =
            Self { file, length: 0, reserved: 0, last, broken: None, steps: BTreeMap::new() };
        let head = journal.read()?;
        let own = walk::stat_now(folder.as_fd()).map_err(why)?;
        let filesystem = identity(folder.as_fd(), own.device.unwrap_or(0)).map_err(why)?;
        match head {
            Some(head) if head.journal != VERSION => {
                return Err(format!(
                    "its journal is of version {}, and this program reads {VERSION}",
                    head.journal
                ));
            }
            Some(head) if own.inode != Some(head.inode) || !filesystem.may_be(&head.filesystem) => {
                return Err(
                    "its journal was written for another folder; what is held is not touched"
                        .to_owned(),
                );
            }
            Some(_) => {}
            // One that was being made when the machine stopped.
            None if last > 0 => {
                return Err(
                    "its journal is empty, and files are held: nobody can tell where they belong"
                        .to_owned(),
                );
            }
            None if make => {
                let inode = own.inode.unwrap_or(0);
                let filesystem = filesystem.as_str().to_owned();
                journal.append(&JournalHead { journal: VERSION, filesystem, inode })?;
                rustix::fs::fsync(folder).map_err(why)?;
            }
            None => return Ok(None),
        }
        Ok(Some(journal))
    }

    /// Reads all lines; its first, if there is any.
    fn read(&mut self) -> Result<Option<JournalHead>, String> {
        let mut bytes = Vec::new();
        self.file.read_to_end(&mut bytes).map_err(unreadable)?;
        // What was being written when the machine stopped was not begun.
        let whole = bytes.iter().rposition(|b| *b == b'\n').map_or(0, |end| end + 1);
        self.length = whole as u64;
        if whole < bytes.len() {
            self.cut().map_err(unreadable)?;
        }
        self.file.seek(SeekFrom::End(0)).map_err(unreadable)?;
        let damaged = |n: usize, error: serde_json::Error| {
            format!(
                "its journal is damaged in line {}: {error}; what is held is not touched",
                n + 1
            )
        };
        let mut head = None;
        for (n, line) in bytes[..whole].split_inclusive(|b| *b == b'\n').enumerate() {
            match n {
                0 => head = Some(serde_json::from_slice(line).map_err(|error| damaged(n, error))?),
                _ => {
                    let line = serde_json::from_slice(line).map_err(|error| damaged(n, error))?;
                    self.take(line);
                }
            }
        }
        Ok(head)
    }

    fn take(&mut self, line: JournalLine) {
        self.last = self.last.max(line.step);
        let event = match line.event {
            JournalEvent::Intent(intent) => {
                let intent = *intent;
                let (when, left) = (line.when, LetGo::default());
                let known = KnownStep { intent, stage: Stage::Begun, when, left };
                self.steps.insert(line.step, known);
                return;
            }
            other => other,
        };
        let Some(known) = self.steps.get_mut(&line.step) else { return };
        known.when = line.when;
        known.stage = match event {
            JournalEvent::Done(held) => Stage::Done(held),
            JournalEvent::Stray(held) => Stage::Stray(held),
            JournalEvent::Purging => match known.stage.held_identity() {
                Some(held) => Stage::Purging(held.clone()),
                None => return,
            },
            JournalEvent::Refused(left) | JournalEvent::Undone(left) => {
                known.left = left;
                Stage::Over
            }
            JournalEvent::Purged { bytes, left } => {
                known.left = left;
                Stage::Purged(bytes)
            }
            JournalEvent::Intent(_) => return,
        };
    }

    /// Cuts off what is no whole line.
    fn cut(&self) -> io::Result<()> {
        self.file.set_len(self.length)?;
        self.file.sync_all()
    }

    /// Writes a line to the disk, or nothing of it.
    fn append(&mut self, line: &impl Serialize) -> Result<(), String> {
        if let Some(why) = &self.broken {
            return Err(why.clone());
        }
        let mut text = serde_json::to_vec(line).map_err(|error| error.to_string())?;
        text.push(b'\n');
        let outcome = self.file.write_all(&text).and_then(|()| self.file.sync_data());
        if let Err(error) = outcome {
            let why = format!("its journal can't be written: {error}");
            self.reserved = 0;
            if let Err(error) = self.cut() {
                // What stands there now is read, and cut, by the next one who opens it.
                self.broken = Some(format!("{why}, nor put right: {error}"));
            }
            return Err(why);
        }
        self.length += text.len() as u64;
        Ok(())
    }

    /// Keeps room for the lines that a step may still need; where a filesystem has no way to, there
    /// is none.
    fn reserve(&mut self, next: u64) -> Result<(), String> {
        let wanted = self.length + RESERVE.max(4 * next);
        if self.reserved >= self.length + RESERVE / 2 && self.reserved >= self.length + 4 * next {
            return Ok(());
        }
        match rustix::fs::fallocate(
            &self.file,
            FallocateFlags::KEEP_SIZE,
            self.length,
            wanted - self.length,
        ) {
            Ok(()) => self.reserved = wanted,
            Err(Errno::NOSPC | Errno::DQUOT) => {
                return Err(
                    "there is no room left for the journal: nothing more is taken".to_owned()
                );
            }
            Err(_) => {}
        }
        Ok(())
    }

    fn write(&mut self, step: u64, event: JournalEvent) -> Result<(), String> {
        let line = JournalLine { step, when: now(), event };
        self.append(&line)?;
        self.take(line);
        Ok(())
    }

    /// Writes down a step that is about to be done, and returns its number.
    pub(super) fn begin(&mut self, intent: Intent) -> Result<u64, String> {
        let length = 1024 + 12 * intent.path.0.as_bytes().len() as u64;
        self.reserve(length)?;
        let step = self.last + 1;
        self.write(step, JournalEvent::Intent(Box::new(intent)))?;
        Ok(step)
    }

    pub(super) fn done(&mut self, step: u64, held: FileIdentity) -> Result<(), String> {
        self.write(step, JournalEvent::Done(held))
    }

    pub(super) fn stray(&mut self, step: u64, held: FileIdentity) -> Result<(), String> {
        self.write(step, JournalEvent::Stray(held))
    }

    pub(super) fn refused(&mut self, step: u64, left: LetGo) -> Result<(), String> {
        self.write(step, JournalEvent::Refused(left))
    }

    pub(super) fn undone(&mut self, step: u64, left: LetGo) -> Result<(), String> {
        self.write(step, JournalEvent::Undone(left))
    }

    pub(super) fn purging(&mut self, step: u64) -> Result<(), String> {
        self.write(step, JournalEvent::Purging)
    }

    pub(super) fn purged(&mut self, step: u64, bytes: u64, left: LetGo) -> Result<(), String> {
        self.write(step, JournalEvent::Purged { bytes, left })
    }
}

fn unreadable(error: io::Error) -> String {
    format!("its journal can't be read: {error}")
}

/// Seconds since 1970 UTC; `TARVEK_NOW` makes an answer that can be made again.
pub(super) fn now() -> i64 {
    if let Some(now) = std::env::var("TARVEK_NOW").ok().and_then(|now| now.parse().ok()) {
        return now;
    }
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
    now.map_or(0, |now| i64::try_from(now.as_secs()).unwrap_or(i64::MAX))
}

/// A path in JSON: text, or base64 behind a colon where it is no UTF-8.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub(super) struct PathText(pub(super) AbsPath);

impl From<PathText> for String {
    fn from(path: PathText) -> Self {
        match std::str::from_utf8(path.0.as_bytes()) {
            Ok(text) => text.to_owned(),
            Err(_) => format!(":{}", BASE64_STANDARD.encode(path.0.as_bytes())),
        }
    }
}

impl TryFrom<String> for PathText {
    type Error = String;

    fn try_from(text: String) -> Result<Self, String> {
        let bytes = match text.strip_prefix(':') {
            Some(encoded) => BASE64_STANDARD.decode(encoded).map_err(|error| error.to_string())?,
            None => text.into_bytes(),
        };
        AbsPath::new(&bytes).map(Self).map_err(|fault| format!("a path {fault}"))
    }
}

impl Step {
    /// What is told of an operation that a journal remembers.
    pub(super) fn of(intent: &Intent, state: StepState, why: Option<String>) -> Self {
        Self {
            path: intent.path.0.as_bytes().to_vec(),
            operation: intent.operation(),
            frees: 0,
            state,
            before: false,
            changes: Vec::new(),
            why,
        }
    }
}

#[cfg(test)]
mod tests {
    use std::os::fd::OwnedFd;

    use super::*;

    fn folder() -> (tempfile::TempDir, OwnedFd) {
        let folder = tempfile::tempdir().unwrap();
        let open = OwnedFd::from(File::open(folder.path()).unwrap());
        (folder, open)
    }

    fn intent(path: &[u8]) -> Intent {
        Intent {
            word: "drop".to_owned(),
            path: PathText(AbsPath::new(path).unwrap()),
            was: FileIdentity::default(),
            digest: None,
            allocated: 0,
            group: "copy-1".to_owned(),
            kind: "copy".to_owned(),
            library: String::new(),
            kept: None,
            equal: true,
        }
    }

    #[test]
    fn half_a_line_is_cut_off_and_numbers_go_on() {
        let (top, open) = folder();
        let mut journal = Journal::open(&open, true, 0).unwrap().unwrap();
        assert_eq!(journal.begin(intent(b"/a\xff")), Ok(1));
        journal.done(1, FileIdentity::default()).unwrap();
        drop(journal);
        let file = top.path().join(NAME);
        let whole = std::fs::read(&file).unwrap();
        std::fs::write(&file, [whole.as_slice(), b"{\"step\":2,"].concat()).unwrap();
        let mut journal = Journal::open(&open, false, 7).unwrap().unwrap();
        assert_eq!(std::fs::read(&file).unwrap(), whole);
        assert_eq!(journal.steps[&1].intent, intent(b"/a\xff"));
        assert!(journal.steps[&1].stage.held_identity().is_some());
        assert_eq!(journal.begin(intent(b"/b")), Ok(8), "a file is held as 7");
    }

    #[test]
    fn a_journal_of_another_folder_is_refused() {
        let ((one, open), (other, open_other)) = (folder(), folder());
        Journal::open(&open, true, 0).unwrap().unwrap().begin(intent(b"/a")).unwrap();
        std::fs::copy(one.path().join(NAME), other.path().join(NAME)).unwrap();
        let error = Journal::open(&open_other, false, 0).unwrap_err();
        assert!(error.contains("another folder"), "{error}");
        std::fs::write(one.path().join(NAME), "").unwrap();
        let error = Journal::open(&open, true, 1).unwrap_err();
        assert!(error.contains("nobody can tell"), "{error}");
    }
}
