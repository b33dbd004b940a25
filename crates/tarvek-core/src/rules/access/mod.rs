//! `access/*`: what accounts may do with the files, where they need it and where they do not.

mod folders;
mod intakes;

pub use folders::{NOT_AS_DECLARED, ORPHANED_OWNER, PER_USER_GRANTS, WORLD_WRITABLE};
pub use intakes::{CANNOT_ADD, CANNOT_REMOVE, MOVED_STAYS_PRIVATE, NOT_INHERITED};

use super::{Rule, Severity, identity};
use crate::access::{Need, Verdict, judge as decide};
use crate::check::{Case, Finding, Where};
use crate::library::Scan;
use crate::remedy::{Wish, remedy};
use crate::route::{End, Route};
use crate::site::Site;
use crate::text::counted;

/// A root that the account can't read.
pub static ROOT_UNREADABLE: Rule = Rule {
    id: "access/root-unreadable",
    severity: Severity::Blocker,
    title: "The serving account can't read a library's root",
    means: "On the way to the root, or at the root itself, the kernel refuses the account that the service runs as. The \
            finding names the first folder that refuses, and the entry that decides.",
    hurts: "The folder is there and its files are there, but the service shows nothing, or a folder that can't be opened.",
    fix: "Give the account read and search at the folder named, and below it, by an ACL entry that new files inherit; or \
          put it into a group that has them.",
    example: "The photos belong to mira:keepers with mode 0750, and the service's account is not in keepers.",
};

/// Entries below a root that the account can't read.
pub static ENTRIES_UNREADABLE: Rule = Rule {
    id: "access/entries-unreadable",
    severity: Severity::Blocker,
    title: "The serving account can read the root, but not everything below",
    means: "Some folders or files below the root refuse the account. They are counted, with what each folder hides, and \
            grouped by the entry that decides. Below one in a hundred it is a risk, above a blocker.",
    hurts: "Titles are missing or incomplete after a scan, without an error that anybody sees.",
    fix: "Repair the entries that are there, and set a default ACL or setgid with umask 002, so that new ones stay right.",
    example: "A film was copied in from a private folder and kept its mode 0600.",
};

/// A serving account that can write.
pub static MORE_THAN_NEEDED: Rule = Rule {
    id: "access/more-than-needed",
    severity: Severity::Risk,
    title: "A serving account can write to a library that it only reads",
    means: "The service only serves, and yet its account could add to the library, change it or remove from it.",
    hurts: "A fault or a break-in in the program that faces the network can then delete or encrypt the collection.",
    fix: "Make the mapping read-only; or mount the share read-only; or take the write permission from the account.",
    example: "The container runs as root and its mapping has no access = \"ro\".",
};

/// Judges one root.
pub(super) fn judge(site: &Site, case: &Case, findings: &mut Vec<Finding>) {
    let Some(route) = &case.route else { return };
    let refused = matches!(route.end, End::Refused { errno: "EACCES", .. });
    if route.entry().is_none() && !refused {
        return;
    }
    let finding = |rule: super::RuleId, verdict: &Verdict| Finding {
        rule,
        severity: rule.severity,
        evidence: verdict.evidence,
        subject: case.subject_text(),
        message: String::new(),
        place: Where {
            host: Some(verdict.decided_at.0.clone()),
            path: Some(verdict.decided_at.1.clone()),
            line: Some(case.service.origin.line),
        },
        remedy: String::new(),
        affects: vec![case.affected()],
        effects: Vec::new(),
        because: None,
    };
    let read = decide(site, route, Need::Read);
    let service = &case.service.name;
    if read.allowed == Some(false) {
        let (host, path) = &read.decided_at;
        findings.push(Finding {
            message: format!(
                "{service} ({}) can't read {}: {path} on {host}: {}",
                case.subject, route.asked, read.reason
            ),
            because: identity::shift_decides(site, route).then_some(&identity::SHIFTED),
            ..match &route.end {
                End::Refused { host, .. } => Finding {
                    remedy: format!("on {host}: admit the user in the smb of the share"),
                    ..finding(&ROOT_UNREADABLE, &read)
                },
                _ => repaired(site, route, true, finding(&ROOT_UNREADABLE, &read)),
            }
        });
        return;
    }
    let Some(scan) = &case.scan else { return };
    if scan.unreadable > 0 {
        findings.push(Finding {
            severity: if scan.unreadable * 100 < scan.entries {
                Severity::Risk
            } else {
                Severity::Blocker
            },
            message: unreadable_words(service, case, scan),
            place: Where {
                host: scan.causes.first().map(|cause| cause.host.clone()),
                path: scan.causes.first().and_then(|cause| cause.examples.first().cloned()),
                line: Some(case.service.origin.line),
            },
            ..repaired(site, route, true, finding(&ENTRIES_UNREADABLE, &read))
        });
    }
    if case.service.only_serves() {
        let add = decide(site, route, Need::Add);
        if add.allowed == Some(true) || scan.writable > 0 {
            let what = if add.allowed == Some(true) {
                format!("add to {} ({})", route.asked, add.reason)
            } else {
                format!("change {} below {}", counted(scan.writable, "entry"), route.asked)
            };
            findings.push(Finding {
                message: format!("{service} ({}) only serves, but could {what}", case.subject),
                remedy: more_remedy(case, route),
                ..finding(&MORE_THAN_NEEDED, &add)
            });
        }
    }
}

/// Judges intakes, folders and trees.
pub(super) fn judge_site(site: &Site, cases: &[Case], findings: &mut Vec<Finding>) {
    intakes::judge(site, cases, findings);
    folders::judge(site, cases, findings);
}

/// A finding with what gives the subject of a route reading at its end (and `below`).
fn repaired(site: &Site, route: &Route, below: bool, finding: Finding) -> Finding {
    repaired_for(site, route, &[Need::Read], below, finding)
}

/// A finding with what gives the subject of a route what it needs at its end.
fn repaired_for(
    site: &Site,
    route: &Route,
    needs: &[Need],
    below: bool,
    finding: Finding,
) -> Finding {
    let (view, path, subject) = (&route.view, &route.asked, &route.subject);
    match remedy(site, &Wish { view, path, subject, needs, below }) {
        Some(found) => Finding { remedy: found.text(), effects: found.effects, ..finding },
        None => {
            let remedy = "no change of rights alone clears it: see the reason".to_owned();
            Finding { remedy, ..finding }
        }
    }
}

fn unreadable_words(service: &str, case: &Case, scan: &Scan) -> String {
    let mut words = format!(
        "{service} ({}) can't read {} of {} below {}",
        case.subject,
        scan.unreadable,
        counted(scan.entries, "entry"),
        case.route.as_ref().map(|route| route.asked.to_string()).unwrap_or_default()
    );
    for cause in &scan.causes {
        let examples: Vec<String> = cause.examples.iter().map(ToString::to_string).collect();
        words += &format!("; {} by {}, such as {}", cause.count, cause.reason, examples.join(", "));
    }
    words
}

fn more_remedy(case: &Case, route: &Route) -> String {
    let mapping = route.mapping.and_then(|index| case.service.map.as_ref()?.get(index));
    match mapping {
        Some(mapping) => {
            format!(
                "add access = \"ro\" to the mapping in line {} of the layout",
                mapping.origin.line
            )
        }
        None => format!("run {} under an account that can only read", case.service.name),
    }
}
