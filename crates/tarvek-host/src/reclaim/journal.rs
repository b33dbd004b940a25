//! The journal of a holding folder: a line of JSON for each thing that is about to be done or was done. A step is written down and synced
//! before anything is changed, so that after any interruption it can be told what has to be looked at.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::os::fd::OwnedFd;
use std::os::unix::fs::MetadataExt;

use base64::Engine as _;
use base64::prelude::BASE64_STANDARD;
use rustix::fs::{FlockOperation, Mode, OFlags};
use serde::{Deserialize, Serialize};
use tarvek_core::kernel::entry::Meta;
use tarvek_core::words::path::AbsPath;

use super::Deed;
use crate::observe::own_uid;

/// The journal's name in its folder.
const NAME: &str = "journal";
/// What is read of one at most.
const MOST: u64 = 1 << 30;

/// What a file was: enough to see whether it is the same, and unchanged.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Was {
    pub(super) device: u64,
    pub(super) inode: u64,
    pub(super) size: u64,
    /// Nanoseconds since 1970 UTC.
    pub(super) modified: i64,
    #[serde(default)]
    pub(super) changed: i64,
    pub(super) folder: bool,
}

impl Was {
    pub(super) fn of(meta: &Meta) -> Option<Self> {
        Some(Self {
            device: meta.device?,
            inode: meta.inode?,
            size: meta.size,
            modified: meta.modified,
            changed: meta.changed.unwrap_or(0),
            folder: meta.is_folder(),
        })
    }

    /// Whether something is the same file with the same size and mtime. The ctime moves with every name.
    pub(super) fn is(&self, meta: &Meta) -> bool {
        self.is_same_file(meta)
            && (self.folder || (self.size, self.modified) == (meta.size, meta.modified))
    }

    pub(super) fn is_same_file(&self, meta: &Meta) -> bool {
        (Some(self.device), Some(self.inode)) == (meta.device, meta.inode)
            && self.folder == meta.is_folder()
    }
}

/// A file that stays, whose bytes or title the one that goes has as well.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Stays {
    pub(super) path: Bytes,
    pub(super) was: Was,
}

/// What is to be done.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Intent {
    /// `drop` or `link`.
    #[serde(rename = "do")]
    pub(super) deed: String,
    pub(super) path: Bytes,
    pub(super) was: Was,
    /// Bytes that it takes.
    pub(super) allocated: u64,
    pub(super) group: String,
    pub(super) kind: String,
    pub(super) library: String,
    /// What stays; of a link the one that the name becomes. Empty for leftovers.
    pub(super) stays: Vec<Stays>,
    /// Whether what stays has the same bytes.
    pub(super) equal: bool,
}

impl Intent {
    pub(super) fn deed(&self) -> Deed {
        if self.deed == "link" { Deed::Link } else { Deed::Drop }
    }
}

/// A line of a journal.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct Line {
    step: u64,
    /// Seconds since 1970 UTC.
    when: i64,
    #[serde(flatten)]
    event: Event,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
enum Event {
    Intent(Intent),
    Done,
    Refused,
    Undone,
    /// It is about to be deleted.
    Purging,
    /// Bytes that came back.
    Purged(u64),
}

/// Where a step stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Stage {
    /// It may be done or not.
    Begun,
    Done,
    Purging,
    /// Nothing of it is left to be done.
    Over,
    Purged(u64),
}

/// A step as its journal knows it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Known {
    pub(super) intent: Intent,
    pub(super) stage: Stage,
    /// When it was done last.
    pub(super) when: i64,
}

/// An open journal; nobody else writes it as long as it is.
#[derive(Debug)]
pub(super) struct Journal {
    file: File,
    pub(super) steps: BTreeMap<u64, Known>,
}

/// The name that a step has in the holding folder.
pub(super) fn held_name(step: u64) -> String {
    format!("{step:06}")
}

impl Journal {
    /// Opens the journal of a holding folder, or makes it.
    pub(super) fn open(folder: &OwnedFd, make: bool) -> Result<Option<Self>, String> {
        let create = if make { OFlags::CREATE } else { OFlags::empty() };
        let flags =
            OFlags::RDWR | OFlags::APPEND | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
        let file = match rustix::fs::openat(folder, NAME, flags | create, Mode::RUSR | Mode::WUSR) {
            Ok(file) => File::from(file),
            Err(rustix::io::Errno::NOENT) => return Ok(None),
            Err(error) => return Err(format!("its journal can't be opened: {error}")),
        };
        let told = |error: io::Error| format!("its journal can't be read: {error}");
        let meta = file.metadata().map_err(told)?;
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
        if make {
            file.sync_all().and_then(|()| Ok(rustix::fs::fsync(folder)?)).map_err(told)?;
        }
        let mut journal = Self { file, steps: BTreeMap::new() };
        journal.read()?;
        Ok(Some(journal))
    }

    fn read(&mut self) -> Result<(), String> {
        let told = |error: io::Error| format!("its journal can't be read: {error}");
        let mut bytes = Vec::new();
        self.file.read_to_end(&mut bytes).map_err(told)?;
        // What was being written when the machine stopped was not begun.
        let whole = bytes.iter().rposition(|b| *b == b'\n').map_or(0, |end| end + 1);
        if whole < bytes.len() {
            self.file.set_len(whole as u64).and_then(|()| self.file.sync_all()).map_err(told)?;
        }
        self.file.seek(SeekFrom::End(0)).map_err(told)?;
        for (n, line) in
            bytes[..whole].split(|b| *b == b'\n').enumerate().filter(|(_, line)| !line.is_empty())
        {
            let line: Line = serde_json::from_slice(line).map_err(|error| {
                format!(
                    "its journal is damaged in line {}: {error}; what is held is not touched",
                    n + 1
                )
            })?;
            self.take(line);
        }
        Ok(())
    }

    fn take(&mut self, line: Line) {
        let stage = match line.event {
            Event::Intent(intent) => {
                let known = Known { intent, stage: Stage::Begun, when: line.when };
                self.steps.insert(line.step, known);
                return;
            }
            Event::Done => Stage::Done,
            Event::Refused | Event::Undone => Stage::Over,
            Event::Purging => Stage::Purging,
            Event::Purged(bytes) => Stage::Purged(bytes),
        };
        if let Some(known) = self.steps.get_mut(&line.step) {
            (known.stage, known.when) = (stage, line.when);
        }
    }

    fn write(&mut self, step: u64, event: Event) -> Result<(), String> {
        let line = Line { step, when: now(), event };
        let mut text = serde_json::to_vec(&line).map_err(|error| error.to_string())?;
        text.push(b'\n');
        self.file
            .write_all(&text)
            .and_then(|()| self.file.sync_data())
            .map_err(|error| format!("the journal can't be written: {error}"))?;
        self.take(line);
        Ok(())
    }

    /// Writes down a step that is about to be done, and returns its number.
    pub(super) fn begin(&mut self, intent: Intent) -> Result<u64, String> {
        let step = self.steps.last_key_value().map_or(1, |(last, _)| last + 1);
        self.write(step, Event::Intent(intent))?;
        Ok(step)
    }

    pub(super) fn done(&mut self, step: u64) -> Result<(), String> {
        self.write(step, Event::Done)
    }

    pub(super) fn refused(&mut self, step: u64) -> Result<(), String> {
        self.write(step, Event::Refused)
    }

    pub(super) fn undone(&mut self, step: u64) -> Result<(), String> {
        self.write(step, Event::Undone)
    }

    pub(super) fn purging(&mut self, step: u64) -> Result<(), String> {
        self.write(step, Event::Purging)
    }

    pub(super) fn purged(&mut self, step: u64, bytes: u64) -> Result<(), String> {
        self.write(step, Event::Purged(bytes))
    }
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
pub(super) struct Bytes(pub(super) AbsPath);

impl From<Bytes> for String {
    fn from(bytes: Bytes) -> Self {
        match std::str::from_utf8(bytes.0.as_bytes()) {
            Ok(text) => text.to_owned(),
            Err(_) => format!(":{}", BASE64_STANDARD.encode(bytes.0.as_bytes())),
        }
    }
}

impl TryFrom<String> for Bytes {
    type Error = String;

    fn try_from(text: String) -> Result<Self, String> {
        let bytes = match text.strip_prefix(':') {
            Some(encoded) => BASE64_STANDARD.decode(encoded).map_err(|error| error.to_string())?,
            None => text.into_bytes(),
        };
        AbsPath::new(&bytes).map(Self).map_err(|fault| format!("a path {fault}"))
    }
}
