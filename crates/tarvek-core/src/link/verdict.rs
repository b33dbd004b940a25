//! The answer: whether a file can be linked or renamed, and what decides.

use crate::judge::verdict::{Answer, Attempt};
use crate::kernel::subject::NOBODY;
use crate::words::errno::Errno;
use crate::words::evidence::Evidence;
use crate::words::word::words;

words! {
    /// What is done with a name.
    pub enum NameOperation {
        /// A further name for the same file (`link(2)`).
        Link = "link",
        /// Another name instead (`rename(2)`).
        Rename = "rename",
    }
}

words! {
    /// What decides.
    pub enum Reason {
        /// Nothing stands in the way.
        Ok = "ok",
        /// The two lie on two filesystems, datasets or subvolumes.
        DifferentFilesystem = "different-filesystem",
        /// The two lie on one filesystem, by two mounts.
        DifferentMount = "different-mount",
        /// The target folder belongs to another project than the source.
        DifferentQuotaTree = "different-quota-tree",
        /// The filesystem has no hard links.
        UnsupportedFilesystem = "unsupported-filesystem",
        ReadOnly = "read-only",
        /// `fs.protected_hardlinks` keeps whoever asks from linking what is not theirs.
        SourceProtected = "source-protected",
        /// Whoever asks does not come to the source.
        SourceUnreachable = "source-unreachable",
        /// Whoever asks may not take the source's name away.
        SourceFolderUnwritable = "source-folder-unwritable",
        /// Whoever asks may not make a name in the target folder, or does not come there.
        TargetUnwritable = "target-unwritable",
        /// The name is taken.
        TargetExists = "target-exists",
        /// A folder takes no further name, and does not become a file.
        IsFolder = "is-folder",
        /// Something that is no folder stands where one is needed.
        NotAFolder = "not-a-folder",
        TooManyLinks = "too-many-links",
        /// An inode flag (`chattr +i`, `+a`).
        Flagged = "flagged",
        /// Something is mounted there.
        Busy = "busy",
        /// It can't be told.
        Unknown = "unknown",
    }
}

/// Whether a deed is possible.
#[derive(Clone, Debug, PartialEq)]
pub struct Verdict {
    /// `None` where it can't be told.
    pub possible: Option<bool>,
    /// How it is known.
    pub evidence: Evidence,
    pub reason: Reason,
    /// What a kernel answers, where it refuses.
    pub errno: Option<Errno>,
    /// Why, in words; where it can't be told, what would settle it.
    pub detail: String,
    /// Of what is certainly refused: whether something that is not known may refuse it before, with
    /// an error of its own.
    pub may_be_refused_before: bool,
}

impl Verdict {
    /// Whether it is certain that it is possible.
    pub fn is_possible(&self) -> bool {
        self.possible == Some(true)
    }

    /// What is told of a process that may be root, who gets this verdict, or nobody, who gets
    /// another one; `why` says why that is not known.
    pub(super) fn or_as_nobody(self, nobody: Self, why: &str) -> Self {
        let words = |verdict: &Self| {
            let could = match verdict.possible {
                Some(true) => "could",
                Some(false) => "could not",
                None => "may or may not",
            };
            format!("{could} ({})", verdict.detail)
        };
        let detail =
            format!("{why}: root {}, and nobody (uid {NOBODY}) {}", words(&self), words(&nobody));
        let (possible, reason) = (None, Reason::Unknown);
        Self { possible, reason, errno: None, detail, may_be_refused_before: false, ..self }
    }

    /// The verdict where a proof could not be taken back: whoever asks for proof has none.
    pub fn untried(self, why: &str) -> Self {
        if self.possible == Some(false) {
            return Self { detail: format!("{} (not proven: {why})", self.detail), ..self };
        }
        let detail = format!("not proven: {why}; by what was seen: {}", self.detail);
        Self { possible: None, reason: Reason::Unknown, errno: None, detail, ..self }
    }

    /// The verdict after it was really tried.
    pub fn tried(self, attempt: Attempt) -> Self {
        let seen = self.detail.clone();
        match attempt {
            Attempt::Untold(why) => Self { detail: format!("{seen} (not proven: {why})"), ..self },
            Attempt::Possible => {
                let detail = if self.is_possible() {
                    seen
                } else {
                    format!("tried, and it was possible; by what was seen: {seen}")
                };
                let (possible, reason) = (Some(true), Reason::Ok);
                let evidence = Evidence::Proven;
                Self {
                    possible,
                    reason,
                    errno: None,
                    detail,
                    evidence,
                    may_be_refused_before: false,
                }
            }
            Attempt::Failed(errno) if self.errno == Some(errno) => {
                Self { evidence: Evidence::Proven, may_be_refused_before: false, ..self }
            }
            Attempt::Failed(errno) => Self {
                possible: Some(false),
                reason: if self.possible == Some(false) { self.reason } else { usual(errno) },
                errno: Some(errno),
                detail: format!("tried, and {errno}; by what was seen: {seen}"),
                evidence: Evidence::Proven,
                may_be_refused_before: false,
            },
        }
    }
}

/// What a kernel most likely means by an error that nobody foresaw.
fn usual(errno: Errno) -> Reason {
    match errno {
        Errno::CrossDevice => Reason::DifferentFilesystem,
        Errno::ReadOnly => Reason::ReadOnly,
        Errno::TooManyLinks => Reason::TooManyLinks,
        Errno::Exists | Errno::NotEmpty => Reason::TargetExists,
        Errno::IsAFolder => Reason::IsFolder,
        Errno::NotAFolder => Reason::NotAFolder,
        Errno::Busy => Reason::Busy,
        Errno::Permission => Reason::UnsupportedFilesystem,
        Errno::NoEntry | Errno::Loop => Reason::SourceUnreachable,
        _ => Reason::TargetUnwritable,
    }
}

/// What stops a deed.
pub(super) struct Stop {
    pub(super) reason: Reason,
    pub(super) errno: Errno,
    pub(super) detail: String,
}

impl Stop {
    pub(super) fn new(reason: Reason, errno: Errno, detail: impl Into<String>) -> Self {
        Self { reason, errno, detail: detail.into() }
    }

    /// What refuses a need, for a reason of this deed's.
    pub(super) fn of(answer: &Answer, reason: Reason) -> Self {
        let errno = answer.errno().unwrap_or(Errno::Access);
        Self::new(reason, errno, format!("{}: {}", answer.decided_at.on(), answer.reason()))
    }
}
