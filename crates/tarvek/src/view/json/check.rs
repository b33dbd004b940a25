//! The answer of `tarvek check`.

use schemars::JsonSchema;
use serde::Serialize;
use tarvek_core::check::board::{Row, State, Subject};
use tarvek_core::check::report::{HostSeen, Report};
use tarvek_core::facts::host::{Gap, Source};
use tarvek_core::link::intake::{Does, Stage, Step};
use tarvek_core::words::evidence::Evidence;
use tarvek_core::words::finding::Finding;
use tarvek_core::words::rule::Severity;
use tarvek_core::words::terms::Kind;
use tarvek_formats::keyword::Keyword;

use super::common::{EditedLayout, FromTo, Path, StepDoc, exact, lossy};
use super::link::VerdictDoc;

/// The answer of `tarvek check`.
#[derive(Debug, Serialize, JsonSchema)]
#[schemars(title = "tarvek/check/1")]
pub(crate) struct Check {
    /// `tarvek/check/1`.
    schema: &'static str,
    /// The site's name.
    site: String,
    /// A row per library, then one per intake.
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
    /// `library` or `intake`.
    row: &'static str,
    /// The serving service; of an intake, the first that uses it.
    service: String,
    /// The library, or the intake.
    name: String,
    /// What a library holds.
    #[serde(skip_serializing_if = "Option::is_none")]
    kind: Option<Keyword<Kind>>,
    /// How each stage stands.
    stages: Stages,
    /// In one line.
    verdict: String,
    /// Whether a scan started now would find what is meant; of an intake, whether each step can be
    /// done.
    ready: bool,
    /// How it is known: the weakest evidence of its stages.
    evidence: Keyword<Evidence>,
    /// Entries below the roots that were seen.
    entries: u64,
    /// Of those, the ones that the service can't read.
    unreadable: u64,
    /// The steps of an intake.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[schemars(default)]
    steps: Vec<IntakeStep>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct Stages {
    mapped: Keyword<State>,
    mounted: Keyword<State>,
    exists: Keyword<State>,
    readable: Keyword<State>,
    /// How many titles a scan would find; null if that can't be told, and for an intake.
    titles: Option<u64>,
    /// Of an intake, whether filing does what is wanted of it.
    #[serde(skip_serializing_if = "Option::is_none")]
    linkable: Option<Keyword<State>>,
}

/// A step of an intake.
#[derive(Debug, Serialize, JsonSchema)]
struct IntakeStep {
    /// `finish` takes a download from the partial into the done folder, `file` from there into the
    /// library.
    step: Keyword<Stage>,
    /// Who does it.
    service: String,
    /// The folders, as that service sees them.
    #[serde(flatten)]
    ends: FromTo,
    /// What it comes to.
    does: Keyword<Does>,
    /// Whether removing the download after it gives its space back; null where nothing is left to
    /// remove, or nobody knows.
    removal_frees: Option<bool>,
    hardlink: VerdictDoc,
    rename: VerdictDoc,
}

impl From<&Step> for IntakeStep {
    fn from(step: &Step) -> Self {
        Self {
            step: Keyword(step.stage),
            service: step.service.raw().to_owned(),
            ends: FromTo::new(&step.from, &step.to),
            does: Keyword(step.does),
            removal_frees: step.does.removal_frees(),
            hardlink: (&step.link).into(),
            rename: (&step.rename).into(),
        }
    }
}

#[derive(Debug, Serialize, JsonSchema)]
struct FindingDoc {
    /// Stable over wording and lines: made of the rule, the subject and the place.
    id: String,
    /// `family/name`.
    rule: &'static str,
    severity: Keyword<Severity>,
    evidence: Keyword<Evidence>,
    /// What it is about.
    subject: String,
    /// What is wrong and why.
    message: String,
    /// Where.
    #[serde(rename = "where")]
    place: PlaceDoc,
    /// What clears it, in one sentence.
    remedy: String,
    /// The same for programs, in this order.
    steps: Vec<StepDoc>,
    /// What the remedy changes for others, where it is known.
    effects: Vec<String>,
    /// The libraries and intakes that it affects.
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
    /// The file that says it: the configuration that it was adopted from, else the layout.
    #[serde(skip_serializing_if = "Option::is_none")]
    file: Option<String>,
    /// The line of that file.
    #[serde(skip_serializing_if = "Option::is_none")]
    line: Option<u32>,
    /// The line of the layout, where the file is another.
    #[serde(skip_serializing_if = "Option::is_none")]
    layout_line: Option<u32>,
}

#[derive(Debug, Serialize, JsonSchema)]
pub(super) struct Totals {
    blocker: usize,
    risk: usize,
    note: usize,
}

impl From<&Report> for Totals {
    fn from(report: &Report) -> Self {
        Self {
            blocker: report.count(Severity::Blocker),
            risk: report.count(Severity::Risk),
            note: report.count(Severity::Note),
        }
    }
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

impl Check {
    /// `layout` is the file that was checked.
    pub(crate) fn new(report: &Report, layout: &EditedLayout) -> Self {
        Self {
            schema: "tarvek/check/1",
            site: report.site.raw().to_owned(),
            board: report.board.iter().map(BoardRow::from).collect(),
            findings: report.findings.iter().map(|f| FindingDoc::new(f, layout)).collect(),
            totals: report.into(),
            hosts: report.hosts.iter().map(HostDoc::from).collect(),
            silenced: report.silenced,
        }
    }
}

impl From<&Row> for BoardRow {
    fn from(row: &Row) -> Self {
        Self {
            row: match row.of {
                Subject::Library(_) => "library",
                Subject::Intake => "intake",
            },
            service: row.service.raw().to_owned(),
            name: row.name.raw().to_owned(),
            kind: match row.of {
                Subject::Library(kind) => Some(Keyword(kind)),
                Subject::Intake => None,
            },
            stages: Stages {
                mapped: Keyword(row.stages.mapped),
                mounted: Keyword(row.stages.mounted),
                exists: Keyword(row.stages.exists),
                readable: Keyword(row.stages.readable),
                titles: row.stages.titles,
                linkable: row.stages.linkable.map(Keyword),
            },
            verdict: row.verdict.to_string(),
            ready: row.ready,
            evidence: Keyword(row.evidence),
            entries: row.entries,
            unreadable: row.unreadable,
            steps: row.steps.iter().map(IntakeStep::from).collect(),
        }
    }
}

impl FindingDoc {
    fn new(finding: &Finding, layout: &EditedLayout) -> Self {
        let place = &finding.place;
        Self {
            id: finding.id.clone(),
            rule: finding.rule.id,
            severity: Keyword(finding.severity),
            evidence: Keyword(finding.evidence),
            subject: finding.about.to_string(),
            message: finding.message.clone(),
            place: PlaceDoc {
                host: place.host.as_ref().map(|host| host.raw().to_owned()),
                path: place.path.as_ref().map(lossy),
                path_bytes: place.path.as_ref().and_then(exact),
                file: place
                    .origin
                    .as_ref()
                    .map(|spot| spot.file.raw().to_owned())
                    .or_else(|| place.line.map(|_| layout.file.to_owned())),
                line: place.origin.as_ref().map(|spot| spot.line).or(place.line),
                layout_line: place.line.filter(|_| place.origin.is_some()),
            },
            remedy: finding.remedy.in_file(layout.file),
            steps: finding.remedy.steps.iter().map(|step| StepDoc::new(step, layout)).collect(),
            effects: finding.remedy.effects.clone(),
            affects: finding.affects.iter().map(ToString::to_string).collect(),
            because: finding.because.map(|rule| rule.id),
        }
    }
}

impl From<&HostSeen> for HostDoc {
    fn from(host: &HostSeen) -> Self {
        let gap = |gap: &Gap| GapDoc { path: (&gap.path).into(), why: gap.why.raw().to_owned() };
        Self {
            host: host.host.raw().to_owned(),
            seen: host.seen.as_ref().map(|(taken, _)| *taken),
            age: host.age,
            survey: match &host.seen {
                Some((_, Source::File(file))) => Some(file.clone()),
                _ => None,
            },
            gaps: host.gaps.iter().map(gap).collect(),
        }
    }
}
