//! `identity/*`: who a service is when it arrives at the files.

pub mod not_as_declared;
pub mod number_mismatch;
pub mod run_as_unset;
pub mod runs_as_root;
pub mod shared_account;
pub mod shifted;
pub mod squashed;
pub mod too_many_groups;
pub mod unknown_account;

use crate::layout::intake::Intake;
use crate::layout::service::Service;
use crate::route::follow;
use crate::route::hops::{Route, View};
use crate::route::places;
use crate::site::join::Site;
use crate::used::mapped::mapped;
use crate::words::about::{About, Affected};
use crate::words::finding::Finding;
use crate::words::rule::RuleId;

/// A finding about a service, which affects what it serves, and the intakes that it takes part in.
fn of_service(site: &Site, rule: RuleId, service: &Service) -> Finding {
    let libraries = service.libraries.iter();
    let takes_part = |intake: &&Intake| {
        let fetches = intake.fetch.as_ref().is_some_and(|fetch| fetch.service == service.name);
        fetches || intake.sort.as_ref().is_some_and(|sort| sort.service == service.name)
    };
    let intakes = site.layout.intakes.iter().filter(takes_part);
    rule.finding(About::Service(service.name.clone()))
        .on(&service.host)
        .line(service.origin.line)
        .affects(libraries.map(|library| Affected::Library(library.name.clone())))
        .affects(intakes.map(|intake| Affected::Intake(intake.name.clone())))
}

/// The ways of a service to everything that it uses, and to what it maps besides.
fn ways<'a>(site: &'a Site, service: &Service) -> impl Iterator<Item = Route> + 'a {
    let view = View::service(&service.name);
    let (subject, _) = site.subject_of(service);
    let places = places::of_service(site, service);
    let besides: Vec<Route> = mapped(site, service).into_iter().map(|map| map.route).collect();
    places.into_iter().map(move |path| follow(site, &view, &path, &subject)).chain(besides)
}
