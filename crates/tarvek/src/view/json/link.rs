//! The answer of `tarvek link`.

use schemars::JsonSchema;
use serde::Serialize;
use tarvek_core::link::below::{Cause, Holds};
use tarvek_core::link::picture::Shown;
use tarvek_core::link::verdict::{Reason, Verdict};
use tarvek_core::remedy::verified_fix::Mended;
use tarvek_core::words::errno::Errno;
use tarvek_core::words::evidence::Evidence;
use tarvek_core::words::terms::Access;
use tarvek_formats::keyword::Keyword;

use super::common::{EditedLayout, FromTo, Identity, Path, RemedyDoc, exact, lossy};
use crate::view::link::Answer;

/// The answer of `tarvek link`.
#[derive(Debug, Serialize, JsonSchema)]
#[schemars(title = "tarvek/link/1")]
pub(crate) struct Link {
    /// `tarvek/link/1`.
    schema: &'static str,
    #[serde(flatten)]
    ends: FromTo,
    /// The viewpoint: `service:NAME`, `host:NAME` or `process:PID`.
    view: String,
    /// Who does it; `groups` are all groups, the primary one first.
    #[serde(rename = "as")]
    subject: Identity,
    /// A further name for the same file (`link(2)`).
    hardlink: VerdictDoc,
    /// Another name instead (`rename(2)`).
    rename: VerdictDoc,
    /// What a source folder holds, by whether it could be linked.
    #[serde(skip_serializing_if = "Option::is_none")]
    holds: Option<HoldsDoc>,
    /// The mounts of the view on the way to both ends.
    mounts: Vec<MountDoc>,
    /// What would let it be linked, where something is known that does.
    #[serde(skip_serializing_if = "Option::is_none")]
    remedy: Option<MendedDoc>,
    /// Hosts whose survey was broken off: what it lacks is not known.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[schemars(default)]
    pub(super) partial: Vec<String>,
}

/// A remedy, and what is possible after it.
#[derive(Debug, Serialize, JsonSchema)]
struct MendedDoc {
    #[serde(flatten)]
    remedy: RemedyDoc,
    /// The paths after it.
    #[serde(flatten)]
    ends: FromTo,
    /// What is possible then.
    hardlink: VerdictDoc,
    rename: VerdictDoc,
}

impl MendedDoc {
    fn new(mended: &Mended, layout: &EditedLayout) -> Self {
        Self {
            remedy: RemedyDoc::new(&mended.remedy, layout),
            ends: FromTo::new(&mended.from, &mended.to),
            hardlink: (&mended.hardlink).into(),
            rename: (&mended.rename).into(),
        }
    }
}

/// Whether a deed is possible.
#[derive(Debug, Serialize, JsonSchema)]
pub(super) struct VerdictDoc {
    /// null where it can't be told.
    possible: Option<bool>,
    evidence: Keyword<Evidence>,
    reason: Keyword<Reason>,
    /// What the kernel answers, where it refuses.
    errno: Option<Keyword<Errno>>,
    /// Why, in words; where it can't be told, what would settle it.
    detail: String,
}

#[derive(Debug, Serialize, JsonSchema)]
struct HoldsDoc {
    /// Files that were seen below the source.
    files: u64,
    /// Of those, the ones that could be linked.
    possible: u64,
    /// Folders that could not be looked into.
    unseen: u64,
    /// Why the others could not, or why it can't be told, the commonest first.
    causes: Vec<CauseDoc>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct CauseDoc {
    possible: Option<bool>,
    reason: Keyword<Reason>,
    errno: Option<Keyword<Errno>>,
    detail: String,
    files: u64,
    /// At most three.
    examples: Vec<Path>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct MountDoc {
    #[serde(flatten)]
    at: Path,
    /// The host that holds what it shows; null for what a service keeps for itself.
    host: Option<String>,
    /// The folder of that host.
    shows: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    shows_bytes: Option<String>,
    /// The filesystem's type, if it is known.
    filesystem: Option<String>,
    access: Keyword<Access>,
    /// Whether the source lies on it.
    has_source: bool,
    /// Whether the target folder lies on it.
    has_target: bool,
}

impl Link {
    /// `layout` is the file that edits are made in.
    pub(crate) fn new(answer: &Answer, layout: &EditedLayout) -> Self {
        Self {
            schema: "tarvek/link/1",
            ends: FromTo::new(answer.from, answer.to),
            view: answer.view.to_string(),
            subject: answer.subject.into(),
            hardlink: (&answer.hardlink).into(),
            rename: (&answer.rename).into(),
            holds: answer.holds.as_ref().map(HoldsDoc::from),
            mounts: answer.mounts.iter().map(MountDoc::from).collect(),
            remedy: answer.mended.as_ref().map(|mended| MendedDoc::new(mended, layout)),
            partial: Vec::new(),
        }
    }
}

impl From<&Verdict> for VerdictDoc {
    fn from(verdict: &Verdict) -> Self {
        Self {
            possible: verdict.possible,
            evidence: Keyword(verdict.evidence),
            reason: Keyword(verdict.reason),
            errno: verdict.errno.map(Keyword),
            detail: verdict.detail.clone(),
        }
    }
}

impl From<&Holds> for HoldsDoc {
    fn from(holds: &Holds) -> Self {
        let cause = |cause: &Cause| CauseDoc {
            possible: cause.possible,
            reason: Keyword(cause.reason),
            errno: cause.errno.map(Keyword),
            detail: cause.detail.clone(),
            files: cause.count,
            examples: cause.examples.iter().map(Path::from).collect(),
        };
        Self {
            files: holds.files,
            possible: holds.possible,
            unseen: holds.unseen,
            causes: holds.causes.iter().map(cause).collect(),
        }
    }
}

impl From<&Shown> for MountDoc {
    fn from(mount: &Shown) -> Self {
        let place = mount.shows.as_ref();
        Self {
            at: (&mount.at).into(),
            host: place.map(|place| place.host.raw().to_owned()),
            shows: place.map(|place| lossy(&place.path)),
            shows_bytes: place.and_then(|place| exact(&place.path)),
            filesystem: mount.filesystem.as_ref().map(|kind| kind.raw().to_owned()),
            access: Keyword(mount.access),
            has_source: mount.has_source,
            has_target: mount.has_target,
        }
    }
}
