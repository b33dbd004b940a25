//! The answer to one need at the end of a route.

use std::sync::Arc;

use crate::facts::tree::NodeId;
use crate::kernel::entry::EntryKind;
use crate::kernel::gate::Gate;
use crate::kernel::object::Object;
use crate::kernel::subject::{NOBODY, Subject};
use crate::site::layer::Layer;
use crate::words::errno::Errno;
use crate::words::evidence::Evidence;
use crate::words::name::Name;
use crate::words::place::Place;
use crate::words::word::{Word, words};

words! {
    /// What is asked at a path.
    pub enum Need {
        /// File: open to read. Folder: list and enter.
        Read = "read",
        /// File: open to write. Folder: as `Add`.
        Write = "write",
        /// Folder: search.
        Enter = "enter",
        /// Make an entry in this folder.
        Add = "add",
        /// Unlink this path from its folder.
        Remove = "remove",
    }
}

impl Need {
    /// What is asked of an entry that somebody else has made.
    pub fn of_made(object: &Object) -> &'static [Self] {
        if object.is_folder() {
            &[Self::Read, Self::Add, Self::Remove]
        } else {
            &[Self::Read, Self::Write, Self::Remove]
        }
    }

    /// In a sentence: `read`, `add to`.
    pub fn to(self) -> &'static str {
        match self {
            Self::Add => "add to",
            need => need.word(),
        }
    }

    /// What can be asked of an entry of this kind; `write` in a folder is `add`, so it is left out
    /// there.
    pub fn of_kind(kind: Option<EntryKind>) -> Vec<Self> {
        let applies = |need: &Self| match (need, kind) {
            (_, None) | (Self::Read | Self::Remove, _) => true,
            (Self::Write, kind) => kind != Some(EntryKind::Folder),
            (Self::Enter | Self::Add, kind) => kind == Some(EntryKind::Folder),
        };
        Self::ALL.iter().copied().filter(applies).collect()
    }
}

/// How a need is decided.
#[derive(Clone, Debug, PartialEq)]
pub enum Verdict {
    /// It is met, by this entry or capability.
    Allowed { by: String },
    /// It is refused: why, with what a kernel answers, and what it is that refuses.
    Refused { why: String, errno: Errno, refusal: Refusal },
    /// It can't be told.
    Unknown { why: String },
}

/// The answer to one need along a route.
#[derive(Clone, Debug, PartialEq)]
pub struct Answer {
    /// What was asked.
    pub need: Need,
    pub verdict: Verdict,
    /// How it is known.
    pub evidence: Evidence,
    /// The first place that refuses, or the place that allows.
    pub decided_at: Place,
}

/// What came of really trying.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Attempt {
    /// It was possible.
    Possible,
    /// The kernel refused.
    Failed(Errno),
    /// The attempt told nothing, and why.
    Untold(String),
}

impl Answer {
    /// Whether it is met; `None` where that can't be told.
    pub fn allowed(&self) -> Option<bool> {
        match self.verdict {
            Verdict::Allowed { .. } => Some(true),
            Verdict::Refused { .. } => Some(false),
            Verdict::Unknown { .. } => None,
        }
    }

    /// Whether it is certain that it is met.
    pub fn is_allowed(&self) -> bool {
        self.allowed() == Some(true)
    }

    /// Whether it is certain that it is refused.
    pub fn is_refused(&self) -> bool {
        self.allowed() == Some(false)
    }

    /// The layer and entry that decide, in words.
    pub fn reason(&self) -> &str {
        let (Verdict::Allowed { by: why }
        | Verdict::Refused { why, .. }
        | Verdict::Unknown { why }) = &self.verdict;
        why
    }

    /// What a kernel answers, if it is refused.
    pub fn errno(&self) -> Option<Errno> {
        match self.verdict {
            Verdict::Refused { errno, .. } => Some(errno),
            _ => None,
        }
    }

    /// What refuses, if it is refused.
    pub fn refusal(&self) -> Option<&Refusal> {
        match &self.verdict {
            Verdict::Refused { refusal, .. } => Some(refusal),
            _ => None,
        }
    }

    /// What is told of a process that may be root, who gets this answer, or nobody, who gets another
    /// one; `why` says why that is not known.
    pub(super) fn or_as_nobody(self, nobody: Self, why: &str) -> Self {
        let words = |answer: &Self| {
            let could = match answer.allowed() {
                Some(true) => "could",
                Some(false) => "could not",
                None => "may or may not",
            };
            format!("{could} ({})", answer.reason())
        };
        let why =
            format!("{why}: root {}, and nobody (uid {NOBODY}) {}", words(&self), words(&nobody));
        let decides = if self.is_allowed() { nobody } else { self };
        Self { verdict: Verdict::Unknown { why }, ..decides }
    }

    /// The answer after the need was really tried. An attempt leaves things as they are, and so
    /// can't tell what only the deed would: whether something is mounted there.
    pub fn tried(mut self, attempt: Attempt) -> Self {
        let seen = self.reason().to_owned();
        let beyond = self.errno() == Some(Errno::Busy);
        let differs = |really: &str| format!("tried, and {really}; by what was seen: {seen}");
        match attempt {
            Attempt::Untold(why) => {
                let (Verdict::Allowed { by: words }
                | Verdict::Refused { why: words, .. }
                | Verdict::Unknown { why: words }) = &mut self.verdict;
                *words += &format!(" (not proven: {why})");
                return self;
            }
            Attempt::Possible if beyond => return self,
            Attempt::Possible => {
                let by = if self.is_allowed() { seen } else { differs("it was possible") };
                self.verdict = Verdict::Allowed { by };
            }
            Attempt::Failed(errno) => {
                let why = if self.is_refused() { seen } else { differs(errno.word()) };
                let refusal = match self.verdict {
                    Verdict::Refused { refusal, .. } => refusal,
                    _ => Refusal::Other,
                };
                self.verdict = Verdict::Refused { why, errno, refusal };
            }
        }
        self.evidence = Evidence::Proven;
        self
    }
}

/// An entry in the facts of a host.
#[derive(Clone, Debug, PartialEq)]
pub struct SeenEntry {
    /// The host whose facts show it.
    pub host: Name,
    pub node: NodeId,
}

/// What refuses a need.
#[derive(Clone, Debug, PartialEq)]
pub enum Refusal {
    /// The permissions of an entry: who asked, and what of `R`, `W` and `X`.
    Permission { of: SeenEntry, subject: Subject, want: u8 },
    /// A layer that is read-only as a whole.
    ReadOnly(Layer),
    /// The options of an SMB mount.
    Options(Arc<Gate>),
    /// An inode flag of an entry.
    Flag(SeenEntry),
    /// The sticky bit of a folder.
    Sticky(SeenEntry),
    /// Something that no change of rights clears.
    Other,
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::words::path::AbsPath;

    #[test]
    fn what_was_tried_is_proven_and_says_where_it_differs() {
        let answer = |verdict| Answer {
            need: Need::Remove,
            verdict,
            evidence: Evidence::Observed,
            decided_at: Place::new("granary", AbsPath::root()),
        };
        let allowed = || answer(Verdict::Allowed { by: "user::rwx".into() });
        let refused = |errno| {
            answer(Verdict::Refused { why: "it is so".into(), errno, refusal: Refusal::Other })
        };
        let unknown = || answer(Verdict::Unknown { why: "not seen".into() });
        let tell = |answer: Answer| {
            let errno = answer.errno().map(|errno| format!(" {errno}")).unwrap_or_default();
            format!("{:?}{errno} {}: {}", answer.allowed(), answer.evidence.word(), answer.reason())
        };
        for (answer, attempt, told) in [
            (allowed(), Attempt::Possible, "Some(true) proven: user::rwx"),
            (
                allowed(),
                Attempt::Failed(Errno::ReadOnly),
                "Some(false) EROFS proven: tried, and EROFS; by what was seen: user::rwx",
            ),
            (
                refused(Errno::Access),
                Attempt::Possible,
                "Some(true) proven: tried, and it was possible; by what was seen: it is so",
            ),
            (
                refused(Errno::Access),
                Attempt::Failed(Errno::Permission),
                "Some(false) EPERM proven: it is so",
            ),
            // What only the deed would meet stays as it was seen.
            (refused(Errno::Busy), Attempt::Possible, "Some(false) EBUSY observed: it is so"),
            (
                refused(Errno::Busy),
                Attempt::Failed(Errno::Access),
                "Some(false) EACCES proven: it is so",
            ),
            (
                unknown(),
                Attempt::Possible,
                "Some(true) proven: tried, and it was possible; by what was seen: not seen",
            ),
            (
                unknown(),
                Attempt::Untold("it is a FIFO".into()),
                "None observed: not seen (not proven: it is a FIFO)",
            ),
        ] {
            assert_eq!(tell(answer.tried(attempt)), told);
        }
    }
}
