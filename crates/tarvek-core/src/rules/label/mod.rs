//! `label/*`: SELinux labels of what containers see.

pub mod missing;
pub mod network_mount;
pub mod private_but_shared;

use crate::layout::mapping::Mapping;
use crate::layout::service::Service;
use crate::used::used_path::UsedPath;
use crate::words::about::About;
use crate::words::finding::Finding;
use crate::words::place::Place;
use crate::words::rule::RuleId;

/// A finding about a mapping of a service.
fn of_mapping(rule: RuleId, service: &Service, map: &Mapping, cases: &[UsedPath]) -> Finding {
    let of_service = |case: &&UsedPath| case.service.name == service.name;
    let finding = rule.finding(About::Service(service.name.clone())).line(map.origin.line);
    let finding = finding.affects(cases.iter().filter(of_service).map(UsedPath::affected));
    match map.folder() {
        Some((from, _)) => finding.at(&Place::new(&service.host, from)),
        None => finding.on(&service.host),
    }
}
