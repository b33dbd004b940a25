//! What is done with a line of a review, and what is told of it.

use tarvek_core::waste::readers::RightsChange;
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::terms::Kind;

/// What has to be known of the site to carry out a review.
pub trait SiteKnowledge {
    /// What changes for a name, and for everybody, if it becomes one of another file.
    ///
    /// # Errors
    /// Why that can't be told.
    fn rights_change(&self, name: &AbsPath, other: &AbsPath) -> Result<RightsChange, String>;

    /// The kind of the library that a path of this machine lies in.
    fn kind_at(&self, path: &AbsPath) -> Option<Kind>;

    /// Whether a folder of this machine is one of the layout's libraries or intakes, or lies in
    /// one.
    fn is_of_layout(&self, folder: &AbsPath) -> bool;
}

/// How far a step is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum StepState {
    Planned,
    Done,
    Refused,
    Undone,
}

impl StepState {
    /// As it is written.
    pub fn word(self) -> &'static str {
        match self {
            Self::Planned => "planned",
            Self::Done => "done",
            Self::Refused => "refused",
            Self::Undone => "undone",
        }
    }
}

/// What a step does.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Operation {
    Drop,
    Link,
    Purge,
    /// Its group is not to be shown again.
    Ignore,
}

impl Operation {
    /// As it is written.
    pub fn word(self) -> &'static str {
        match self {
            Self::Drop => "drop",
            Self::Link => "link",
            Self::Purge => "purge",
            Self::Ignore => "ignore",
        }
    }
}

/// One step, and what came of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Step {
    pub path: Vec<u8>,
    pub operation: Operation,
    /// Bytes that come back by it, at once or once it is purged.
    pub frees: u64,
    pub state: StepState,
    /// Whether it was done by an earlier run.
    pub before: bool,
    /// What changes besides: owner, group, mode and ACL of a name that becomes a link, and who
    /// gains or loses by it.
    pub changes: Vec<String>,
    /// Why not, or what else there is to say.
    pub why: Option<String>,
}

/// What came of a review.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ReclaimReport {
    pub steps: Vec<Step>,
    /// Bytes that came back.
    pub freed: u64,
    /// Bytes that are held now.
    pub held: u64,
    /// The holding folders.
    pub folders: Vec<AbsPath>,
    /// Whether it was broken off.
    pub stopped: bool,
}

impl ReclaimReport {
    /// Refuses to remember a group.
    pub fn refuse_ignore(&mut self, path: &[u8], why: &str) {
        self.refuse(path, Operation::Ignore, why);
    }

    pub(super) fn refuse(&mut self, path: &[u8], operation: Operation, why: impl Into<String>) {
        self.steps.push(Step {
            path: path.to_vec(),
            operation,
            frees: 0,
            state: StepState::Refused,
            before: false,
            changes: Vec::new(),
            why: Some(why.into()),
        });
    }
}
