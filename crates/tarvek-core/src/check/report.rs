//! The whole answer: the board, the findings, and what they rest on.

use std::collections::HashMap;

use crate::check::board::{Row, rows};
use crate::facts::host::{Gap, Source};
use crate::forecast::names_below::Names;
use crate::rules::access::trees::media_places;
use crate::rules::library::nothing_found;
use crate::rules::name::each::each;
use crate::rules::registry;
use crate::site::join::Site;
use crate::used::areas;
use crate::used::used_path::{used_paths, used_paths_unread};
use crate::words::about::Affected;
use crate::words::finding::{Finding, identify};
use crate::words::name::Name;
use crate::words::place::Place;
use crate::words::remedy::Step;
use crate::words::rule::{RuleId, Severity};
use crate::words::spot::Spot;

/// What was known of a host when it was judged.
#[derive(Clone, Debug, PartialEq)]
pub struct HostSeen {
    pub host: Name,
    /// When it was looked at (seconds since 1970 UTC) and from where that is known; `None` if only
    /// the layout speaks of it.
    pub seen: Option<(i64, Source)>,
    /// How long ago that was, in seconds.
    pub age: i64,
    /// What could not be seen there.
    pub gaps: Vec<Gap>,
}

/// The whole answer.
#[derive(Debug, PartialEq)]
pub struct Report {
    /// The site's name.
    pub site: Name,
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
    let cases = used_paths(site);
    let mut findings = registry::find(site, &cases);
    let silenced = settle(site, &mut findings);
    let board = rows(site, &cases);
    Report { site: site.layout.site.clone(), board, findings, hosts: hosts(site), silenced }
}

/// The places that a check goes through with all that is below them. Of surveys that are read in
/// part it asks for what leads to these, and to whatever else the layout names.
pub fn goes_through(site: &Site) -> Vec<Place> {
    for place in areas::named(site) {
        let _ = site.tree(&place.host).map(|tree| tree.find(&place.path));
    }
    let cases = used_paths_unread(site);
    let of_host = |(host, _)| {
        let places = media_places(site, host, &cases).into_iter();
        places.map(|path| Place::new(host, path)).collect::<Vec<_>>()
    };
    site.observed().flat_map(of_host).collect()
}

/// Judges the names below a folder, as an SMB client has them that mounts that folder: a finding
/// for each.
pub fn of_names(site: &Site, folder: &Place) -> Report {
    let mut names = Names::default();
    if let Some(tree) = site.tree(&folder.host) {
        names.add(tree, &folder.path, &folder.host, Some(0), usize::MAX);
    }
    let mut findings = each(&names);
    findings.sort_by(|a, b| a.place.path.cmp(&b.place.path));
    identify(&mut findings);
    let site_name = site.layout.site.clone();
    Report { site: site_name, board: Vec::new(), findings, hosts: hosts(site), silenced: 0 }
}

/// What is known of each host.
fn hosts(site: &Site) -> Vec<HostSeen> {
    let declared = site.layout.hosts.iter().map(|host| &host.name);
    let extra =
        site.observed().map(|(name, _)| name).filter(|name| site.layout.host(name).is_none());
    declared
        .chain(extra)
        .map(|host| {
            let facts = site.facts(host);
            HostSeen {
                host: host.clone(),
                seen: facts.map(|facts| (facts.taken, facts.source.clone())),
                age: facts.map_or(0, |facts| site.now.saturating_sub(facts.taken).max(0)),
                gaps: facts.map(|facts| facts.gaps.clone()).unwrap_or_default(),
            }
        })
        .collect()
}

/// Applies the layout's severities and silences, and puts findings in order. Returns how many were
/// silenced.
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
    let silenced = before - findings.len();
    one_cause_one_finding(findings);
    findings.iter_mut().for_each(|finding| of_its_origin(site, finding));
    // What follows from another finding stands after it.
    findings.sort_by_key(|f| (std::cmp::Reverse(f.severity), f.because.is_some()));
    identify(findings);
    silenced
}

/// A finding about what was adopted points at the file that it was adopted from; what is to be
/// edited stands there as well.
fn of_its_origin(site: &Site, finding: &mut Finding) {
    let adopted = &site.layout.adopted;
    let spot = finding.place.line.and_then(|line| adopted.of_line(line));
    finding.place.origin = finding.place.origin.take().or_else(|| spot.cloned());
    let edits = finding.remedy.edits().filter_map(|edit| adopted.of_line(edit.line));
    let mut files: Vec<&Spot> = edits.collect();
    files.dedup();
    let also: Vec<Step> = files
        .into_iter()
        .map(|spot| {
            Step::words(format!("change {spot} in the same way, from which it was adopted"))
        })
        .collect();
    finding.remedy.steps.extend(also);
}

/// Puts together what has one cause: that nothing is found says no more than the finding that
/// brings it about, and what is told of one place in the same words is one finding of all that it
/// affects.
fn one_cause_one_finding(findings: &mut Vec<Finding>) {
    // What each rule told of each library or intake.
    let affects: Vec<Vec<Affected>> =
        findings.iter().map(|finding| finding.affects.clone()).collect();
    let mut told: HashMap<(&str, Affected), Vec<usize>> = HashMap::new();
    for (n, finding) in findings.iter().enumerate() {
        for affected in &finding.affects {
            told.entry((finding.rule.id, affected.clone())).or_default().push(n);
        }
    }
    let has_cause = |finding: &Finding, cause: RuleId| {
        let Some(first) = finding.affects.first() else { return false };
        let candidates = told.get(&(cause.id, first.clone())).into_iter().flatten();
        candidates
            .into_iter()
            .any(|n| finding.affects.iter().all(|affected| affects[*n].contains(affected)))
    };
    findings.retain(|finding| {
        let cause = finding.because.filter(|_| finding.rule == &nothing_found::RULE);
        !cause.is_some_and(|cause| has_cause(finding, cause))
    });
    let mut kept: Vec<Finding> = Vec::new();
    let mut alike: HashMap<(&str, String), Vec<usize>> = HashMap::new();
    for finding in findings.drain(..) {
        let alike = alike.entry((finding.rule.id, finding.message.clone())).or_default();
        let same = |index: &&usize| {
            let other: &Finding = &kept[**index];
            other.place == finding.place && other.remedy == finding.remedy
        };
        match alike.iter().find(same) {
            Some(index) => {
                let other = &mut kept[*index];
                let new = finding.affects.into_iter().filter(|a| !other.affects.contains(a));
                other.affects.extend(new.collect::<Vec<_>>());
            }
            None => {
                alike.push(kept.len());
                kept.push(finding);
            }
        }
    }
    *findings = kept;
}
