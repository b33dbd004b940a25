//! What each library's next scan would find: its row of the board, and the forecast in full.

use std::collections::HashMap;

use crate::check::board::{Row, row};
use crate::forecast::renames::usual_form;
use crate::forecast::titles::{Detail, Fault, Forecast, Found, Twice};
use crate::kernel::subject::Subject;
use crate::layout::mapping::Declared;
use crate::layout::service::{Library, Service, ServiceRole};
use crate::route::hops::View;
use crate::scan::read::{Cause, Region};
use crate::site::join::Site;
use crate::used::used_path::{Use, UsedPath, of_library, used_path_in};
use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::prefer::Prefer;
use crate::words::terms::{Kind, Origin};
use crate::words::text::{counted, shown};

/// One library as the next scan would find it.
#[derive(Clone, Debug)]
pub struct Outlook {
    pub row: Row,
    /// As the service sees them, as they are written.
    pub roots: Vec<Name>,
    pub kind: Kind,
    pub forecast: Forecast,
    /// The parts of hosts that the roots show.
    pub regions: Vec<Region>,
    /// Why entries can't be read, the commonest first.
    pub causes: Vec<Cause>,
}

/// One entry that a scan would miss or misread, or several for one reason.
#[derive(Clone, Debug, PartialEq)]
pub struct Missed {
    /// One of them, on the host that holds it.
    pub path: AbsPath,
    /// In words.
    pub why: String,
    /// How names of the library's kind usually are, where that would mend it.
    pub usual: Option<&'static str>,
    pub count: u64,
}

impl Outlook {
    /// What a scan would miss or misread: what can't be read first, then what names say wrong, then
    /// titles in two places.
    pub fn missed(&self) -> Vec<Missed> {
        let unreadable = self.causes.iter().filter_map(|cause| {
            let why = format!("{} can't be read: {}", counted(cause.count, "entry"), cause.reason);
            let path = cause.examples.first()?.clone();
            Some(Missed { path, why, usual: None, count: cause.count })
        });
        let problems = self.forecast.problems.values().flat_map(|several| &several.told);
        let problems = problems.map(|problem| Missed {
            path: problem.file.place.path.clone(),
            why: problem.why(self.kind),
            usual: (problem.fault != Fault::OtherKind).then(|| usual_form(self.kind)),
            count: 1,
        });
        let twice = self.forecast.twice.told.iter().map(|Twice { title, folders }| Missed {
            path: folders[1].clone(),
            why: format!("{} is in {} as well", shown(title.as_bytes()), folders[0]),
            usual: None,
            count: 1,
        });
        unreadable.chain(problems).chain(twice).collect()
    }
}

/// Who looks at libraries in place of the services that serve them.
#[derive(Clone, Debug)]
pub struct Viewer {
    pub view: View,
    pub subject: Subject,
}

/// The libraries of a site that are wanted, each as its service sees it, or as somebody else does.
pub fn outlooks(
    site: &Site,
    wanted: impl Fn(&Service, &Library) -> bool,
    by: Option<&Viewer>,
    detail: Detail,
) -> Vec<Outlook> {
    let serving = site.layout.services.iter().filter(|s| s.roles.contains(&ServiceRole::Serve));
    let mut all = Vec::new();
    for service in serving {
        let own =
            || Viewer { view: View::service(&service.name), subject: site.subject_of(service).0 };
        for library in service.libraries.iter().filter(|library| wanted(service, library)) {
            let seen = by.cloned().unwrap_or_else(own);
            all.push(outlook(site, service, library, &seen, detail));
        }
    }
    all
}

/// One library, as somebody sees it.
pub fn outlook(
    site: &Site,
    service: &Service,
    library: &Library,
    by: &Viewer,
    detail: Detail,
) -> Outlook {
    let of_root = |root| {
        let subject = by.subject.clone();
        used_path_in(site, service, Use::Library(library), root, &by.view, subject)
    };
    let cases: Vec<UsedPath> = library.roots.iter().cloned().map(of_root).collect();
    let mut causes: Vec<Cause> = cases
        .iter()
        .filter_map(|case| case.scan.as_ref())
        .flat_map(|scan| scan.causes.clone())
        .collect();
    causes.sort_by_key(|cause| std::cmp::Reverse(cause.count));
    Outlook {
        row: row(site, &cases),
        roots: library.roots.iter().map(|root| root.written.clone()).collect(),
        kind: library.kind,
        forecast: of_library(site, &cases, detail),
        regions: cases
            .iter()
            .filter_map(|case| case.scan.as_ref())
            .flat_map(|s| s.regions.clone())
            .collect(),
        causes,
    }
}

/// A folder read as a library that nobody declared.
pub fn of_folder(site: &Site, path: &AbsPath, kind: Kind, by: &Viewer, detail: Detail) -> Outlook {
    let written = Name::from(String::from_utf8_lossy(path.as_bytes()).as_ref());
    let name = path.name().map_or("/".into(), String::from_utf8_lossy);
    let origin = Origin::default();
    let library = Library {
        name: Name::from(name.as_ref()),
        kind,
        roots: vec![Declared { written, path: Ok(path.clone()), origin }],
        original: false,
        backup: None,
        prefer: Prefer::default(),
        origin,
    };
    let service = Service::straight(Name::from(by.view.to_string().as_str()));
    outlook(site, &service, &library, by, detail)
}

/// A title by what names it.
pub type Title = (Option<String>, String, Option<u16>, Option<u16>, Vec<u16>, Option<String>);

/// What a scan now would add to and drop from what one would have found before: both forecasts with
/// everything.
pub fn since<'a>(before: &'a Forecast, now: &'a Forecast) -> (Vec<&'a Found>, Vec<&'a Found>) {
    let by_name = |forecast: &'a Forecast| -> HashMap<Title, &'a Found> {
        forecast.found.iter().map(|found| (name_of(found), found)).collect()
    };
    let (old, new) = (by_name(before), by_name(now));
    let only = |these: &'a Forecast, others: &HashMap<Title, &Found>| {
        these.found.iter().filter(|found| !others.contains_key(&name_of(found))).collect()
    };
    (only(now, &old), only(before, &new))
}

fn name_of(found: &Found) -> Title {
    let key = crate::forecast::key::key;
    // What is called by its file alone is another one elsewhere.
    let file = (found.by.is_none() && found.year.is_none() && found.episodes.is_empty())
        .then(|| found.files.first().map(|file| file.view.clone()))
        .flatten();
    let date = found.date.map(|date| date.to_string());
    let own = file.filter(|_| found.date.is_none()).map(|path: AbsPath| path.to_string());
    (
        found.by.as_deref().map(key),
        key(&found.title),
        found.year,
        found.season,
        found.episodes.clone(),
        date.or(own),
    )
}

#[cfg(test)]
mod tests {
    use super::{Outlook, Viewer, of_folder, outlooks, since};
    use crate::forecast::titles::Detail;
    use crate::kernel::subject::Subject;
    use crate::route::hops::View;
    use crate::tests::{Alter, Scene, abs, hold};
    use crate::words::terms::Kind;

    fn films(scene: &Scene) -> Outlook {
        let mut all = outlooks(&scene.site(), |_, _| true, None, Detail::Everything);
        assert_eq!(all.len(), 1);
        all.remove(0)
    }

    fn missed(scene: &Scene) -> String {
        let one = |missed: &super::Missed| {
            let name = missed.path.name().map(String::from_utf8_lossy).unwrap_or_default();
            let usual = if missed.usual.is_some() { " (usual)" } else { "" };
            format!("{} {name}: {}{usual}", missed.count, missed.why)
        };
        films(scene).missed().iter().map(one).collect::<Vec<_>>().join("; ")
    }

    #[test]
    fn what_a_scan_would_miss_is_told_with_its_reason() {
        fn add(scene: &mut Scene, line: &str, name: &str) {
            scene.tree("granary", &format!("{line} /loft/media/films/{name}"));
        }
        let cases: &[(Alter, &str)] = &[
            (|_| {}, ""),
            (
                |scene| add(scene, "f 0600 0:0", "A (2001)/A (2001).mkv"),
                "1 A (2001).mkv: 1 entry can't be read: other::--- on a file of mode 0600 \
                 root:root",
            ),
            (
                |scene| add(scene, "f 0644 0:0", "S01E02.mkv"),
                "1 S01E02.mkv: no title can be read from it (usual)",
            ),
            (
                |scene| add(scene, "f 0644 0:0", "B/Harbour s02e03.mkv"),
                "1 Harbour s02e03.mkv: it is named as an episode is, and would be taken for a film",
            ),
            (
                |scene| add(scene, "f 0644 0:0", "again/Low Water (2003).mkv"),
                "1 Low Water (2003): Low Water is in /media/films/again as well",
            ),
        ];
        hold(Scene::local, missed, cases);
    }

    #[test]
    fn what_a_scan_would_add_and_drop_is_told_by_titles() {
        let titles = |found: Vec<&crate::forecast::titles::Found>| -> Vec<String> {
            found.iter().map(|found| found.title.clone()).collect()
        };
        let before = films(&Scene::local());
        let mut changed = Scene::local();
        changed.without("granary", "/loft/media/films/Low Water (2003)");
        for name in ["High Water (2004)/High Water (2004).mkv", "Low Water (2005)/Low Water.mkv"] {
            changed.tree("granary", &format!("f 0644 0:0 /loft/media/films/{name}"));
        }
        let now = films(&changed);
        let (mut added, dropped) = since(&before.forecast, &now.forecast);
        added.sort_by_key(|found| found.title.clone());
        assert_eq!(titles(added), ["High Water", "Low Water"]);
        assert_eq!(titles(dropped), ["Low Water"]);
        let (added, dropped) = since(&now.forecast, &now.forecast);
        assert!(added.is_empty() && dropped.is_empty());
    }

    #[test]
    fn a_library_is_looked_at_by_who_serves_it_or_by_somebody_else() {
        let mut scene = Scene::local();
        scene.change("granary", "/loft/media/films/Low Water (2003)", |meta| meta.mode = 0o700);
        let site = scene.site();
        let own = films(&scene);
        assert_eq!((own.row.unreadable, own.causes.len()), (2, 1));
        assert_eq!(own.roots[0].raw(), "/media/films");
        let root = Viewer { view: View::service("lantern"), subject: Subject::new(0, 0, []) };
        let by_root = outlooks(&site, |_, _| true, Some(&root), Detail::Figures).remove(0);
        assert_eq!((by_root.row.unreadable, by_root.row.stages.titles), (0, Some(1)));
        assert!(
            outlooks(&site, |_, library| library.name == *"Series", None, Detail::Figures)
                .is_empty()
        );
        let who = Viewer { view: View::host("granary"), subject: Subject::new(1101, 1101, []) };
        let path = abs("/loft/media/films");
        let folder = of_folder(&site, &path, Kind::Films, &who, Detail::Figures);
        assert_eq!((folder.row.name.raw(), folder.row.stages.titles), ("films", Some(1)));
        assert_eq!(folder.regions.len(), 1);
    }
}
