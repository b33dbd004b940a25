//! From options to the places in which waste is looked for.

use std::ffi::OsString;
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use tarvek_core::facts::host::HostFacts;
use tarvek_core::facts::tree::Lookup;
use tarvek_core::layout::site::Layout;
use tarvek_core::route::places;
use tarvek_core::site::join::Site;
use tarvek_core::used::areas::{areas, named};
use tarvek_core::used::used_path::{UsedPath, used_paths_unread};
use tarvek_core::waste::inventory::{Area, Role};
use tarvek_core::waste::readers::{RightsChange, rights_change};
use tarvek_core::words::name::Name;
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::place::Place;
use tarvek_core::words::prefer::Prefer;
use tarvek_core::words::terms::Kind;
use tarvek_core::words::text::shown;
use tarvek_formats::review::{self, Review};
use tarvek_host::observe::{Depth, Look, host_name, observe};
use tarvek_host::reclaim::SiteKnowledge;
use tarvek_host::walk::Watch;

use super::files::{name_of, read_file};
use super::layout::twice;
use super::layout::{find_layout, no_layout, now, this_host};
use super::parts::Reading;
use super::surveys::{surveys, with_surveys};
use crate::cli::Globals;
use crate::outcome::Failure;

/// Where waste is looked for.
pub(crate) struct Places {
    pub(crate) site: Site,
    pub(crate) areas: Vec<Area>,
    /// Folders that stay, whatever is in them.
    pub(crate) named: Vec<Place>,
    /// Libraries and intakes that can't be looked at, and why.
    pub(crate) unseen: Vec<String>,
    /// Beside the layout, where ignored groups are kept.
    pub(crate) ignored: Option<PathBuf>,
}

/// The folders of this machine that somebody names, or the libraries and intakes of the layout, or
/// all that surveys hold.
pub(crate) fn waste_places(
    globals: &Globals,
    folders: &[OsString],
    watch: &Watch,
) -> Result<Places, Failure> {
    let found = find_layout(globals)?;
    let ignored = found.as_ref().map(|layout| layout.file.with_extension("ignored"));
    let mut places = match (found, folders.is_empty()) {
        (Some(layout), true) => {
            let own = this_host(globals, &layout.parsed)?;
            let site = with_surveys(globals, layout, Reading::Whole)?.0;
            let site = match own {
                Some(own) if site.facts(&own).is_none() => {
                    let deep = places::for_libraries(&site, &own)
                        .into_iter()
                        .map(|p| (p, Depth::Everything));
                    let facts = looked(&deep.collect::<Vec<_>>(), &own, watch)?;
                    site.with(facts).map_err(twice)?
                }
                _ => site,
            };
            of_layout(site)
        }
        (None, true) if !globals.survey.is_empty() => {
            of_surveys(surveys(&globals.survey, Reading::Whole)?.0)?
        }
        (None, true) => return Err(no_layout_and_no_folder()),
        (layout, false) => {
            let own = match &layout {
                Some(layout) => this_host(globals, &layout.parsed)?,
                None => None,
            };
            // What a layout says of another machine means nothing here.
            let parsed =
                layout.filter(|_| own.is_some()).map(|layout| layout.parsed).unwrap_or_default();
            of_folders(parsed, &own.unwrap_or_else(host_name), folders, watch)?
        }
    };
    places.site.now = now();
    places.ignored = ignored;
    Ok(places)
}

fn no_layout_and_no_folder() -> Failure {
    match no_layout() {
        Failure::Message { message, remedy } => Failure::Message {
            message,
            remedy: Some(format!(
                "name folders to look at: tarvek waste DIR…; or {}",
                remedy.unwrap_or_default()
            )),
        },
        other => other,
    }
}

fn looked(places: &[(AbsPath, Depth)], host: &Name, watch: &Watch) -> Result<HostFacts, Failure> {
    let look = Look { places, documents: false, process: None, watch };
    let mut facts = observe(&look).map_err(|error| match error.kind() {
        io::ErrorKind::Interrupted => Failure::new("interrupted; nothing was changed"),
        _ => Failure::new(error),
    })?;
    facts.name = host.clone();
    Ok(facts)
}

/// A folder as it is, wherever symlinks to it lead.
fn folder(written: &OsString) -> Result<AbsPath, Failure> {
    let name = shown(written.as_bytes());
    let place = std::fs::canonicalize(written).map_err(|error| match error.kind() {
        io::ErrorKind::NotFound => Failure::with_remedy(
            format!("the folder {name} does not exist"),
            "name one that is there",
        ),
        _ => Failure::new(format!("can't look at {name}: {error}")),
    })?;
    if !place.is_dir() {
        return Err(Failure::with_remedy(
            format!("{name} is no folder"),
            "name the folder that it is in",
        ));
    }
    AbsPath::new(place.as_os_str().as_bytes())
        .map_err(|fault| Failure::new(format!("the folder {name} {fault}")))
}

fn of_folders(
    layout: Layout,
    own: &Name,
    folders: &[OsString],
    watch: &Watch,
) -> Result<Places, Failure> {
    let mut given = folders.iter().map(folder).collect::<Result<Vec<AbsPath>, Failure>>()?;
    given.sort();
    given.dedup();
    let deep: Vec<(AbsPath, Depth)> = places::outermost(given.clone())
        .into_iter()
        .map(|path| (path, Depth::Everything))
        .collect();
    let facts = looked(&deep, own, watch)?;
    let host = facts.name.clone();
    let site = Site::join(layout, vec![facts]).map_err(twice)?;
    let mut places = of_layout(site);
    let declared = std::mem::take(&mut places.areas);
    for path in given {
        // A folder inside a library is a part of it.
        let inside =
            declared.iter().find(|area| area.place.host == host && path.within(&area.place.path));
        places.areas.push(match inside {
            Some(area) => Area { place: Place::new(&host, &path), ..area.clone() },
            None => Area {
                name: String::from_utf8_lossy(path.as_bytes()).as_ref().into(),
                place: Place::new(&host, path),
                role: Role::Given,
                kind: None,
                prefer: Prefer::default(),
            },
        });
    }
    let inside = |area: &Area| {
        area.place.host == host
            && places.areas.iter().any(|given| area.place.path.within(&given.place.path))
    };
    let more: Vec<Area> = declared.into_iter().filter(|area| inside(area)).collect();
    places.areas.extend(more);
    places.unseen.clear();
    Ok(places)
}

fn of_surveys(surveys: Vec<HostFacts>) -> Result<Places, Failure> {
    let area = |host: &Name, path: AbsPath| Area {
        name: format!("{}:{}", host.raw(), String::from_utf8_lossy(path.as_bytes()))
            .as_str()
            .into(),
        place: Place::new(host, path),
        role: Role::Given,
        kind: None,
        prefer: Prefer::default(),
    };
    let of_host = |facts: &HostFacts| {
        let deep = facts.roots.iter().filter(|root| root.deep).map(|root| root.path.clone());
        let name = facts.name.clone();
        places::outermost(deep.collect())
            .into_iter()
            .map(move |path| area(&name, path))
            .collect::<Vec<_>>()
    };
    let areas = surveys.iter().flat_map(of_host).collect();
    let site = Site::join(Layout::default(), surveys).map_err(twice)?;
    Ok(Places { site, areas, named: Vec::new(), unseen: Vec::new(), ignored: None })
}

/// Libraries and intakes where they are kept.
fn of_layout(site: Site) -> Places {
    let (areas, unseen) = {
        let cases = used_paths_unread(&site);
        let (areas, unseen) = areas(&site, &cases);
        let told = |case: &&UsedPath| {
            format!(
                "{}: the {} {} of {} was not seen",
                case.affected(),
                case.what(),
                case.root.written,
                case.service.name
            )
        };
        (areas, unseen.iter().map(told).collect())
    };
    let named = named(&site);
    Places { site, areas, named, unseen, ignored: None }
}

/// What the layout and this machine say of files of this machine.
pub(crate) struct LiveSite {
    layout: Layout,
    own: Name,
    /// Libraries and intakes of the layout that lie here.
    areas: Vec<Area>,
}

impl LiveSite {
    pub(crate) fn new(globals: &Globals) -> Result<Self, Failure> {
        let found = find_layout(globals)?;
        let own = match &found {
            Some(layout) => this_host(globals, &layout.parsed)?,
            None => None,
        };
        let layout =
            found.filter(|_| own.is_some()).map(|layout| layout.parsed).unwrap_or_default();
        let mut live = Self { layout, own: own.unwrap_or_else(host_name), areas: Vec::new() };
        if !live.layout.services.is_empty() {
            let facts = looked(&[], &live.own, &Watch::default())?;
            let places = of_layout(Site::join(live.layout.clone(), vec![facts]).map_err(twice)?);
            live.areas = places.areas;
            live.areas.retain(|area| area.place.host == live.own);
        }
        Ok(live)
    }

    /// The name under which this machine stands in reviews.
    pub(crate) fn host(&self) -> &Name {
        &self.own
    }

    /// The innermost area of the layout that a path lies in.
    fn area(&self, path: &AbsPath) -> Option<&Area> {
        let around = self.areas.iter().filter(|area| path.within(&area.place.path));
        around.max_by_key(|area| area.place.path.as_bytes().len())
    }
}

impl SiteKnowledge for LiveSite {
    fn rights_change(&self, name: &AbsPath, other: &AbsPath) -> Result<RightsChange, String> {
        let places = [(name.clone(), Depth::Entry), (other.clone(), Depth::Entry)];
        let watch = Watch::default();
        let look = Look { places: &places, documents: false, process: None, watch: &watch };
        let mut facts = observe(&look).map_err(|error| error.to_string())?;
        facts.name = self.own.clone();
        let unseen = || "nobody can tell who may do what with it".to_owned();
        let site = Site::join(self.layout.clone(), vec![facts]).map_err(|_| unseen())?;
        let tree = site.tree(&self.own).ok_or_else(unseen)?;
        let object = |path: &AbsPath| match tree.find(path) {
            Lookup::Found(node) => Ok(tree.object(node)),
            _ => Err(unseen()),
        };
        Ok(rights_change(&site, &Place::new(&self.own, name), &object(name)?, &object(other)?))
    }

    fn kind_at(&self, path: &AbsPath) -> Option<Kind> {
        self.area(path)?.kind
    }

    fn is_of_layout(&self, folder: &AbsPath) -> bool {
        self.area(folder).is_some()
    }
}

/// Where ignored groups are kept: the file that is named, else beside the layout.
pub(crate) fn ignored_file(
    globals: &Globals,
    named: Option<&Path>,
) -> Result<Option<PathBuf>, Failure> {
    match named {
        Some(file) => Ok(Some(file.to_owned())),
        None => Ok(find_layout(globals)?.map(|layout| layout.file.with_extension("ignored"))),
    }
}

/// A review that somebody edited.
pub(crate) fn review(file: &Path) -> Result<Review, Failure> {
    let bytes = read_file(file, review::MOST)?;
    Ok(review::read(&name_of(file), &bytes)?)
}
