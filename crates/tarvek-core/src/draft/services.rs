//! Services, what they see, and the way that downloads take.

use crate::draft::brief::{Containers, Wanted};
use crate::draft::{Area, CONFIG, Drafter, absolute, config_of, declared, title};
use crate::layout::intake::{Fetch, InView, Intake, Sort};
use crate::layout::mapping::{MapSource, Mapping};
use crate::layout::service::{Library, RunAs, Service, ServiceRole};
use crate::words::path::AbsPath;
use crate::words::prefer::Prefer;
use crate::words::terms::Label;
use crate::words::terms::{Access, Kind, Origin};

impl Drafter<'_> {
    pub(super) fn services(&mut self) -> Vec<Service> {
        let brief = self.brief;
        let mut services = Vec::new();
        for service in &brief.services {
            let apps = brief.apps_on(&service.host);
            let selinux = apps.map_or(brief.storage.selinux, |apps| apps.selinux);
            let mode = if service.writes() { Access::ReadWrite } else { Access::ReadOnly };
            let mut areas = self.areas();
            if !service.writes() {
                areas.truncate(1);
            }
            let mapping = |from: &AbsPath, to: &AbsPath, access, label, propagation| Mapping {
                source: MapSource::Folder(declared(from)),
                to: declared(to),
                access,
                label,
                propagation,
                nested: None,
                idmap: false,
                origin: Origin::default(),
            };
            let mut map: Vec<Mapping> = areas
                .iter()
                .map(|area| {
                    let label = (selinux && apps.is_none()).then_some(Label::Shared);
                    // What the host mounts later reaches a running container only as its slave.
                    let propagation = apps.map(|_| "rslave".to_owned());
                    let from = self.place_on(&service.host, area);
                    mapping(&from, &area.inside, mode, label, propagation)
                })
                .collect();
            map.push(mapping(
                &config_of(service),
                &absolute(CONFIG),
                Access::ReadWrite,
                selinux.then_some(Label::Private),
                None,
            ));
            let in_view = brief.containers != Containers::None;
            let media = &areas[0];
            let view =
                if in_view { media.inside.clone() } else { self.place_on(&service.host, media) };
            let library = |kind: Kind| Library {
                name: title(kind),
                kind,
                roots: vec![declared(&view.child(kind.word().as_bytes()))],
                original: brief.is_original(kind),
                backup: brief.backup.clone().filter(|_| brief.is_original(kind)),
                prefer: Prefer::default(),
                origin: Origin::default(),
            };
            let about = format!("service.{}", service.name);
            if !service.writes() {
                self.why(
                    &about,
                    "it serves, so it reads only: by its mapping and by its rights, \
                                  so that either may fail",
                );
            } else if !in_view {
                self.why(&about, "the umask 002 leaves what it makes writable for its group");
            } else {
                self.why(
                    &about,
                    "it gets the parent in one mapping: two mappings of one \
                                  filesystem are two mounts, and no link crosses them",
                );
            }
            services.push(Service {
                name: service.name.clone(),
                host: service.host.clone(),
                roles: service.roles.clone(),
                runs_as: RunAs::Numbers(service.id, Some(self.gid(service))),
                groups: Vec::new(),
                waits_for: Vec::new(),
                umask: service.writes().then_some(0o002),
                userns: None,
                map: in_view.then_some(map),
                ports: service.ports.clone(),
                network: None,
                config: Some(config_of(service)),
                config_volume: None,
                translate: Vec::new(),
                backup: brief.backup.clone(),
                libraries: if service.does(ServiceRole::Serve) {
                    brief.kinds_of(service).into_iter().map(library).collect()
                } else {
                    Vec::new()
                },
                origin: Origin::default(),
            });
        }
        services
    }

    pub(super) fn intakes(&mut self) -> Vec<Intake> {
        let brief = self.brief;
        let handles = |role: ServiceRole, kind: Kind| {
            let mut services = brief.services.iter();
            services.find(move |s| s.does(role) && brief.kinds_of(s).contains(&kind))
        };
        let areas = self.areas();
        let seen_by = |service: &Wanted, area: &Area| {
            let inside = brief.containers != Containers::None;
            if inside { area.inside.clone() } else { self.place_on(&service.host, area) }
        };
        let intake_of = |service: &Wanted| match areas.get(1) {
            Some(intake) => seen_by(service, intake),
            None => seen_by(service, &areas[0]).child(b"intake"),
        };
        let mut intakes = Vec::new();
        for kind in brief.fetched() {
            let word = kind.word();
            let done = |service: &Wanted| intake_of(service).child(b"done").child(word.as_bytes());
            intakes.push(Intake {
                name: word.into(),
                fetch: handles(ServiceRole::Fetch, kind).map(|service| Fetch {
                    service: service.name.clone(),
                    partial: Some(InView::of(intake_of(service).child(b"partial"))),
                    done: InView::of(done(service)),
                    category: Some(word.to_owned()),
                }),
                sort: handles(ServiceRole::Sort, kind).map(|service| Sort {
                    service: service.name.clone(),
                    reads: InView::of(done(service)),
                    files_into: InView::of(seen_by(service, &areas[0]).child(word.as_bytes())),
                    category: Some(word.to_owned()),
                }),
                want: brief.want.0,
                origin: Origin::default(),
            });
        }
        intakes
    }
}
