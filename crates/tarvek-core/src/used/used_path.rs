//! One place that a service uses, followed and read: what most rules judge.

use std::sync::{Arc, OnceLock};

use rayon::prelude::*;

use crate::forecast::names_below::{Names, names_below};
use crate::forecast::titles::{Detail, Forecast, forecast};
use crate::judge::access_check::judge;
use crate::judge::verdict::Need;
use crate::kernel::entry::Meta;
use crate::kernel::subject::Subject;
use crate::layout::intake::{InView, Intake, Station};
use crate::layout::mapping::Declared;
use crate::layout::service::{Library, Service, ServiceRole};
use crate::route::end::End;
use crate::route::hops::{Hop, HopKind, Route, View, Waypoint};
use crate::route::{follow, follow_again};
use crate::scan::read::{Scan, scan};
use crate::site::join::Site;
use crate::waste::found::AllWaste;
use crate::words::about::{About, Affected};
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::part::{Part, Side};
use crate::words::path::AbsPath;
use crate::words::place::Place;
use crate::words::remedy::Step;
use crate::words::rule::RuleId;

/// What a service uses a place for.
#[derive(Clone, Copy, Debug)]
pub enum Use<'a> {
    /// It serves a library from it.
    Library(&'a Library),
    /// A download passes it.
    Intake(&'a Intake, Station),
}

/// One place that a service uses, a root of a library or a folder of an intake, followed and read.
#[derive(Debug)]
pub struct UsedPath<'a> {
    /// The service that uses it.
    pub service: &'a Service,
    pub used: Use<'a>,
    /// As the service sees it.
    pub root: Declared,
    /// Whom the service runs as.
    pub subject: Subject,
    /// The way to the root; `None` if the root is not absolute.
    pub route: Option<Route>,
    /// What a scan would meet; `None` for an intake, and where the root was not reached.
    pub scan: Option<Scan>,
    /// What it would make of that.
    pub forecast: Option<Forecast>,
    /// Names in it that break somewhere; made when they are first asked for.
    names: OnceLock<Names>,
    /// Waste in all the places that were followed together; made when it is first asked for.
    pub(crate) wasted: Arc<OnceLock<AllWaste>>,
}

/// Every root of every library of a site, then every folder of every intake.
pub fn used_paths(site: &Site) -> Vec<UsedPath<'_>> {
    every(site, case)
}

/// The same, followed but not read.
pub fn used_paths_unread(site: &Site) -> Vec<UsedPath<'_>> {
    every(site, |site, service, used, root| {
        let (subject, _) = site.subject_of(service);
        let view = View::service(&service.name);
        let route = root.path.as_ref().ok().map(|path| follow(site, &view, path, &subject));
        let (names, wasted) = (OnceLock::new(), Arc::default());
        UsedPath { service, used, root, subject, route, scan: None, forecast: None, names, wasted }
    })
}

type MakeCase<'a> = fn(&'a Site, &'a Service, Use<'a>, Declared) -> UsedPath<'a>;

fn every<'a>(site: &'a Site, case: MakeCase<'a>) -> Vec<UsedPath<'a>> {
    let mut places: Vec<(&Service, Use, Declared)> = Vec::new();
    for service in site.layout.services.iter().filter(|s| s.roles.contains(&ServiceRole::Serve)) {
        for library in &service.libraries {
            let roots = library.roots.iter();
            places.extend(roots.map(|root| (service, Use::Library(library), root.clone())));
        }
    }
    for intake in &site.layout.intakes {
        for (service, station, root) in stations(intake) {
            let Some(service) = site.layout.service(service) else { continue };
            places.push((service, Use::Intake(intake, station), declared(root)));
        }
    }
    let followed = places.into_par_iter();
    let mut cases: Vec<UsedPath> =
        followed.map(|(service, used, root)| case(site, service, used, root)).collect();
    let wasted = Arc::default();
    for case in &mut cases {
        case.wasted = Arc::clone(&wasted);
    }
    cases
}

fn case<'a>(site: &Site, service: &'a Service, used: Use<'a>, root: Declared) -> UsedPath<'a> {
    let (subject, _) = site.subject_of(service);
    used_path_in(site, service, used, root, &View::service(&service.name), subject)
}

/// A place as somebody else sees it.
pub fn used_path_in<'a>(
    site: &Site,
    service: &'a Service,
    used: Use<'a>,
    root: Declared,
    view: &View,
    subject: Subject,
) -> UsedPath<'a> {
    let route = root.path.as_ref().ok().map(|path| follow(site, view, path, &subject));
    let folder = route.as_ref().filter(|route| {
        end_of(site, route).map_or(route.is_engine_made(), |(_, meta)| meta.is_folder())
    });
    // What somebody unknown would read, nobody can tell.
    let folder = folder.filter(|route| route.doubt().is_none());
    let scan = match used {
        Use::Library(library) => folder.map(|route| scan(site, route, library.kind)),
        Use::Intake(..) => None,
    };
    let forecast = match (used, &root.path, &scan) {
        (Use::Library(library), Ok(root), Some(scan)) => {
            Some(forecast(site, library.kind, [(root, scan)], Detail::Figures))
        }
        _ => None,
    };
    let (names, wasted) = (OnceLock::new(), Arc::default());
    UsedPath { service, used, root, subject, route, scan, forecast, names, wasted }
}

/// Whether everything that services can use now they can still use on a changed site.
pub fn stays_usable(cases: &[UsedPath], site: &Site, after: &Site) -> bool {
    cases.iter().all(|case| {
        let Some(route) = &case.route else { return true };
        let can = |site: &Site, route: &Route| judge(site, route, case.need()).is_allowed();
        let again = || {
            let (subject, _) = after.subject_of(after.layout.service(&case.service.name)?);
            Some(follow_again(after, route, &subject))
        };
        !can(site, route) || again().is_none_or(|again| can(after, &again))
    })
}

/// The first mount on the way that only a host could show at which nobody looked.
pub fn unseen_mount<'r>(site: &Site, route: &'r Route) -> Option<&'r Hop> {
    route.hops.iter().find(|hop| {
        let is_declared = hop.kind == HopKind::Mount && hop.evidence == Evidence::Declared;
        is_declared && site.mounts(&hop.from.host).is_none()
    })
}

/// What scans of all roots of one library come to.
pub fn of_library(site: &Site, roots: &[UsedPath], detail: Detail) -> Forecast {
    let scans =
        roots.iter().filter_map(|case| Some((case.root.path.as_ref().ok()?, case.scan.as_ref()?)));
    let kind = roots.iter().find_map(|case| Some(case.library()?.kind));
    kind.map(|kind| forecast(site, kind, scans, detail)).unwrap_or_default()
}

/// The places of each library and of each intake, together.
pub fn rows<'c, 'a>(cases: &'c [UsedPath<'a>]) -> impl Iterator<Item = &'c [UsedPath<'a>]> {
    cases.chunk_by(|one, other| {
        one.affected() == other.affected()
            && (one.library().is_none() || one.service.name == other.service.name)
    })
}

impl UsedPath<'_> {
    /// The same place in a site whose layout was edited: of the same library or intake, at the same
    /// line.
    pub(crate) fn again<'s>(&self, site: &'s Site) -> Option<UsedPath<'s>> {
        let service = site.layout.service(&self.service.name)?;
        let line = self.root.origin.line;
        match self.used {
            Use::Library(library) => {
                let nth = library.roots.iter().position(|root| *root == self.root)?;
                let again = service.libraries.iter().find(|again| again.name == library.name)?;
                Some(case(site, service, Use::Library(again), again.roots.get(nth)?.clone()))
            }
            Use::Intake(intake, station) => {
                let all = stations(site.layout.intakes.iter().find(|a| a.name == intake.name)?);
                let same = |(_, s, root): &(&Name, Station, &InView)| {
                    *s == station && root.origin.line == line
                };
                let (_, station, root) = all.into_iter().find(same)?;
                let intake = site.layout.intakes.iter().find(|a| a.name == intake.name)?;
                Some(case(site, service, Use::Intake(intake, station), declared(root)))
            }
        }
    }
}

/// The folders of an intake, each with the service that uses it.
pub(crate) fn stations(intake: &Intake) -> Vec<(&Name, Station, &InView)> {
    let mut all = Vec::new();
    if let Some(fetch) = &intake.fetch {
        let partial = fetch.partial.iter().map(|partial| (Station::Partial, partial));
        let both = partial.chain([(Station::Done, &fetch.done)]);
        all.extend(both.map(|(station, root)| (&fetch.service, station, root)));
    }
    if let Some(sort) = &intake.sort {
        let both = [(Station::Reads, &sort.reads), (Station::FilesInto, &sort.files_into)];
        all.extend(both.map(|(station, root)| (&sort.service, station, root)));
    }
    all
}

fn declared(root: &InView) -> Declared {
    let written = String::from_utf8_lossy(root.path.as_bytes()).as_ref().into();
    Declared { written, path: Ok(root.path.clone()), origin: root.origin }
}

/// The entry at the end of a route, if it was seen.
pub fn end_of<'r>(site: &Site, route: &'r Route) -> Option<(&'r Waypoint, Meta)> {
    let (end, node) = route.entry()?;
    Some((end, site.tree(&end.seen_on)?.meta(node)))
}

impl UsedPath<'_> {
    /// The library, if it is one that uses the place.
    pub fn library(&self) -> Option<&Library> {
        match self.used {
            Use::Library(library) => Some(library),
            Use::Intake(..) => None,
        }
    }

    /// Names in it that break somewhere.
    pub fn names(&self, site: &Site) -> &Names {
        self.names.get_or_init(|| match &self.scan {
            Some(scan) => names_below(site, scan),
            None => Names::default(),
        })
    }

    /// What names it in the layout: the part, and the key in it.
    pub(crate) fn part(&self) -> (Part, &'static str) {
        match self.used {
            Use::Library(library) => {
                let (service, library) = (self.service.name.clone(), library.name.clone());
                (Part::Root { service, library, root: self.root.written.clone() }, "")
            }
            Use::Intake(intake, station) => {
                let side = match station {
                    Station::Partial | Station::Done => Side::Fetch,
                    Station::Reads | Station::FilesInto => Side::Sort,
                };
                (Part::IntakeSide { intake: intake.name.clone(), side }, station.word())
            }
        }
    }

    /// The step that names another folder in its place.
    pub(crate) fn name_instead(&self, site: &Site, path: &AbsPath) -> Step {
        let (part, key) = self.part();
        site.layout.set_path(part, key, path)
    }

    /// What the place is to the service: `root`, `done folder`.
    pub fn what(&self) -> &'static str {
        match self.used {
            Use::Library(_) => "root",
            Use::Intake(_, Station::Partial) => "partial folder",
            Use::Intake(_, Station::Done) => "done folder",
            Use::Intake(_, Station::Reads) => "folder that is read",
            Use::Intake(_, Station::FilesInto) => "folder that is filed into",
        }
    }

    /// What the service has to be able to do there.
    pub fn need(&self) -> Need {
        match self.used {
            Use::Library(_) | Use::Intake(_, Station::Reads) => Need::Read,
            Use::Intake(..) => Need::Add,
        }
    }

    /// What suffers where something stands in its way.
    pub fn affected(&self) -> Affected {
        match self.used {
            Use::Library(library) => Affected::Library(library.name.clone()),
            Use::Intake(intake, _) => Affected::Intake(intake.name.clone()),
        }
    }

    /// A finding about it, where its root is written.
    pub fn finding(&self, rule: RuleId) -> Finding {
        let service = self.service.name.clone();
        let about = match self.used {
            Use::Library(library) => About::Library { service, library: library.name.clone() },
            Use::Intake(intake, _) => About::Intake { service, intake: intake.name.clone() },
        };
        rule.finding(about).line(self.root.origin.line).affects([self.affected()])
    }

    /// A finding about the end of its route.
    pub fn finding_at_end(&self, rule: RuleId, route: &Route) -> Finding {
        self.finding(rule).at(route.here()).known(route.evidence())
    }

    /// Where its way ends, if it ends at an entry of a host, not at a folder that an engine makes.
    pub fn end(&self) -> Option<&Place> {
        let route = self.route.as_ref()?;
        if route.end != End::Reached || route.is_engine_made() {
            return None;
        }
        Some(route.here())
    }

    /// Whether the service can do at the place itself what it has to; `None` if that can't be told.
    pub fn usable(&self, site: &Site) -> Option<bool> {
        judge(site, self.route.as_ref()?, self.need()).allowed()
    }
}
