//! The JSON contract: each document names its schema; unknown fields may be added.

use base64::Engine as _;
use base64::prelude::BASE64_STANDARD;
use schemars::JsonSchema;
use serde::Serialize;
use tarvek_core::access::Verdict;
use tarvek_core::check::{Report, Stage};
use tarvek_core::compare::Differences;
use tarvek_core::facts::Source;
use tarvek_core::identity::Subject;
use tarvek_core::library::{Cause, Scan};
use tarvek_core::party::Party;
use tarvek_core::path::AbsPath;
use tarvek_core::remedy::{Remedy, Step};
use tarvek_core::route::Route;
use tarvek_core::rules::Severity;

/// Renders a document, with a line feed at its end.
pub(crate) fn text<T: Serialize>(document: &T) -> String {
    let mut text = serde_json::to_string_pretty(document).expect("a document has only plain keys");
    text.push('\n');
    text
}

/// A path as text and, where that loses something, as bytes.
#[derive(Debug, Serialize, JsonSchema)]
struct Path {
    /// The path; bytes that are no UTF-8 are replaced.
    path: String,
    /// The exact bytes in base64, where the path is no UTF-8.
    #[serde(skip_serializing_if = "Option::is_none")]
    path_bytes: Option<String>,
}

fn exact(path: &AbsPath) -> Option<String> {
    let bytes = path.as_bytes();
    std::str::from_utf8(bytes).is_err().then(|| BASE64_STANDARD.encode(bytes))
}

fn lossy(path: &AbsPath) -> String {
    String::from_utf8_lossy(path.as_bytes()).into_owned()
}

impl From<&AbsPath> for Path {
    fn from(path: &AbsPath) -> Self {
        Self { path: lossy(path), path_bytes: exact(path) }
    }
}

/// The answer of `tarvek check`.
#[derive(Debug, Serialize, JsonSchema)]
#[schemars(title = "tarvek/check/1")]
pub(crate) struct Check {
    /// `tarvek/check/1`.
    schema: &'static str,
    /// The site's name.
    site: String,
    /// A row per library.
    board: Vec<BoardRow>,
    /// What is wrong or worth knowing, the gravest first.
    findings: Vec<FindingDoc>,
    /// How many findings of each severity.
    totals: Totals,
    /// What is known of each host.
    hosts: Vec<HostDoc>,
    /// Findings that the layout silences.
    silenced: usize,
}

#[derive(Debug, Serialize, JsonSchema)]
struct BoardRow {
    /// `library`.
    row: &'static str,
    /// The serving service.
    service: String,
    /// The library.
    name: String,
    /// What it holds.
    kind: &'static str,
    /// How each stage stands.
    stages: Stages,
    /// In one line.
    verdict: String,
    /// Whether a scan started now would find what is meant.
    ready: bool,
    /// Entries below the roots that were seen.
    entries: u64,
    /// Of those, the ones that the service can't read.
    unreadable: u64,
}

#[derive(Debug, Serialize, JsonSchema)]
struct Stages {
    mapped: StageWord,
    mounted: StageWord,
    exists: StageWord,
    readable: StageWord,
    /// How many titles a scan would find; null if that can't be told.
    titles: Option<u64>,
}

#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
enum StageWord {
    Ok,
    Part,
    Fail,
    Unknown,
    Skipped,
}

impl From<Stage> for StageWord {
    fn from(stage: Stage) -> Self {
        match stage {
            Stage::Ok => Self::Ok,
            Stage::Part => Self::Part,
            Stage::Fail => Self::Fail,
            Stage::Unknown => Self::Unknown,
            Stage::Skipped => Self::Skipped,
        }
    }
}

#[derive(Debug, Serialize, JsonSchema)]
struct FindingDoc {
    /// `family/name`.
    rule: &'static str,
    /// `blocker`, `risk` or `note`.
    severity: &'static str,
    /// `declared`, `observed` or `proven`.
    evidence: &'static str,
    /// What it is about.
    subject: String,
    /// What is wrong and why.
    message: String,
    /// Where.
    #[serde(rename = "where")]
    place: PlaceDoc,
    /// What clears it.
    remedy: String,
    /// What the remedy changes for others, where it is known.
    effects: Vec<String>,
    /// The libraries that it affects.
    affects: Vec<String>,
    /// The rule whose finding brings this one about.
    #[serde(skip_serializing_if = "Option::is_none")]
    because: Option<&'static str>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct PlaceDoc {
    #[serde(skip_serializing_if = "Option::is_none")]
    host: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    path: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    path_bytes: Option<String>,
    /// The line of the layout.
    #[serde(skip_serializing_if = "Option::is_none")]
    line: Option<u32>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct Totals {
    blocker: usize,
    risk: usize,
    note: usize,
}

#[derive(Debug, Serialize, JsonSchema)]
struct HostDoc {
    host: String,
    /// Seconds since 1970 UTC; null if nobody looked.
    seen: Option<i64>,
    /// How long ago that was, in seconds.
    age: i64,
    /// The survey it is known from; null if it was looked at live, or not at all.
    survey: Option<String>,
    /// What could not be seen there.
    gaps: Vec<GapDoc>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct GapDoc {
    #[serde(flatten)]
    path: Path,
    why: String,
}

impl From<&Report> for Check {
    fn from(report: &Report) -> Self {
        let row = |row: &tarvek_core::check::Row| BoardRow {
            row: "library",
            service: row.service.clone(),
            name: row.name.clone(),
            kind: row.kind.word(),
            stages: Stages {
                mapped: row.stages.mapped.into(),
                mounted: row.stages.mounted.into(),
                exists: row.stages.exists.into(),
                readable: row.stages.readable.into(),
                titles: row.stages.titles,
            },
            verdict: row.verdict.clone(),
            ready: row.ready,
            entries: row.entries,
            unreadable: row.unreadable,
        };
        let finding = |finding: &tarvek_core::check::Finding| FindingDoc {
            rule: finding.rule.id,
            severity: finding.severity.word(),
            evidence: finding.evidence.word(),
            subject: finding.subject.clone(),
            message: finding.message.clone(),
            place: PlaceDoc {
                host: finding.place.host.clone(),
                path: finding.place.path.as_ref().map(lossy),
                path_bytes: finding.place.path.as_ref().and_then(exact),
                line: finding.place.line,
            },
            remedy: finding.remedy.clone(),
            effects: finding.effects.clone(),
            affects: finding.affects.clone(),
            because: finding.because.map(|rule| rule.id),
        };
        let host = |host: &tarvek_core::check::HostSeen| HostDoc {
            host: host.host.clone(),
            seen: host.seen.as_ref().map(|(taken, _)| *taken),
            age: host.age,
            survey: match &host.seen {
                Some((_, Source::File(file))) => Some(file.clone()),
                _ => None,
            },
            gaps: host
                .gaps
                .iter()
                .map(|gap| GapDoc { path: (&gap.path).into(), why: gap.why.clone() })
                .collect(),
        };
        Self {
            schema: "tarvek/check/1",
            site: report.site.clone(),
            board: report.board.iter().map(row).collect(),
            findings: report.findings.iter().map(finding).collect(),
            totals: Totals {
                blocker: report.count(Severity::Blocker),
                risk: report.count(Severity::Risk),
                note: report.count(Severity::Note),
            },
            hosts: report.hosts.iter().map(host).collect(),
            silenced: report.silenced,
        }
    }
}

#[derive(Debug, Serialize, JsonSchema)]
struct Identity {
    uid: u32,
    gid: u32,
    groups: Vec<u32>,
}

/// The answer of `tarvek trace`.
#[derive(Debug, Serialize, JsonSchema)]
#[schemars(title = "tarvek/trace/1")]
pub(crate) struct Trace {
    /// `tarvek/trace/1`.
    schema: &'static str,
    #[serde(flatten)]
    path: Path,
    /// The viewpoint.
    from: String,
    /// The place where the way ends.
    ends: Ends,
    /// From the viewpoint inward.
    hops: Vec<HopDoc>,
    /// Whether the way leads to an entry, with every mount in place.
    complete: bool,
    /// Why it does not, if it does not.
    #[serde(skip_serializing_if = "Option::is_none")]
    broken: Option<String>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct Ends {
    host: String,
    #[serde(flatten)]
    path: Path,
}

#[derive(Debug, Serialize, JsonSchema)]
struct HopDoc {
    kind: &'static str,
    host: String,
    path_in: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    path_in_bytes: Option<String>,
    path_out: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    path_out_bytes: Option<String>,
    /// The host after this hop.
    host_out: String,
    /// `ro` or `rw`.
    mode: &'static str,
    /// Who arrives; `groups` are the supplementary ones.
    identity: Identity,
    /// What made him somebody else here.
    #[serde(skip_serializing_if = "Option::is_none")]
    identity_changed_by: Option<String>,
    evidence: &'static str,
    note: String,
    /// Why it may not be what is meant.
    #[serde(skip_serializing_if = "Option::is_none")]
    doubt: Option<String>,
    /// Whether the way is broken here.
    broken: bool,
}

impl From<&Route> for Trace {
    fn from(route: &Route) -> Self {
        let (host, path) = route.here();
        let hop = |hop: &tarvek_core::route::Hop| HopDoc {
            kind: hop.kind.word(),
            host: hop.host.clone(),
            path_in: lossy(&hop.path_in),
            path_in_bytes: exact(&hop.path_in),
            path_out: lossy(&hop.path_out),
            path_out_bytes: exact(&hop.path_out),
            host_out: hop.host_out.clone(),
            mode: hop.mode.word(),
            identity: Identity {
                uid: hop.subject.uid,
                gid: hop.subject.gid,
                groups: hop.subject.groups.clone(),
            },
            identity_changed_by: hop.changed_by.clone(),
            evidence: hop.evidence.word(),
            note: hop.note.clone(),
            doubt: hop.doubt.clone(),
            broken: hop.broken,
        };
        let absent = route.not_mounted.first().map(|m| format!("{} is not mounted", m.point));
        Self {
            schema: "tarvek/trace/1",
            path: (&route.asked).into(),
            from: route.view.to_string(),
            ends: Ends { host, path: (&path).into() },
            hops: route.hops.iter().map(hop).collect(),
            complete: route.complete(),
            broken: absent.or_else(|| (!route.complete()).then(|| route.end.words())),
        }
    }
}

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
}

#[derive(Debug, Serialize, JsonSchema)]
struct RemedyDoc {
    /// In this order.
    steps: Vec<StepDoc>,
    /// What it changes for others, a sentence each.
    effects: Vec<String>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct StepDoc {
    /// null for a change of the layout.
    host: Option<String>,
    command: String,
}

impl From<&Remedy> for RemedyDoc {
    fn from(remedy: &Remedy) -> Self {
        let step = |step: &Step| StepDoc { host: step.host.clone(), command: step.command.clone() };
        Self { steps: remedy.steps.iter().map(step).collect(), effects: remedy.effects.clone() }
    }
}

#[derive(Debug, Serialize, JsonSchema)]
struct Below {
    entries: u64,
    unreadable: u64,
    /// Folders that nobody could look into.
    unseen: u64,
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
    /// `read`, `write`, `enter`, `add` or `remove`.
    need: &'static str,
    /// null where it can't be told.
    allowed: Option<bool>,
    evidence: &'static str,
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
    errno: Option<&'static str>,
}

impl Access {
    pub(crate) fn new(
        path: &AbsPath,
        subject: &Subject,
        verdicts: &[Verdict],
        below: Option<&Scan>,
        remedy: Option<&Remedy>,
    ) -> Self {
        let cause = |cause: &Cause| CauseDoc {
            host: cause.host.clone(),
            reason: cause.reason.clone(),
            entries: cause.count,
            examples: cause.examples.iter().map(lossy).collect(),
        };
        Self {
            schema: "tarvek/access/1",
            path: path.into(),
            subject: subject.into(),
            verdicts: verdicts.iter().map(VerdictDoc::from).collect(),
            below: below.map(|scan| Below {
                entries: scan.entries,
                unreadable: scan.unreadable,
                unseen: scan.unseen,
                causes: scan.causes.iter().map(cause).collect(),
            }),
            remedy: remedy.map(RemedyDoc::from),
        }
    }
}

impl From<&Verdict> for VerdictDoc {
    fn from(verdict: &Verdict) -> Self {
        Self {
            need: verdict.need.word(),
            allowed: verdict.allowed,
            evidence: verdict.evidence.word(),
            decided_at: lossy(&verdict.decided_at.1),
            decided_at_bytes: exact(&verdict.decided_at.1),
            decided_on: verdict.decided_at.0.clone(),
            reason: verdict.reason.clone(),
            errno: verdict.errno,
        }
    }
}

impl From<&Subject> for Identity {
    fn from(subject: &Subject) -> Self {
        let groups = std::iter::once(subject.gid).chain(subject.groups.iter().copied());
        Self { uid: subject.uid, gid: subject.gid, groups: groups.collect() }
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

fn party_doc(party: &Party, verdicts: Option<&Vec<Verdict>>) -> PartyDoc {
    let route = party.route.as_ref();
    let step = route.and_then(|route| route.trail.last());
    PartyDoc {
        who: party.name.clone(),
        sees: route.is_some(),
        sees_it_as: route.map(|route| lossy(&route.asked)),
        arrives_as: step.map_or(&party.subject, |step| &step.subject).into(),
        verdicts: verdicts.into_iter().flatten().map(VerdictDoc::from).collect(),
    }
}

impl AccessAll {
    pub(crate) fn new(host: &str, place: &AbsPath, rows: &[super::access::Row]) -> Self {
        let row = |row: &super::access::Row| party_doc(&row.party, row.verdicts.as_ref());
        Self {
            schema: "tarvek/access-all/1",
            host: host.to_owned(),
            path: place.into(),
            everyone: rows.iter().map(row).collect(),
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
}

#[derive(Debug, Serialize, JsonSchema)]
struct MadeDoc {
    /// `file` or `folder`.
    kind: &'static str,
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
        add: &Verdict,
        made: &[super::access::Made],
    ) -> Self {
        let one = |made: &super::access::Made| {
            let object = &made.object;
            MadeDoc {
                kind: object.meta.kind.word(),
                uid: object.meta.uid,
                gid: object.meta.gid,
                mode: format!("{:04o}", object.meta.mode),
                acl: object.acl.as_ref().map(ToString::to_string),
                default_acl: object.default_acl.as_ref().map(ToString::to_string),
                nfs4_acl: object.nfs4.as_ref().map(ToString::to_string),
                users: made
                    .users
                    .iter()
                    .map(|(party, all)| party_doc(party, all.as_ref()))
                    .collect(),
            }
        };
        Self {
            schema: "tarvek/new-file/1",
            path: path.into(),
            subject: subject.into(),
            umask: format!("{umask:04o}"),
            add: add.into(),
            made: made.iter().map(one).collect(),
        }
    }
}

/// The answer of `tarvek compare`.
#[derive(Debug, Serialize, JsonSchema)]
#[schemars(title = "tarvek/compare/1")]
pub(crate) struct Compare {
    /// `tarvek/compare/1`.
    schema: &'static str,
    /// Only in the new one.
    appeared: Vec<Bunch>,
    /// Only in the old one.
    vanished: Vec<Bunch>,
    /// In both, and different.
    changed: Vec<ChangeDoc>,
    /// Mounts, accounts, groups, shares and other texts of the host.
    tables: Vec<TableDoc>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct Bunch {
    #[serde(flatten)]
    path: Path,
    /// How many entries came or went with it.
    with: u64,
}

#[derive(Debug, Serialize, JsonSchema)]
struct ChangeDoc {
    #[serde(flatten)]
    path: Path,
    fields: Vec<FieldDoc>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct FieldDoc {
    field: &'static str,
    old: String,
    new: String,
}

#[derive(Debug, Serialize, JsonSchema)]
struct TableDoc {
    table: String,
    added: Vec<String>,
    removed: Vec<String>,
}

impl From<&Differences> for Compare {
    fn from(differences: &Differences) -> Self {
        let bunch = |(path, with): &(AbsPath, u64)| Bunch { path: path.into(), with: *with };
        let change = |change: &tarvek_core::compare::Change| ChangeDoc {
            path: (&change.path).into(),
            fields: change
                .fields
                .iter()
                .map(|(field, old, new)| FieldDoc { field, old: old.clone(), new: new.clone() })
                .collect(),
        };
        let table = |table: &tarvek_core::compare::TableChange| TableDoc {
            table: table.table.clone(),
            added: table.added.clone(),
            removed: table.removed.clone(),
        };
        Self {
            schema: "tarvek/compare/1",
            appeared: differences.appeared.iter().map(bunch).collect(),
            vanished: differences.vanished.iter().map(bunch).collect(),
            changed: differences.changed.iter().map(change).collect(),
            tables: differences.tables.iter().map(table).collect(),
        }
    }
}
