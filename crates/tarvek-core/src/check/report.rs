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
use crate::words::part::Part;
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
    let mut board = rows(site, &cases);
    board.iter_mut().for_each(|row| row.yield_to(&findings));
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
    // What a host serves otherwise than the layout says is to be changed there.
    for step in &mut finding.remedy.steps {
        let share = step.edit().and_then(|edit| match &edit.part {
            Part::Share(share) | Part::SmbOffer(share) | Part::Export { share, .. } => Some(share),
            _ => None,
        });
        if let Some(host) = share.and_then(|share| site.serves_otherwise(share)) {
            *step = Step::on(host, step.to_string());
        }
    }
    let edits = finding.remedy.edits().filter_map(|edit| adopted.of_edit(edit));
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

#[cfg(test)]
mod tests {
    use super::{Report, check, goes_through, of_names};
    use crate::layout::settings::Silence;
    use crate::rules::registry::named;
    use crate::tests::{Alter, Scene, abs, hold};
    use crate::words::place::Place;
    use crate::words::rule::Severity;
    use crate::words::terms::Protocol;

    /// Each finding with its severity, the gravest first, and how many are silenced.
    fn findings(scene: &Scene) -> String {
        let report = check(&scene.site());
        let one = |finding: &crate::words::finding::Finding| {
            format!("{} {}", finding.severity.word(), finding.rule.id)
        };
        let all: Vec<String> = report.findings.iter().map(one).collect();
        format!("{}; {} silenced", all.join(", "), report.silenced)
    }

    fn silence(scene: &mut Scene, rule: &str, below: Option<&str>) {
        let (rule, below) = (named(rule).unwrap(), below.map(abs));
        scene.layout.rules.silence.push(Silence { rule, below, why: "known".into() });
    }

    #[test]
    fn the_layout_changes_how_much_rules_matter_and_silences_them() {
        fn broken() -> Scene {
            let mut scene = Scene::local();
            scene.root("/media/flims").facts("granary").groups[1].gid = 7;
            scene
        }
        let cases: &[(Alter, &str)] = &[
            (|_| {}, "blocker path/missing, risk layout/differs-from-host; 0 silenced"),
            (
                |scene| silence(scene, "path/missing", None),
                "blocker library/nothing-found, risk layout/differs-from-host; 1 silenced",
            ),
            (
                |scene| silence(scene, "path/missing", Some("/loft")),
                "blocker library/nothing-found, risk layout/differs-from-host; 1 silenced",
            ),
            (
                |scene| silence(scene, "path/missing", Some("/tank")),
                "blocker path/missing, risk layout/differs-from-host; 0 silenced",
            ),
            (
                |scene| silence(scene, "path/case", None),
                "blocker path/missing, risk layout/differs-from-host; 0 silenced",
            ),
            // Nothing that has no path is below one.
            (
                |scene| silence(scene, "layout/differs-from-host", Some("/")),
                "blocker path/missing, risk layout/differs-from-host; 0 silenced",
            ),
            (
                |scene| {
                    let rule = named("layout/differs-from-host").unwrap();
                    scene.layout.rules.severity.push((rule, Severity::Blocker));
                    let rule = named("path/missing").unwrap();
                    scene.layout.rules.severity.push((rule, Severity::Note));
                },
                "blocker layout/differs-from-host, note path/missing; 0 silenced",
            ),
        ];
        hold(broken, findings, cases);
    }

    #[test]
    fn one_cause_is_one_finding_of_all_that_it_affects() {
        let mut scene = Scene::local();
        let mut second = scene.service("lantern").libraries[0].clone();
        second.name = "More films".into();
        scene.service("lantern").libraries.push(second);
        scene.unread("granary", "/loft/media/films/Low Water (2003)");
        let report = check(&scene.site());
        let unseen: Vec<_> =
            report.findings.iter().filter(|f| f.rule.id == "survey/not-seen").collect();
        assert_eq!(unseen.len(), 1, "{unseen:#?}");
        assert_eq!(unseen[0].affects.len(), 2);
        // That nothing is found where something is missing says no more.
        let report = check(&Scene::local().root("/media/flims").site());
        assert!(report.findings.iter().any(|f| f.rule.id == "path/missing"));
        assert!(report.findings.iter().all(|f| f.rule.id != "library/nothing-found"));
    }

    fn of(report: &Report) -> [usize; 3] {
        [Severity::Note, Severity::Risk, Severity::Blocker].map(|severity| report.count(severity))
    }

    #[test]
    fn findings_are_counted_by_how_much_they_matter() {
        let mut scene = Scene::local();
        scene.root("/media/flims").facts("granary").groups[1].gid = 7;
        let report = check(&scene.site());
        assert_eq!(of(&report).iter().sum::<usize>(), report.findings.len());
        assert_eq!(report.count(Severity::Blocker), 1, "{:?}", of(&report));
        assert!(report.any_from(Severity::Blocker) && report.any_from(Severity::Note));
        let whole = check(&Scene::local().site());
        assert!(!whole.any_from(Severity::Risk), "{:?}", whole.findings);
    }

    #[test]
    fn hosts_are_known_by_what_was_seen_of_them() {
        let mut scene = Scene::over(Protocol::Nfs);
        scene.unseen("millrace");
        scene.facts("aviary").taken = -7;
        let hosts = check(&scene.site()).hosts;
        let hosts: Vec<(&str, bool, i64)> =
            hosts.iter().map(|h| (h.host.raw(), h.seen.is_some(), h.age)).collect();
        assert_eq!(hosts, [("granary", true, 0), ("millrace", false, 0), ("aviary", true, 7)]);
    }

    #[test]
    fn a_check_goes_through_the_media() {
        let site = Scene::local().with_intake().site();
        let mut places: Vec<String> = goes_through(&site).iter().map(ToString::to_string).collect();
        places.sort();
        assert_eq!(
            places,
            [
                "granary:/loft/media/films",
                "granary:/loft/media/intake/done",
                "granary:/loft/media/intake/partial"
            ]
        );
    }

    #[test]
    fn names_are_judged_below_a_folder_that_nobody_declared() {
        let mut scene = Scene::local();
        for name in ["b/A.mkv", "b/a.mkv", "a/what?.mkv"] {
            scene.tree("granary", &format!("f 0644 0:0 /attic/{name}"));
        }
        let report = of_names(&scene.site(), &Place::new("granary", abs("/attic")));
        let told: Vec<(&str, String)> = report
            .findings
            .iter()
            .map(|f| (f.rule.id, f.place.path.as_ref().unwrap().to_string()))
            .collect();
        let told: Vec<(&str, &str)> = told.iter().map(|(rule, at)| (*rule, at.as_str())).collect();
        assert_eq!(
            told,
            [
                ("name/not-share-safe", "/attic/a/what?.mkv"),
                ("name/case-collision", "/attic/b/A.mkv"),
                ("name/case-collision", "/attic/b/a.mkv")
            ]
        );
        assert!(report.findings.iter().all(|f| !f.id.is_empty()) && report.board.is_empty());
    }
}
