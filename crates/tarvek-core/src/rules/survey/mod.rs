//! `survey/*`: what the answer does not rest on.

pub mod no_acls;
pub mod none;
pub mod not_seen;
pub mod partial;
pub mod too_old;

use crate::used::used_path::UsedPath;
use crate::words::about::{About, Affected};
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::rule::RuleId;

/// A finding about what was seen of a host.
fn of_host(rule: RuleId, host: &Name) -> Finding {
    let finding = rule.finding(About::Host(host.clone())).on(host).known(Evidence::Observed);
    finding.remedy(format!("survey {host} again"))
}

/// The libraries that lead to a host.
fn leading_to(cases: &[UsedPath], host: &Name) -> Vec<Affected> {
    let there = |case: &&UsedPath| case.route.as_ref().is_some_and(|r| r.here().host == *host);
    cases.iter().filter(there).map(UsedPath::affected).collect()
}
