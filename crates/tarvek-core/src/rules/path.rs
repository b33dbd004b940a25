//! `path/*`: what lies at the places that mappings and libraries name.

use super::{Rule, Severity};
use crate::check::{Case, Finding, Where};
use crate::facts::tree::{EntryKind, Listing, Lookup};
use crate::layout::{Declared, MapSource, Service};
use crate::path::{AbsPath, PathFault, components};
use crate::route::{End, Evidence, Missing, Route, View, follow};
use crate::site::Site;
use crate::text::{counted, shell_quoted, shown};

/// A place that is not there.
pub static MISSING: Rule = Rule {
    id: "path/missing",
    severity: Severity::Blocker,
    title: "A place on the way does not exist",
    means: "Following the path from the service, a folder was read to the end and has no entry of the next name.",
    hurts: "The scan finds nothing. Worse, some engines make the missing folder by themselves, empty and owned by root, \
            and the fault then looks like an empty library.",
    fix: "Correct the path, if the finding names a near miss; otherwise make the folder on the host that should hold it.",
    example: "A library's root is /media/flims; the folder on the storage host is called films.",
};

/// A place that exists in another letter case.
pub static CASE: Rule = Rule {
    id: "path/case",
    severity: Severity::Blocker,
    title: "A place exists in another letter case only",
    means: "The folder has an entry whose name differs from the wanted one in upper and lower case only.",
    hurts: "Linux filesystems tell Films from films, so the scan finds nothing, although a person who looks through a \
            share from a desktop sees the folder under either spelling.",
    fix: "Write the exact spelling in the layout and in the service, or rename the folder on the storage host.",
    example: "The library's root is /media/Music, the folder is /silo/media/music.",
};

/// Something else than a folder.
pub static NOT_A_FOLDER: Rule = Rule {
    id: "path/not-a-folder",
    severity: Severity::Blocker,
    title: "A file or special file stands where a folder is needed",
    means: "The path leads to something that can't hold entries.",
    hurts: "A scan of it fails, and so does every path that would lead through it.",
    fix: "Point the library at the folder, or move what stands in its place.",
    example: "The root was set to a playlist file that lies among the films.",
};

/// A path that no mapping covers.
pub static UNCOVERED: Rule = Rule {
    id: "path/uncovered",
    severity: Severity::Blocker,
    title: "No mapping covers the path",
    means: "The service runs with mappings, and none of them is this path or one of the folders above it. What the service \
            sees there is its own storage.",
    hurts: "The path can't reach the storage host. What is written there vanishes when the container is made anew.",
    fix: "Add a mapping, or write the path as the service sees it, not as the host does.",
    example: "The service maps /mnt/granary/media to /media, and a library's root was set to /mnt/granary/media/films.",
};

/// A mapping or root that is not absolute.
pub static NOT_ABSOLUTE: Rule = Rule {
    id: "path/not-absolute",
    severity: Severity::Blocker,
    title: "A mapping or root is not absolute",
    means: "A path is relative, or has a \"..\" component, where only an absolute one has one meaning.",
    hurts: "Engines read a relative source as the name of a volume or as relative to some file; the service then sees an \
            empty folder.",
    fix: "Write the absolute form.",
    example: "{ from = \"media\", to = \"/media\" }",
};

/// A mapping that hides part of another.
pub static SHADOWED: Rule = Rule {
    id: "path/shadowed",
    severity: Severity::Risk,
    title: "One mapping hides a subfolder of another",
    means: "Two mappings nest, and a library uses the place where the inner one covers what the outer one would show.",
    hurts: "Files that are there on the host can't be seen by the service, and nothing says so.",
    fix: "Give the inner mapping a place of its own, or drop it if the outer one already shows the right folder.",
    example: "/silo/media is mapped to /media and /silo/old/films to /media/films: the new films are hidden.",
};

fn finding(case: &Case, route: &Route, rule: super::RuleId) -> Finding {
    let (host, path) = route.here();
    Finding {
        rule,
        severity: rule.severity,
        evidence: route.evidence(),
        subject: case.subject_text(),
        message: String::new(),
        place: Where { host: Some(host), path: Some(path), line: Some(case.root.origin.line) },
        remedy: String::new(),
        affects: vec![case.affected()],
        effects: Vec::new(),
        because: None,
    }
}

/// Judges one root.
pub(super) fn judge(site: &Site, case: &Case, findings: &mut Vec<Finding>) {
    let Some(route) = &case.route else {
        findings.push(not_absolute(
            case.root,
            case.subject_text(),
            "the root",
            vec![case.affected()],
        ));
        return;
    };
    match &route.end {
        End::Uncovered { mapped } => findings.push(Finding {
            message: format!(
                "no mapping of {} covers {}; it maps {}",
                case.service.name,
                route.asked,
                listed(mapped)
            ),
            remedy: uncovered_remedy(case.service, &route.asked),
            ..finding(case, route, &UNCOVERED)
        }),
        // Where a mount is missing, what lies beneath is nobody's mistake.
        End::Missing(missing) if route.not_mounted.is_empty() => {
            findings.push(missing_finding(case, route, missing));
        }
        End::NotAFolder { path, kind, .. } if route.not_mounted.is_empty() => {
            findings.push(Finding {
                message: format!("{path} is a {kind}; {} needs a folder there", route.asked),
                remedy: "point the root at the folder that holds the titles".into(),
                ..finding(case, route, &NOT_A_FOLDER)
            });
        }
        End::Reached if route.not_mounted.is_empty() => {
            let entry = route
                .entry()
                .and_then(|(step, node)| Some((step, site.tree(&step.seen_on)?.meta(node))));
            if let Some((step, meta)) = entry.filter(|(_, meta)| meta.kind != EntryKind::Folder) {
                let parent = route.asked.parent().unwrap_or_else(AbsPath::root);
                findings.push(Finding {
                    message: format!("{} is a {}, not a folder", step.path, meta.kind.word()),
                    remedy: format!("point the root at a folder, for example {parent}"),
                    ..finding(case, route, &NOT_A_FOLDER)
                });
            }
        }
        _ => {}
    }
    shadowed(site, case, route, findings);
}

fn listed(paths: &[AbsPath]) -> String {
    match paths {
        [] => "nothing".to_owned(),
        paths => paths.iter().map(ToString::to_string).collect::<Vec<_>>().join(", "),
    }
}

/// The mapping line to add, or the path as the service sees it if the root was written as the host sees it.
fn uncovered_remedy(service: &Service, root: &AbsPath) -> String {
    let maps = service.map.as_deref().unwrap_or(&[]);
    for map in maps {
        let MapSource::Folder(Declared { path: Ok(from), .. }) = &map.source else { continue };
        if let (Some(rest), Ok(to)) = (root.below(from), &map.to.path) {
            return format!("write the root as {} sees it: {}", service.name, to.join(rest));
        }
    }
    let targets: Vec<String> =
        maps.iter().filter_map(|m| m.to.path.as_ref().ok()).map(ToString::to_string).collect();
    let first =
        root.components().next().map(|part| format!("/{}", shown(part))).unwrap_or_default();
    let near = crate::text::nearest(&first, targets.iter().map(String::as_str));
    let near = near.map(|near| format!("; or did you mean {near}?")).unwrap_or_default();
    format!(
        "add to the map of {}: {{ from = \"<host folder>\", to = \"{root}\", access = \"ro\" }}{near}",
        service.name
    )
}

fn missing_finding(case: &Case, route: &Route, missing: &Missing) -> Finding {
    let place = missing.folder.child(&missing.name);
    let base = Finding {
        place: Where {
            host: Some(missing.host.clone()),
            path: Some(place.clone()),
            line: Some(case.root.origin.line),
        },
        ..finding(case, route, &MISSING)
    };
    if let Some(other) = &missing.other_case {
        return Finding {
            rule: &CASE,
            severity: CASE.severity,
            message: format!(
                "{} has {:?}, but {:?} was asked for: upper and lower case differ",
                missing.folder,
                shown(other),
                shown(&missing.name)
            ),
            remedy: format!("{} (or rename the folder)", respelled(route, &missing.name, other)),
            ..base
        };
    }
    let what = match missing.entries {
        0 => "it is empty".to_owned(),
        count => format!("it has {}", counted(count as u64, "other entry")),
    };
    let remedy = match &missing.near {
        Some(near) => format!(
            "did you mean {:?}? then {}",
            shown(near),
            respelled(route, &missing.name, near)
        ),
        None => format!("on {}: mkdir {}", missing.host, shell_quoted(place.as_bytes())),
    };
    Finding {
        message: format!(
            "{} on {} has no {:?}; {what}",
            missing.folder,
            missing.host,
            shown(&missing.name)
        ),
        remedy,
        ..base
    }
}

/// The root as it should have been written: the last component of that name before the break is replaced.
fn respelled(route: &Route, wrong: &[u8], right: &[u8]) -> String {
    let reached = route.levels.first().map_or(0, |(_, path)| path.components().count());
    let parts: Vec<&[u8]> = route.asked.components().collect();
    // A name inside a mapping's source does not occur in the root; then the mapping is what to change.
    let Some(at) = parts.iter().take(reached.max(1)).rposition(|part| *part == wrong) else {
        let place = route.levels.last().map(|(_, path)| path.clone()).unwrap_or_else(AbsPath::root);
        let exact = place.parent().unwrap_or_else(AbsPath::root).child(right);
        return format!("write {exact} in the mapping or mount");
    };
    let path = parts
        .iter()
        .enumerate()
        .fold(AbsPath::root(), |path, (n, part)| path.child(if n == at { right } else { part }));
    format!("write the root as {path}")
}

fn not_absolute(written: &Declared, subject: String, what: &str, affects: Vec<String>) -> Finding {
    let fault = written.path.as_ref().err().copied().unwrap_or(PathFault::Relative);
    Finding {
        rule: &NOT_ABSOLUTE,
        severity: NOT_ABSOLUTE.severity,
        evidence: Evidence::Declared,
        subject,
        message: format!("{what} {:?} {fault}", shown(written.written.as_bytes())),
        place: Where { line: Some(written.origin.line), ..Where::default() },
        remedy: format!("write it as {}", absolute_form(written.written.as_bytes())),
        affects,
        effects: Vec::new(),
        because: None,
    }
}

fn absolute_form(written: &[u8]) -> AbsPath {
    let clean: Vec<u8> = written.iter().copied().filter(|b| *b != 0).collect();
    let mut stack: Vec<&[u8]> = Vec::new();
    for part in components(&clean) {
        match part {
            b".." => drop(stack.pop()),
            part => stack.push(part),
        }
    }
    stack.into_iter().fold(AbsPath::root(), |path, part| path.child(part))
}

/// Judges every mapping, used by a library or not.
pub(super) fn judge_mappings(site: &Site, _: &[Case], findings: &mut Vec<Finding>) {
    for service in &site.layout.services {
        for map in service.map.as_deref().unwrap_or(&[]) {
            let from = match &map.source {
                MapSource::Folder(from) => Some(from),
                _ => None,
            };
            for (written, what) in from
                .into_iter()
                .map(|f| (f, "the mapping's from"))
                .chain([(&map.to, "the mapping's to")])
            {
                if written.path.is_err() {
                    let subject = format!("service:{}", shown(service.name.as_bytes()));
                    findings.push(not_absolute(written, subject, what, Vec::new()));
                }
            }
        }
    }
}

/// A mapping inside another, where the root uses the place and the outer mapping would show another folder there.
fn shadowed(site: &Site, case: &Case, route: &Route, findings: &mut Vec<Finding>) {
    let maps = case.service.map.as_deref().unwrap_or(&[]);
    let places = || maps.iter().filter_map(|map| Some((map, map.to.path.as_ref().ok()?)));
    for (inner, place) in places() {
        let used = route.asked.within(place) || place.within(&route.asked);
        let outer = places().filter(|(_, to)| place.within(to) && *to != place);
        let Some((outer, to)) = outer.max_by_key(|(_, to)| to.as_bytes().len()).filter(|_| used)
        else {
            continue;
        };
        let (MapSource::Folder(Declared { path: Ok(from), .. }), Some(rest)) =
            (&outer.source, place.below(to))
        else {
            continue;
        };
        let beneath = from.join(rest);
        let host = View::Host(case.service.host.clone());
        let hidden = follow(site, &host, &beneath, &case.subject);
        if let MapSource::Folder(Declared { path: Ok(shows), .. }) = &inner.source {
            // Both may show one folder; then nothing is hidden.
            let shown = follow(site, &host, shows, &case.subject);
            if shown.here() == hidden.here() {
                continue;
            }
        }
        let (holds, evidence) = match (&hidden.end, hidden.entry()) {
            (End::Reached, Some((step, node))) => {
                let Some(tree) = site.tree(&step.seen_on) else { continue };
                match (tree.children(node).len() as u64, tree.listing(node)) {
                    (0, Listing::Complete) => continue,
                    (0, _) => ("what it holds was not seen".to_owned(), Evidence::Declared),
                    (count, _) => {
                        (format!("it holds {}", counted(count, "entry")), Evidence::Observed)
                    }
                }
            }
            (End::Missing(_) | End::NotAFolder { .. }, _) => continue,
            _ => ("whether it is there was not seen".to_owned(), Evidence::Declared),
        };
        findings.push(Finding {
            evidence,
            message: format!(
                "the mapping to {place} hides {beneath} of the mapping to {to}; {holds}"
            ),
            remedy: format!("map it beside {to}, not inside it, or drop one of the two mappings"),
            place: Where {
                host: Some(case.service.host.clone()),
                path: Some(beneath.clone()),
                line: Some(inner.origin.line),
            },
            ..finding(case, route, &SHADOWED)
        });
    }
}

/// How many entries lie in a folder of a host, if it was read.
pub(super) fn entries_in(site: &Site, host: &str, path: &AbsPath) -> Option<u64> {
    let tree = site.tree(host)?;
    match tree.find(path) {
        Lookup::Found(node) if tree.listing(node) == Listing::Complete => {
            Some(tree.children(node).len() as u64)
        }
        _ => None,
    }
}
