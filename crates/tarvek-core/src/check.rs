//! The readiness board: each library of the site, stage by stage, with what the rules find.

use crate::access::{Need, judge};
use crate::facts::Gap;
use crate::facts::tree::EntryKind;
use crate::identity::Subject;
use crate::layout::{Declared, Kind, Library, Service, ServiceRole};
use crate::library::{Scan, scan};
use crate::path::AbsPath;
use crate::route::{End, Evidence, Route, View, follow};
use crate::rules::{self, RuleId, Severity};
use crate::site::Site;
use crate::text::{counted, shown};

/// One root of one library, followed and read.
#[derive(Debug)]
pub struct Case<'a> {
    /// The serving service.
    pub service: &'a Service,
    /// The library.
    pub library: &'a Library,
    /// The root.
    pub root: &'a Declared,
    /// Whom the service runs as.
    pub subject: Subject,
    /// The way to the root; `None` if the root is not absolute.
    pub route: Option<Route>,
    /// What a scan would meet; `None` where the root was not reached.
    pub scan: Option<Scan>,
}

impl Case<'_> {
    /// `service:lantern library:Films`.
    pub fn subject_text(&self) -> String {
        format!("service:{} library:{}", shown(self.service.name.as_bytes()), self.library_text())
    }

    /// `library:Films`, as findings name what they affect.
    pub fn affected(&self) -> String {
        format!("library:{}", self.library_text())
    }

    fn library_text(&self) -> String {
        shown(self.library.name.as_bytes())
    }

    /// Whether the root itself can be listed and entered; `None` if that can't be told.
    pub fn root_readable(&self, site: &Site) -> Option<bool> {
        judge(site, self.route.as_ref()?, Need::Read).allowed
    }
}

/// How one stage of a row stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Stage {
    /// In order.
    Ok,
    /// An earlier stage failed, so there is nothing to say.
    Skipped,
    /// It can't be told.
    Unknown,
    /// In part.
    Part,
    /// Not in order.
    Fail,
}

impl Stage {
    /// As JSON writes it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Ok => "ok",
            Self::Skipped => "skipped",
            Self::Unknown => "unknown",
            Self::Part => "part",
            Self::Fail => "fail",
        }
    }
}

/// The stages of a row, in their order.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Stages {
    /// A mapping covers the root.
    pub mapped: Stage,
    /// Every mount on the way is in place.
    pub mounted: Stage,
    /// The root is a folder that is there.
    pub exists: Stage,
    /// The service can read it and everything below.
    pub readable: Stage,
    /// How many titles a scan would find, if that can be told.
    pub titles: Option<u64>,
}

/// One row of the board: one library.
#[derive(Clone, Debug, PartialEq)]
pub struct Row {
    /// The serving service.
    pub service: String,
    /// The library's name.
    pub name: String,
    /// What it holds.
    pub kind: Kind,
    /// How it stands.
    pub stages: Stages,
    /// In one line.
    pub verdict: String,
    /// Whether a scan started now would find what is meant.
    pub ready: bool,
    /// Entries below the roots that were seen.
    pub entries: u64,
    /// Of those, the ones that the service can't read.
    pub unreadable: u64,
}

/// Where a finding is.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Where {
    /// The host.
    pub host: Option<String>,
    /// The path on that host.
    pub path: Option<AbsPath>,
    /// The line of the layout.
    pub line: Option<u32>,
}

/// One thing that is wrong or worth knowing.
#[derive(Clone, Debug, PartialEq)]
pub struct Finding {
    /// The rule.
    pub rule: RuleId,
    /// How much it matters here.
    pub severity: Severity,
    /// How it is known.
    pub evidence: Evidence,
    /// What it is about: `service:lantern library:Films`, `host:millrace mount:/mnt/x`.
    pub subject: String,
    /// What is wrong and why, in one sentence.
    pub message: String,
    /// Where.
    pub place: Where,
    /// What clears it.
    pub remedy: String,
    /// What that changes for others, where it is known: a sentence each.
    pub effects: Vec<String>,
    /// The libraries that it affects.
    pub affects: Vec<String>,
    /// The rule whose finding brings this one about; clearing that clears this.
    pub because: Option<RuleId>,
}

/// What was known of a host when it was judged.
#[derive(Clone, Debug, PartialEq)]
pub struct HostSeen {
    /// The host.
    pub host: String,
    /// When it was looked at (seconds since 1970 UTC) and from where that is known; `None` if only the layout speaks of it.
    pub seen: Option<(i64, crate::facts::Source)>,
    /// How long ago that was, in seconds.
    pub age: i64,
    /// What could not be seen there.
    pub gaps: Vec<Gap>,
}

/// The whole answer.
#[derive(Debug, PartialEq)]
pub struct Report {
    /// The site's name.
    pub site: String,
    /// A row per library, in the order of the layout.
    pub board: Vec<Row>,
    /// The gravest first.
    pub findings: Vec<Finding>,
    /// What is known of each host.
    pub hosts: Vec<HostSeen>,
    /// Findings that the layout silences.
    pub silenced: usize,
}

impl Report {
    /// How many findings have a severity.
    pub fn count(&self, severity: Severity) -> usize {
        self.findings.iter().filter(|finding| finding.severity == severity).count()
    }

    /// Whether any finding is at or above a severity.
    pub fn any_from(&self, severity: Severity) -> bool {
        self.findings.iter().any(|finding| finding.severity >= severity)
    }
}

/// Judges the whole site.
pub fn check(site: &Site) -> Report {
    let cases = cases(site);
    let mut findings = rules::judge(site, &cases);
    let silenced = settle(site, &mut findings);
    let board = rows(site, &cases);
    let declared = site.layout.hosts.iter().map(|host| host.name.as_str());
    let extra =
        site.observed().map(|(name, _)| name).filter(|name| site.layout.host(name).is_none());
    let hosts = declared
        .chain(extra)
        .map(|host| {
            let facts = site.facts(host);
            HostSeen {
                host: host.to_owned(),
                seen: facts.map(|facts| (facts.taken, facts.source.clone())),
                age: facts.map_or(0, |facts| site.now.saturating_sub(facts.taken).max(0)),
                gaps: facts.map(|facts| facts.gaps.clone()).unwrap_or_default(),
            }
        })
        .collect();
    Report { site: site.layout.site.clone(), board, findings, hosts, silenced }
}

fn cases(site: &Site) -> Vec<Case<'_>> {
    let mut cases = Vec::new();
    for service in site.layout.services.iter().filter(|s| s.roles.contains(&ServiceRole::Serve)) {
        let (subject, _) = site.subject_of(service);
        let view = View::Service(service.name.clone());
        for library in &service.libraries {
            for root in &library.roots {
                let subject = subject.clone();
                let route = root.path.as_ref().ok().map(|path| follow(site, &view, path, &subject));
                let folder = route.as_ref().filter(|route| is_folder(site, route));
                let scan = folder.map(|route| scan(site, route, library.kind));
                cases.push(Case { service, library, root, subject, route, scan });
            }
        }
    }
    cases
}

fn is_folder(site: &Site, route: &Route) -> bool {
    route.entry().is_some_and(|(step, node)| {
        site.tree(&step.seen_on).is_some_and(|tree| tree.meta(node).kind == EntryKind::Folder)
    })
}

/// Applies the layout's severities and silences, and puts findings in order. Returns how many were silenced.
fn settle(site: &Site, findings: &mut Vec<Finding>) -> usize {
    let settings = &site.layout.rules;
    for finding in findings.iter_mut() {
        let changed = settings.severity.iter().find(|(rule, _)| *rule == finding.rule);
        finding.severity = changed.map_or(finding.severity, |(_, severity)| *severity);
    }
    let before = findings.len();
    findings.retain(|finding| {
        !settings.silence.iter().any(|silence| {
            silence.rule == finding.rule
                && silence.below.as_ref().is_none_or(|below| {
                    finding.place.path.as_ref().is_some_and(|path| path.within(below))
                })
        })
    });
    // What follows from another finding stands after it.
    findings.sort_by_key(|f| (std::cmp::Reverse(f.severity), f.because.is_some()));
    before - findings.len()
}

/// Puts the roots of each library together into its row.
fn rows(site: &Site, cases: &[Case]) -> Vec<Row> {
    let mut rows: Vec<Row> = Vec::new();
    let mut start = 0;
    while start < cases.len() {
        let same = |case: &&Case| std::ptr::eq(case.library, cases[start].library);
        let count = cases[start..].iter().take_while(same).count();
        rows.push(row(site, &cases[start..start + count]));
        start += count;
    }
    rows
}

fn row(site: &Site, roots: &[Case]) -> Row {
    let (first, kind) = (&roots[0], roots[0].library.kind);
    let scans = || roots.iter().filter_map(|case| case.scan.as_ref());
    let each: Vec<(Stages, String)> = roots.iter().map(|case| stages(site, case)).collect();
    let worst = |stage: fn(&Stages) -> Stage| {
        each.iter().map(|(stages, _)| stage(stages)).max().expect("a library has a root")
    };
    let titles = each.iter().map(|(stages, _)| stages.titles).sum::<Option<u64>>();
    let stages = Stages {
        mapped: worst(|s| s.mapped),
        mounted: worst(|s| s.mounted),
        exists: worst(|s| s.exists),
        readable: worst(|s| s.readable),
        titles,
    };
    let all_ok = [stages.mapped, stages.mounted, stages.exists, stages.readable]
        .iter()
        .all(|stage| *stage == Stage::Ok);
    let ready = all_ok && titles.is_some_and(|titles| titles > 0);
    // The first root that has something to say speaks for the library.
    let verdict = if ready {
        "ready".to_owned()
    } else {
        each.into_iter().map(|(_, verdict)| verdict).find(|v| v != "ready").unwrap_or_default()
    };
    Row {
        service: first.service.name.clone(),
        name: first.library.name.clone(),
        kind,
        stages,
        verdict,
        ready,
        entries: scans().map(|scan| scan.entries).sum(),
        unreadable: scans().map(|scan| scan.unreadable).sum(),
    }
}

fn stages(site: &Site, case: &Case) -> (Stages, String) {
    use Stage::{Fail, Ok, Part, Skipped, Unknown};
    let mut stages =
        Stages { mapped: Ok, mounted: Ok, exists: Ok, readable: Skipped, titles: Some(0) };
    let Some(route) = &case.route else {
        stages = Stages { mapped: Fail, mounted: Skipped, exists: Skipped, ..stages };
        let fault = case.root.path.as_ref().err().map(ToString::to_string).unwrap_or_default();
        return (stages, format!("{} {fault}", shown(case.root.written.as_bytes())));
    };
    if let End::Uncovered { .. } = route.end {
        stages = Stages { mapped: Fail, mounted: Skipped, exists: Skipped, ..stages };
        return (stages, format!("no mapping covers {}", route.asked));
    }
    let absent = route.not_mounted.first();
    if absent.is_some() {
        stages.mounted = Fail;
    } else if route.entry().is_none()
        && !matches!(route.end, End::Missing(_) | End::NotAFolder { .. })
    {
        stages.mounted = if route.evidence() == Evidence::Observed { Ok } else { Unknown };
    }
    let fails = |stages: Stages, verdict: String| match absent {
        Some(absent) => {
            let stages = Stages { exists: Skipped, ..stages };
            (stages, format!("{} is not mounted", absent.point))
        }
        None => (stages, verdict),
    };
    let unknown = |stages: Stages, verdict: String| {
        (Stages { exists: Unknown, readable: Unknown, titles: None, ..stages }, verdict)
    };
    match &route.end {
        End::Reached if route.entry().is_none() => {
            return unknown(stages, format!("nobody has looked at {}", route.here().0));
        }
        End::Reached if case.scan.is_some() => {}
        End::Reached => {
            return fails(
                Stages { exists: Fail, ..stages },
                format!("{} is not a folder", route.asked),
            );
        }
        End::Volume { name } => {
            let verdict = format!("lies in the engine's volume {}", shown(name.as_bytes()));
            return unknown(stages, verdict);
        }
        End::Unseen { path, .. } => return unknown(stages, format!("{path} was not seen")),
        End::Missing(m) => {
            let verdict = match &m.other_case {
                Some(other) => format!("it is spelled {:?}", shown(other)),
                None => format!("{} is missing in {}", shown(&m.name), m.folder),
            };
            return fails(Stages { exists: Fail, ..stages }, verdict);
        }
        end => return fails(Stages { exists: Fail, ..stages }, end.words()),
    }
    let scan = case.scan.as_ref().expect("matched above");
    match case.root_readable(site) {
        Some(false) => {
            stages.readable = Fail;
            let verdict = judge(site, route, Need::Read);
            let verdict = format!("refused at {}", verdict.decided_at.1);
            return fails(stages, verdict);
        }
        None => {
            let why = judge(site, route, Need::Read).reason;
            return unknown(stages, why);
        }
        Some(true) if scan.unreadable > 0 => stages.readable = Part,
        Some(true) if scan.unseen > 0 => stages.readable = Unknown,
        Some(true) => stages.readable = Ok,
    }
    stages.titles = if scan.unseen > 0 && scan.titles == 0 { None } else { Some(scan.titles) };
    let verdict = if let Some(absent) = absent {
        format!("{} is not mounted; this is what lies beneath", absent.point)
    } else if scan.unreadable > 0 {
        format!("{} of {} can't be read", scan.unreadable, counted(scan.entries, "entry"))
    } else if scan.unseen > 0 {
        format!("{} could not be looked into", counted(scan.unseen, "folder"))
    } else if scan.titles == 0 {
        format!("nothing of kind {} in it", case.library.kind.word())
    } else {
        "ready".to_owned()
    };
    (stages, verdict)
}
