//! The answers of `tarvek access`.

use schemars::JsonSchema;
use serde::Serialize;
use tarvek_core::judge::verdict::{Answer, Need};
use tarvek_core::kernel::entry::EntryKind;
use tarvek_core::kernel::subject::Subject;
use tarvek_core::scan::read::{Cause, Scan};
use tarvek_core::words::errno::Errno;
use tarvek_core::words::evidence::Evidence;
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::place::Place;
use tarvek_core::words::remedy::Remedy;
use tarvek_formats::keyword::Keyword;

use super::common::{EditedLayout, Identity, Path, RemedyDoc, exact, lossy};
use crate::view::access::{NewEntryAnswer, PartyRow};

/// The answer of `tarvek access`.
#[derive(Debug, Serialize, JsonSchema)]
#[schemars(title = "tarvek/access/1")]
pub(crate) struct Access {
    /// `tarvek/access/1`.
    schema: &'static str,
    #[serde(flatten)]
    path: Path,
    /// Who asks; `groups` are all groups, the primary one first.
    #[serde(rename = "as")]
    subject: Identity,
    verdicts: Vec<VerdictDoc>,
    /// What of everything below can't be read, where that was asked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    below: Option<Below>,
    /// What would give what is refused, if a change of rights does.
    #[serde(skip_serializing_if = "Option::is_none")]
    remedy: Option<RemedyDoc>,
    /// Hosts whose survey was broken off: what it lacks is not known.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[schemars(default)]
    pub(super) partial: Vec<String>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct Below {
    entries: u64,
    unreadable: u64,
    /// Folders, and places that symlinks lead to, that nobody could look into.
    unseen: u64,
    /// Symlinks that lead nowhere.
    broken_links: u64,
    /// What decides, the commonest first.
    causes: Vec<CauseDoc>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct CauseDoc {
    host: String,
    reason: String,
    entries: u64,
    /// At most three.
    examples: Vec<String>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct VerdictDoc {
    need: Keyword<Need>,
    /// null where it can't be told.
    allowed: Option<bool>,
    evidence: Keyword<Evidence>,
    /// The first place that denies, or the place that allows.
    decided_at: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    decided_at_bytes: Option<String>,
    /// The host of that place.
    decided_on: String,
    /// The layer and entry that decide.
    reason: String,
    /// What the kernel would answer, if it is denied.
    #[serde(skip_serializing_if = "Option::is_none")]
    errno: Option<Keyword<Errno>>,
}

impl Access {
    pub(crate) fn new(
        path: &AbsPath,
        subject: &Subject,
        verdicts: &[Answer],
        below: Option<&Scan>,
        remedy: Option<&Remedy>,
        layout: &EditedLayout,
    ) -> Self {
        let cause = |cause: &Cause| CauseDoc {
            host: cause.host.raw().to_owned(),
            reason: cause.reason.clone(),
            entries: cause.count,
            examples: cause.examples.iter().map(lossy).collect(),
        };
        Self {
            schema: "tarvek/access/1",
            partial: Vec::new(),
            path: path.into(),
            subject: subject.into(),
            verdicts: verdicts.iter().map(VerdictDoc::from).collect(),
            below: below.map(|scan| Below {
                entries: scan.entries,
                unreadable: scan.unreadable,
                unseen: scan.unseen,
                broken_links: scan.broken_links,
                causes: scan.causes.iter().map(cause).collect(),
            }),
            remedy: remedy.map(|remedy| RemedyDoc::new(remedy, layout)),
        }
    }
}

impl From<&Answer> for VerdictDoc {
    fn from(answer: &Answer) -> Self {
        Self {
            need: Keyword(answer.need),
            allowed: answer.allowed(),
            evidence: Keyword(answer.evidence),
            decided_at: lossy(&answer.decided_at.path),
            decided_at_bytes: exact(&answer.decided_at.path),
            decided_on: answer.decided_at.host.raw().to_owned(),
            reason: answer.reason().to_owned(),
            errno: answer.errno().map(Keyword),
        }
    }
}

/// The answer of `tarvek access --all`.
#[derive(Debug, Serialize, JsonSchema)]
#[schemars(title = "tarvek/access-all/1")]
pub(crate) struct AccessAll {
    /// `tarvek/access-all/1`.
    schema: &'static str,
    host: String,
    #[serde(flatten)]
    path: Path,
    everyone: Vec<PartyDoc>,
    /// Hosts whose survey was broken off: what it lacks is not known.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[schemars(default)]
    pub(super) partial: Vec<String>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct PartyDoc {
    /// `service:NAME`, `account:NAME` or `client:NAME`.
    who: String,
    /// Whether it sees the place at all.
    sees: bool,
    /// The path under which it does.
    #[serde(skip_serializing_if = "Option::is_none")]
    sees_it_as: Option<String>,
    /// Who it is when it arrives there.
    arrives_as: Identity,
    verdicts: Vec<VerdictDoc>,
}

impl From<&PartyRow> for PartyDoc {
    fn from(PartyRow { party, answers }: &PartyRow) -> Self {
        let route = party.route.as_ref();
        Self {
            who: party.name.clone(),
            sees: route.is_some(),
            sees_it_as: route.map(|route| lossy(&route.asked)),
            arrives_as: party.arrives_as().into(),
            verdicts: answers.iter().flatten().map(VerdictDoc::from).collect(),
        }
    }
}

impl AccessAll {
    pub(crate) fn new(place: &Place, rows: &[PartyRow]) -> Self {
        Self {
            schema: "tarvek/access-all/1",
            partial: Vec::new(),
            host: place.host.raw().to_owned(),
            path: (&place.path).into(),
            everyone: rows.iter().map(PartyDoc::from).collect(),
        }
    }
}

/// The answer of `tarvek access --new-file`.
#[derive(Debug, Serialize, JsonSchema)]
#[schemars(title = "tarvek/new-file/1")]
pub(crate) struct NewEntries {
    /// `tarvek/new-file/1`.
    schema: &'static str,
    #[serde(flatten)]
    path: Path,
    #[serde(rename = "as")]
    subject: Identity,
    /// Octal.
    umask: String,
    /// Whether anything can be made there.
    add: VerdictDoc,
    /// A file, and a folder.
    made: Vec<MadeDoc>,
    /// Hosts whose survey was broken off: what it lacks is not known.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[schemars(default)]
    pub(super) partial: Vec<String>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct MadeDoc {
    kind: Keyword<EntryKind>,
    uid: u32,
    gid: u32,
    /// Octal.
    mode: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    acl: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    default_acl: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    nfs4_acl: Option<String>,
    /// Who can then do what with it.
    users: Vec<PartyDoc>,
}

impl NewEntries {
    pub(crate) fn new(
        path: &AbsPath,
        subject: &Subject,
        umask: u16,
        add: &Answer,
        made: &[NewEntryAnswer],
    ) -> Self {
        let one = |made: &NewEntryAnswer| {
            let object = &made.object;
            MadeDoc {
                kind: Keyword(object.meta.kind),
                uid: object.meta.uid,
                gid: object.meta.gid,
                mode: format!("{:04o}", object.meta.mode),
                acl: object.acl.as_ref().map(ToString::to_string),
                default_acl: object.default_acl.as_ref().map(ToString::to_string),
                nfs4_acl: object.nfs4.as_ref().map(ToString::to_string),
                users: made.users.iter().map(PartyDoc::from).collect(),
            }
        };
        Self {
            schema: "tarvek/new-file/1",
            partial: Vec::new(),
            path: path.into(),
            subject: subject.into(),
            umask: format!("{umask:04o}"),
            add: add.into(),
            made: made.iter().map(one).collect(),
        }
    }
}
