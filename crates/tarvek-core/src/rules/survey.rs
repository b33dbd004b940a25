//! `survey/*`: what the answer does not rest on.

use super::{Rule, Severity};
use crate::check::{Case, Finding, Where};
use crate::route::{End, Evidence};
use crate::site::Site;
use crate::text::{ago, counted};

/// A host that nobody looked at.
pub static NONE: Rule = Rule {
    id: "survey/none",
    severity: Severity::Note,
    title: "A host was not looked at",
    means: "Libraries lead to a host of which there is no survey, so that only the layout speaks of it.",
    hurts: "Nothing says that the folders are there or can be read.",
    fix: "Survey the host, and give the survey to check.",
    example: "The layout declares granary, and check was run on millrace with no survey of granary beside it.",
};

/// Folders that could not be looked into.
pub static NOT_SEEN: Rule = Rule {
    id: "survey/not-seen",
    severity: Severity::Risk,
    title: "Part of a library could not be looked into",
    means: "Whoever made the survey was refused by some folders, or they vanished while it ran. What they hold is not part \
            of any verdict.",
    hurts: "The library may be less complete than it looks.",
    fix: "Survey again as root, or as an account that can read everything.",
    example: "The survey ran as an ordinary user, and mira's folder has mode 0700.",
};

/// A survey that is older than was asked for.
pub static TOO_OLD: Rule = Rule {
    id: "survey/too-old",
    severity: Severity::Risk,
    title: "A survey is older than allowed",
    means: "What is known of the host was seen longer ago than --max-age allows.",
    hurts: "The verdict may be true of a host that is no more.",
    fix: "Survey the host again, into the same file: only what changed is read.",
    example: "A nightly check with --max-age 2d; the storage host's survey has not been renewed for a week.",
};

/// A survey that was broken off.
pub static PARTIAL: Rule = Rule {
    id: "survey/partial",
    severity: Severity::Risk,
    title: "A survey was broken off",
    means: "The program that made the survey ended before it was done, and the file says so.",
    hurts: "What it lacks is not part of any verdict.",
    fix: "Survey the host again, into the same file.",
    example: "The machine was shut down while the survey was being written.",
};

/// A survey without ACLs.
pub static NO_ACLS: Rule = Rule {
    id: "survey/no-acls",
    severity: Severity::Risk,
    title: "ACLs were not collected",
    means: "The host had no tool that tells POSIX ACLs, so that access there was judged by mode bits alone.",
    hurts: "Whoever is let in or kept out by an ACL entry is judged wrongly.",
    fix: "Put getfacl on the host (the package is usually called acl), or survey it with tarvek itself, and collect again.",
    example: "A box with BusyBox only; the share grants the serving account by a named entry that the listing lacks.",
};

/// Judges one root.
pub(super) fn judge(site: &Site, case: &Case, findings: &mut Vec<Finding>) {
    let Some(route) = &case.route else { return };
    let (host, path) = route.here();
    let (message, example) = match (&route.end, &case.scan) {
        (End::Unseen { path, host, why }, _) => {
            let why = why.clone().unwrap_or_else(|| "the survey did not go there".into());
            (format!("{path} on {host} could not be seen: {why}"), path.clone())
        }
        (_, Some(scan)) if scan.unseen > 0 => {
            let example = scan.unseen_examples.first().cloned().unwrap_or(path);
            let count = counted(scan.unseen, "folder");
            (
                format!(
                    "{count} below {} could not be looked into, such as {example}",
                    route.asked
                ),
                example,
            )
        }
        _ => return,
    };
    let by = site.facts(&host).and_then(|facts| facts.taken_by).filter(|uid| *uid != 0);
    let by = by.map(|uid| format!(" (it was made as uid {uid})")).unwrap_or_default();
    findings.push(Finding {
        rule: &NOT_SEEN,
        severity: NOT_SEEN.severity,
        evidence: Evidence::Observed,
        subject: case.subject_text(),
        message: message + &by,
        remedy: match &route.end {
            End::Unseen { why: None, .. } => {
                format!("look at {host} again, with {example} among the roots")
            }
            _ => format!("look at {host} again as root"),
        },
        place: Where { host: Some(host), path: Some(example), line: Some(case.root.origin.line) },
        affects: vec![case.affected()],
        effects: Vec::new(),
        because: None,
    });
}

/// Judges the hosts that libraries lead to.
pub(super) fn judge_site(site: &Site, cases: &[Case], findings: &mut Vec<Finding>) {
    for (host, facts) in site.observed() {
        let finding = |rule: super::RuleId, message: String| Finding {
            rule,
            severity: rule.severity,
            evidence: Evidence::Observed,
            subject: format!("host:{host}"),
            message,
            place: Where { host: Some(host.to_owned()), ..Where::default() },
            remedy: format!("survey {host} again"),
            affects: Vec::new(),
            effects: Vec::new(),
            because: None,
        };
        let age = site.now.saturating_sub(facts.taken);
        if let Some(most) = site.max_age.filter(|most| age > *most) {
            let message =
                format!("{host} was seen {} ago; at most {} are allowed", ago(age), ago(most));
            findings.push(finding(&TOO_OLD, message));
        }
        if !facts.complete {
            findings.push(finding(&PARTIAL, format!("the survey of {host} was broken off")));
        }
        let leads_there = |case: &&Case| case.route.as_ref().is_some_and(|r| r.here().0 == host);
        let affects: Vec<String> = cases.iter().filter(leads_there).map(Case::affected).collect();
        if let Some(why) = facts.lacks("acl").filter(|_| !affects.is_empty()) {
            let message = format!("access on {host} is judged by mode bits alone: {why}");
            findings.push(Finding {
                remedy: format!("install getfacl on {host}, and collect again"),
                affects,
                ..finding(&NO_ACLS, message)
            });
        }
    }
    for host in &site.layout.hosts {
        let blind = |case: &&Case| {
            case.route.as_ref().is_some_and(|route| {
                route.end == End::Reached && route.entry().is_none() && route.here().0 == host.name
            })
        };
        let affects: Vec<String> = cases.iter().filter(blind).map(Case::affected).collect();
        if affects.is_empty() || site.facts(&host.name).is_some() {
            continue;
        }
        findings.push(Finding {
            rule: &NONE,
            severity: NONE.severity,
            evidence: Evidence::Declared,
            subject: format!("host:{}", host.name),
            message: format!(
                "nobody has looked at {}: {} of the board rest on the layout alone",
                host.name,
                counted(affects.len() as u64, "row")
            ),
            place: Where {
                host: Some(host.name.clone()),
                line: Some(host.origin.line),
                ..Where::default()
            },
            remedy: format!("collect a listing on {} and give it with --survey", host.name),
            affects,
            effects: Vec::new(),
            because: None,
        });
    }
}
