//! One root of one library, followed and read: what most rules judge.

use crate::judge::along::judge;
use crate::judge::verdict::Need;
use crate::kernel::entry::Meta;
use crate::kernel::subject::Subject;
use crate::layout::mapping::Declared;
use crate::layout::service::{Library, Service, ServiceRole};
use crate::route::end::End;
use crate::route::follow;
use crate::route::hops::{Route, View, Waypoint};
use crate::scan::read::{Scan, scan};
use crate::site::join::Site;
use crate::words::about::{About, Affected};
use crate::words::finding::Finding;
use crate::words::place::Place;
use crate::words::rule::RuleId;

/// One root of one library, followed and read.
#[derive(Debug)]
pub struct Case<'a> {
    /// The serving service.
    pub service: &'a Service,
    pub library: &'a Library,
    pub root: &'a Declared,
    /// Whom the service runs as.
    pub subject: Subject,
    /// The way to the root; `None` if the root is not absolute.
    pub route: Option<Route>,
    /// What a scan would meet; `None` where the root was not reached.
    pub scan: Option<Scan>,
}

/// Every root of every library of a site.
pub fn cases(site: &Site) -> Vec<Case<'_>> {
    let mut cases = Vec::new();
    for service in site.layout.services.iter().filter(|s| s.roles.contains(&ServiceRole::Serve)) {
        let (subject, _) = site.subject_of(service);
        let view = View::service(&service.name);
        for library in &service.libraries {
            for root in &library.roots {
                let subject = subject.clone();
                let route = root.path.as_ref().ok().map(|path| follow(site, &view, path, &subject));
                let folder = route.as_ref().filter(|route| {
                    end_of(site, route).map_or(route.is_engine_made(), |(_, meta)| meta.is_folder())
                });
                let scan = folder.map(|route| scan(site, route, library.kind));
                cases.push(Case { service, library, root, subject, route, scan });
            }
        }
    }
    cases
}

/// The entry at the end of a route, if it was seen.
pub fn end_of<'r>(site: &Site, route: &'r Route) -> Option<(&'r Waypoint, Meta)> {
    let (end, node) = route.entry()?;
    Some((end, site.tree(&end.seen_on)?.meta(node)))
}

impl Case<'_> {
    /// What stands in its way.
    pub fn affected(&self) -> Affected {
        Affected::Library(self.library.name.clone())
    }

    /// A finding about it, where its root is written.
    pub fn finding(&self, rule: RuleId) -> Finding {
        let (service, library) = (self.service.name.clone(), self.library.name.clone());
        let about = About::Library { service, library };
        rule.finding(about).line(self.root.origin.line).affects([self.affected()])
    }

    /// A finding about the end of its route.
    pub fn finding_at_end(&self, rule: RuleId, route: &Route) -> Finding {
        self.finding(rule).at(route.here()).known(route.evidence())
    }

    /// Where its way ends, if it ends at an entry.
    pub fn end(&self) -> Option<&Place> {
        let route = self.route.as_ref().filter(|route| route.end == End::Reached)?;
        Some(route.here())
    }

    /// Whether the root itself can be listed and entered; `None` if that can't be told.
    pub fn root_readable(&self, site: &Site) -> Option<bool> {
        judge(site, self.route.as_ref()?, Need::Read).allowed()
    }
}
