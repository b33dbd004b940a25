//! `library/*`: what a scan makes of a root.

use std::collections::VecDeque;

use super::{Rule, RuleId, Severity, access, identity, mount, path, share};
use crate::access::{Need, judge as decide};
use crate::check::{Case, Finding, Where};
use crate::facts::tree::{EntryKind, NodeId, Tree};
use crate::layout::Kind;
use crate::library::is_media;
use crate::path::AbsPath;
use crate::route::{End, Evidence, View, follow};
use crate::site::Site;
use crate::text::{counted, shell_quoted};

/// A library that would come out empty.
pub static NOTHING_FOUND: Rule = Rule {
    id: "library/nothing-found",
    severity: Severity::Blocker,
    title: "A scan would find nothing",
    means: "Following the root as the service does, no file of the library's kind can be reached and read. The finding names \
            the first reason along the way; where the way is in order, the folder itself holds nothing of this kind.",
    hurts: "The library is empty; if it was not empty before, the service may forget everything it knew about it.",
    fix: "Clear the reason. Where there is none, the root most likely leads to the wrong folder: trace it.",
    example: "The books library is mapped to /srv/books on the application host, where nobody ever put a book.",
};

/// Judges one root.
pub(super) fn judge(site: &Site, case: &Case, findings: &mut Vec<Finding>) {
    let Some((reason, because)) = empty_because(site, case) else { return };
    let (place, evidence) = match &case.route {
        Some(route) => {
            let (host, path) = route.here();
            (
                Where { host: Some(host), path: Some(path), line: Some(case.root.origin.line) },
                route.evidence(),
            )
        }
        None => {
            (Where { line: Some(case.root.origin.line), ..Where::default() }, Evidence::Declared)
        }
    };
    findings.push(Finding {
        rule: &NOTHING_FOUND,
        severity: NOTHING_FOUND.severity,
        evidence,
        subject: case.subject_text(),
        message: format!(
            "a scan of {} would find no {}: {reason}",
            crate::text::shown(case.root.written.as_bytes()),
            wanted(case.library.kind),
        ),
        place,
        remedy: remedy(site, case),
        effects: Vec::new(),
        because,
        affects: vec![case.affected()],
    });
}

fn wanted(kind: Kind) -> &'static str {
    match kind {
        Kind::Films => "film",
        Kind::Series => "episode",
        Kind::Music => "music",
        Kind::Photos => "photo",
        Kind::Books => "book",
        Kind::HomeVideo => "video",
    }
}

/// The first reason along the way why nothing can be found, and the rule that speaks of it; `None` if something is found,
/// or nobody can tell.
fn empty_because(site: &Site, case: &Case) -> Option<(String, Option<RuleId>)> {
    let Some(route) = &case.route else {
        return Some(("its root is not absolute".into(), Some(&path::NOT_ABSOLUTE)));
    };
    let scan = case.scan.as_ref();
    if scan.is_some_and(|scan| scan.files > 0) {
        return None;
    }
    if let Some(absent) = route.not_mounted.first() {
        let reason = format!("{} is not mounted on {}", absent.point, absent.host);
        return Some((reason, Some(&mount::NOT_MOUNTED)));
    }
    let rule: Option<RuleId> = match &route.end {
        End::Missing(missing) if missing.other_case.is_some() => Some(&path::CASE),
        End::Missing(_) => Some(&path::MISSING),
        End::NotAFolder { .. } => Some(&path::NOT_A_FOLDER),
        End::Uncovered { .. } => Some(&path::UNCOVERED),
        End::HiddenChild { .. } => Some(&share::CHILD_DATASET_HIDDEN),
        End::Refused { errno: "EINVAL", .. } => Some(&identity::SHIFTED),
        End::Refused { .. } => Some(&access::ROOT_UNREADABLE),
        End::Reached
        | End::Volume { .. }
        | End::Loop
        | End::LeavesShare { .. }
        | End::Unseen { .. } => None,
    };
    match (&route.end, scan) {
        (End::Unseen { .. } | End::Volume { .. }, _) => None,
        (End::Reached, None) if route.entry().is_none() => None,
        (End::Reached, None) => {
            Some(("its root is not a folder".into(), Some(&path::NOT_A_FOLDER)))
        }
        (End::Reached, Some(scan)) => {
            let read = decide(site, route, Need::Read);
            match read.allowed {
                Some(false) => {
                    let reason = format!("{} refuses {}", read.decided_at.1, case.subject);
                    Some((reason, Some(&access::ROOT_UNREADABLE)))
                }
                None => None,
                Some(true) if scan.unseen > 0 => None,
                Some(true) if scan.unreadable > 0 => {
                    let reason =
                        format!("{} in it can't be read", counted(scan.unreadable, "entry"));
                    Some((reason, Some(&access::ENTRIES_UNREADABLE)))
                }
                Some(true) => {
                    let (host, path) = route.here();
                    let holds = match scan.entries {
                        0 => "is empty".to_owned(),
                        count => format!("holds {}, none of this kind", counted(count, "entry")),
                    };
                    Some((format!("it leads to {path} on {host}, which {holds}"), None))
                }
            }
        }
        (end, _) => Some((end.words(), rule)),
    }
}

fn remedy(site: &Site, case: &Case) -> String {
    let elsewhere =
        case.route.as_ref().filter(|route| route.complete()).and_then(|_| elsewhere(site, case));
    match elsewhere {
        Some((host, folder, Some(seen))) => {
            format!("did you mean {seen}? it leads to {folder} on {host}, which holds some")
        }
        Some((host, folder, None)) => {
            format!(
                "did you mean {folder} on {host}? it holds some, but no mapping of {} leads there",
                case.service.name
            )
        }
        None => format!(
            "tarvek trace {} --from service:{}",
            shell_quoted(case.root.written.as_bytes()),
            shell_quoted(case.service.name.as_bytes())
        ),
    }
}

/// How deep below `/` a library's folder is looked for.
const DEEPEST: usize = 5;

/// A folder of the same name, or named like the kind, that does hold files of the kind; and the path under which the service
/// would see it.
fn elsewhere(site: &Site, case: &Case) -> Option<(String, AbsPath, Option<AbsPath>)> {
    let route = case.route.as_ref()?;
    let own = String::from_utf8_lossy(route.asked.name()?).to_lowercase();
    let names = [own.as_str(), case.library.kind.word()];
    for (host, facts) in site.observed() {
        let tree = &facts.tree;
        let mut todo: VecDeque<(NodeId, usize)> = [(Tree::ROOT, 0)].into();
        while let Some((node, depth)) = todo.pop_front() {
            let name = String::from_utf8_lossy(tree.name(node)).to_lowercase();
            let place = tree.path(node);
            if names.contains(&name.as_str())
                && route.here() != (host.to_owned(), place.clone())
                && holds_kind(tree, node, case.library.kind)
            {
                let seen = seen_as(site, case, host, &place);
                return Some((host.to_owned(), place, seen));
            }
            if depth < DEEPEST {
                let folders =
                    tree.children(node).filter(|n| tree.meta(*n).kind == EntryKind::Folder);
                todo.extend(folders.map(|folder| (folder, depth + 1)));
            }
        }
    }
    None
}

/// Whether a folder holds a file of a kind within its first levels.
fn holds_kind(tree: &Tree, folder: NodeId, kind: Kind) -> bool {
    let mut todo = vec![(folder, 0)];
    while let Some((node, depth)) = todo.pop() {
        for child in tree.children(node) {
            match tree.meta(child).kind {
                EntryKind::File if is_media(kind, tree.name(child)) => return true,
                EntryKind::Folder if depth < 3 => todo.push((child, depth + 1)),
                _ => {}
            }
        }
    }
    false
}

fn seen_as(site: &Site, case: &Case, host: &str, place: &AbsPath) -> Option<AbsPath> {
    let view = View::Service(case.service.name.clone());
    let maps = case.service.map.as_deref().unwrap_or(&[]).iter();
    let places = maps.filter_map(|map| map.to.path.as_ref().ok());
    places.into_iter().find_map(|to| {
        let route = follow(site, &view, to, &case.subject);
        let (on, base) = route.here();
        let rest = place.below(&base).filter(|_| on == host && route.complete())?;
        Some(to.join(rest))
    })
}
