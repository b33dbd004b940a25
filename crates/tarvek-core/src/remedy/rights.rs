//! Findings that a change of rights clears, with the smallest one that does.

use crate::judge::verdict::Need;
use crate::remedy::access_request::{AccessRequest, remedy};
use crate::route::hops::Route;
use crate::site::join::Site;
use crate::words::finding::Finding;
use crate::words::remedy::Remedy;

/// A finding with what gives the subject of a route reading at its end and below.
pub(crate) fn readable(site: &Site, route: &Route, finding: Finding) -> Finding {
    with(site, &AccessRequest::at(route, &[Need::Read]).and_below(), finding)
}

/// A finding with what gives the subject of a route what it needs at its end.
pub(crate) fn usable(site: &Site, route: &Route, needs: &[Need], finding: Finding) -> Finding {
    with(site, &AccessRequest::at(route, needs), finding)
}

fn with(site: &Site, wish: &AccessRequest, finding: Finding) -> Finding {
    let none = || Remedy::from("no change of rights alone clears it: see the reason");
    finding.remedy(remedy(site, wish).unwrap_or_else(none))
}
