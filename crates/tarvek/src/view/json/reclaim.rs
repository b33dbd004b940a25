//! The answers of `tarvek reclaim`.

use schemars::JsonSchema;
use serde::Serialize;
use tarvek_host::reclaim::{ReclaimReport, ReclaimedFromLibrary, Step};

use super::common::Path;

/// The answer of `tarvek reclaim`.
#[derive(Debug, Serialize, JsonSchema)]
#[schemars(title = "tarvek/reclaim/1")]
pub(crate) struct Reclaim {
    /// `tarvek/reclaim/1`.
    schema: &'static str,
    /// One per name, in the order in which they are done.
    steps: Vec<StepDoc>,
    /// Bytes that came back by this.
    freed_bytes: u64,
    /// Bytes that are held, and come back by --purge.
    held_bytes: u64,
}

#[derive(Debug, Serialize, JsonSchema)]
struct StepDoc {
    #[serde(flatten)]
    path: Path,
    /// drop, link, purge or ignore.
    #[serde(rename = "do")]
    operation: &'static str,
    /// Bytes that come back by it once it is purged.
    frees: u64,
    /// planned, done, refused or undone.
    state: &'static str,
    /// What changes by a link besides: owner, group, mode and ACL of its name, and who gains or
    /// loses by that.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[schemars(default)]
    changes: Vec<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    why: Option<String>,
}

impl Reclaim {
    pub(crate) fn new(report: &ReclaimReport) -> Self {
        let step = |step: &Step| StepDoc {
            path: Path::of_bytes(step.path.clone()),
            operation: step.operation.word(),
            frees: step.frees,
            state: step.state.word(),
            changes: step.changes.clone(),
            why: step.why.clone(),
        };
        Self {
            schema: "tarvek/reclaim/1",
            steps: report.steps.iter().map(step).collect(),
            freed_bytes: report.freed,
            held_bytes: report.held,
        }
    }
}

/// The answer of `tarvek reclaim --total`.
#[derive(Debug, Serialize, JsonSchema)]
#[schemars(title = "tarvek/reclaim-total/1")]
pub(crate) struct ReclaimTotal {
    /// `tarvek/reclaim-total/1`.
    schema: &'static str,
    libraries: Vec<TakenDoc>,
    files: u64,
    bytes: u64,
}

#[derive(Debug, Serialize, JsonSchema)]
struct TakenDoc {
    /// The library, intake or folder.
    library: String,
    files: u64,
    bytes: u64,
    /// In RFC 3339.
    since: String,
}

impl ReclaimTotal {
    pub(crate) fn new(taken: &[ReclaimedFromLibrary]) -> Self {
        let one = |taken: &ReclaimedFromLibrary| TakenDoc {
            library: taken.library.clone(),
            files: taken.files,
            bytes: taken.bytes,
            since: jiff::Timestamp::from_second(taken.since)
                .map(|time| time.to_string())
                .unwrap_or_default(),
        };
        Self {
            schema: "tarvek/reclaim-total/1",
            libraries: taken.iter().map(one).collect(),
            files: taken.iter().map(|taken| taken.files).sum(),
            bytes: taken.iter().map(|taken| taken.bytes).sum(),
        }
    }
}
