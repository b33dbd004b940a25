//! Findings that a change of rights clears, with the smallest one that does.

use crate::judge::verdict::Need;
use crate::remedy::access_request::{AccessRequest, Repaired, remedy, repaired};
use crate::route::hops::Route;
use crate::site::join::Site;
use crate::words::finding::Finding;
use crate::words::remedy::Remedy;

/// A finding with what gives the subject of a route reading at its end and below.
pub(crate) fn readable(site: &Site, route: &Route, finding: Finding) -> Finding {
    with(site, &AccessRequest::at(route, &[Need::Read]).and_below(), finding)
}

/// A finding with what gives the subject of a route what it needs at its end; in words alone, if on
/// the changed site somebody else could not do what they have to.
pub(crate) fn usable(
    site: &Site,
    route: &Route,
    needs: &[Need],
    finding: Finding,
    keeps: impl Fn(&Site) -> bool,
) -> Finding {
    let repaired = repaired(site, &AccessRequest::at(route, needs));
    if let Some(Repaired { remedy, .. }) = repaired.filter(|after| !keeps(&after.site)) {
        let words = format!(
            "no single change of rights gives it without taking from others what they need: {}",
            remedy.effects.join("; ")
        );
        return finding.remedy(words);
    }
    with(site, &AccessRequest::at(route, needs), finding)
}

fn with(site: &Site, wish: &AccessRequest, finding: Finding) -> Finding {
    let none = || Remedy::from("no change of rights alone clears it: see the reason");
    finding.remedy(remedy(site, wish).unwrap_or_else(none))
}
