//! Libraries and intakes as places in which waste is looked for, and what there is of it by what is
//! known already.

use std::collections::HashSet;

use crate::facts::media::Media;
use crate::layout::intake::Station;
use crate::layout::mapping::MapSource;
use crate::route::places;
use crate::site::join::Site;
use crate::used::used_path::{Use, UsedPath};
use crate::waste::found::{AllWaste, Contents, Wasted, count, groups};
use crate::waste::group::{Suggest, Waste};
use crate::waste::inventory::{Area, FileId, Inventory, Role};
use crate::waste::pattern::Patterns;
use crate::waste::plan::{WantedWaste, plan};
use crate::words::about::Affected;
use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::place::Place;
use crate::words::prefer::Prefer;

/// Libraries and intakes where they are kept, each place once; and those that were not seen.
pub fn areas<'c>(site: &Site, cases: &'c [UsedPath<'c>]) -> (Vec<Area>, Vec<&'c UsedPath<'c>>) {
    let (mut areas, mut unseen): (Vec<Area>, Vec<&UsedPath>) = (Vec::new(), Vec::new());
    let mut known = HashSet::new();
    for case in cases {
        // What is filed into is the library's.
        if matches!(case.used, Use::Intake(_, Station::FilesInto)) {
            continue;
        }
        match case.end().filter(|end| site.tree(&end.host).is_some()) {
            Some(end) if !known.insert(end) => {}
            Some(end) => areas.push(area(case, end.clone())),
            None => unseen.push(case),
        }
    }
    (areas, unseen)
}

fn area(case: &UsedPath, place: Place) -> Area {
    match case.used {
        Use::Library(library) => Area {
            place,
            role: Role::Library,
            name: library.name.clone(),
            kind: Some(library.kind),
            prefer: library.prefer.clone(),
        },
        Use::Intake(intake, _) => Area {
            place,
            role: Role::Intake,
            name: intake.name.clone(),
            kind: None,
            prefer: Prefer::default(),
        },
    }
}

/// Folders that the layout names: they stay, whatever is in them.
pub fn named(site: &Site) -> Vec<Place> {
    let layout = &site.layout;
    let mut named: Vec<Place> = Vec::new();
    // Of a host that nobody looked at nothing is taken away.
    let hosts = layout.hosts.iter().map(|host| &host.name);
    for host in hosts.filter(|host| site.tree(host).is_some()) {
        let of_host = places::for_libraries(site, host);
        named.extend(of_host.into_iter().map(|path| Place::new(host, path)));
    }
    named.extend(layout.shares.iter().map(|share| Place::new(&share.host, &share.path)));
    named.extend(layout.folders.iter().map(|folder| Place::new(&folder.host, &folder.path)));
    for service in &layout.services {
        let folders = service.maps().iter().filter_map(|map| match &map.source {
            MapSource::Folder(from) => from.path.as_ref().ok(),
            _ => None,
        });
        named.extend(folders.map(|from| Place::new(&service.host, from)));
        named.extend(service.config.iter().map(|config| Place::new(&service.host, config)));
    }
    named.extend(layout.mounts.iter().map(|mount| Place::new(&mount.host, &mount.at)));
    named
}

/// What surveys and names say of files.
struct Known<'a, 's>(&'a Inventory<'s>);

impl Contents for Known<'_, '_> {
    fn digest(&self, file: FileId) -> Option<[u8; 32]> {
        let names = self.0.names(file);
        names.iter().find_map(|name| self.0.facts(*name).digests.get(&name.node).copied())
    }

    fn media(&self, file: FileId) -> Option<Media> {
        let name = self.0.names(file)[0];
        self.0.facts(name).media.get(&name.node).cloned().flatten()
    }
}

/// What is known of the waste in the libraries and intakes of a site: looked up once for all of
/// them.
pub(crate) fn wasted<'c>(site: &Site, cases: &'c [UsedPath]) -> Option<&'c AllWaste> {
    Some(cases.first()?.wasted.get_or_init(|| look(site, cases)))
}

fn look(site: &Site, cases: &[UsedPath]) -> AllWaste {
    let (areas, _) = areas(site, cases);
    let stock = Inventory::new(site, areas, &named(site));
    let patterns = Patterns::new(&site.layout.waste.leftovers);
    // Without digests and headers there is nothing to compare.
    let asked = WantedWaste {
        copies: stock.hosts.iter().any(|facts| !facts.digests.is_empty()),
        versions: stock.hosts.iter().any(|facts| !facts.media.is_empty()),
    };
    let plan = plan(&stock, &patterns, asked);
    let mut found = groups(&stock, &patterns, plan, &Known(&stock));
    count(&stock, &mut found, &|_| None);
    let affected = |area: &Area| match area.role {
        Role::Intake => Affected::Intake(area.name.clone()),
        _ => Affected::Library(area.name.clone()),
    };
    let mut all = AllWaste::new();
    for group in &found {
        // By names alone it is doubtful what is a version of what.
        let told =
            group.items.iter().any(|item| item.suggest.takes()) || group.kind != Waste::Version;
        let Some(first) =
            group.items.iter().find(|item| item.suggest != Suggest::Keep).filter(|_| told)
        else {
            continue;
        };
        let area = stock.area(first.name);
        let (of, place) = (affected(area), &area.place);
        let rows = all.entry(group.kind).or_default();
        let at = rows.iter().position(|(known, _, _)| *known == of).unwrap_or_else(|| {
            rows.push((of, place.clone(), Wasted::default()));
            rows.len() - 1
        });
        let wasted = &mut rows[at].2;
        wasted.sum.add(group);
        wasted.example.get_or_insert_with(|| stock.place(first.name));
    }
    all
}

/// What waste could give back below a place, at most.
pub(crate) fn could_free(all: &AllWaste, host: &Name, below: &AbsPath) -> u64 {
    let rows = all.values().flatten();
    rows.filter(|(_, place, _)| place.host == *host && place.path.within(below))
        .map(|(.., wasted)| wasted.sum.bytes)
        .sum()
}
