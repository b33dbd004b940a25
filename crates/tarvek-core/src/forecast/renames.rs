//! Names that would be found, in place of names that are missed, misread or break somewhere.
//! Nothing is renamed here.

use std::collections::HashSet;

use super::filed::Filed;
use super::reading::{read, split_ending};
use super::share_names::{NameFault, faults, safe_name};
use super::titles::{Fault, Forecast, Problem};
use crate::facts::tree::{Lookup, NodeId, Tree};
use crate::scan::read::Region;
use crate::site::join::Site;
use crate::words::path::AbsPath;
use crate::words::place::Place;
use crate::words::terms::Kind;

/// A rename that somebody may want to make.
#[derive(Clone, Debug, PartialEq)]
pub struct Rename {
    pub old: Place,
    pub new: AbsPath,
    pub why: String,
}

/// The usual form of names of a kind, in words.
pub fn usual_form(kind: Kind) -> &'static str {
    match kind {
        Kind::Films => "Title (Year)/Title (Year).mkv",
        Kind::Series => "Show/Season 01/Show S01E02.mkv",
        Kind::Music => "Artist/Album/01 Title.flac",
        Kind::Books => "Author/Title.epub",
        Kind::Photos | Kind::HomeVideo => "any name, in any folder",
    }
}

/// What would mend the names of a library: loose titles into folders of their own, names that break
/// into safe ones.
///
/// `is_in_use` says whether something else leads through a name; then that has to be changed with
/// it, and the reason says so.
pub fn renames(
    site: &Site,
    kind: Kind,
    forecast: &Forecast,
    regions: &[Region],
    is_in_use: impl Fn(&Place) -> bool,
) -> Vec<Rename> {
    let mut all = Vec::new();
    let mut taken = HashSet::new();
    let loose = forecast.of(Fault::Loose).map(|sort| sort.told.as_slice()).unwrap_or_default();
    for problem in loose {
        let Some(tree) = site.tree(&problem.file.place.host) else { continue };
        if let Some(new) = filed_away(kind, problem).filter(|new| is_free(tree, new)) {
            let old = &problem.file.place;
            let why = problem.why(kind);
            for (old, new) in sidecars(tree, problem.file.node, &old.path, &new) {
                let why = "it goes with a file that lies loose".to_owned();
                propose(&mut all, &mut taken, Place::new(&problem.file.place.host, old), new, why);
            }
            propose(&mut all, &mut taken, old.clone(), new, why);
        }
    }
    let moved: HashSet<NodeId> = loose.iter().map(|problem| problem.file.node).collect();
    for region in regions {
        let Some(tree) = site.tree(&region.host) else { continue };
        let Lookup::Found(top) = tree.find(&region.base) else { continue };
        for faulty in faults(tree, top, 0) {
            let why = match &faulty.fault {
                NameFault::NotShareSafe(why) => why.clone(),
                NameFault::NotUtf8 => "it is not UTF-8".to_owned(),
                NameFault::UnseenCharacters(which) => {
                    format!("it has characters that nobody sees: {which}")
                }
                _ => continue,
            };
            let old = tree.path(faulty.node);
            let new = safe_name(tree.name(faulty.node))
                .zip(old.parent())
                .map(|(name, parent)| parent.child(&name));
            if let Some(new) = new.filter(|new| !moved.contains(&faulty.node) && is_free(tree, new))
            {
                propose(&mut all, &mut taken, Place::new(&region.host, old), new, why);
            }
        }
    }
    for rename in all.iter_mut().filter(|rename| is_in_use(&rename.old)) {
        rename.why += "; something else leads through this name, and has to be changed with it";
    }
    // What lies in a folder comes before the folder, so that each name is there when its turn
    // comes.
    all.sort_by_key(|rename| {
        let depth = rename.old.path.as_bytes().iter().filter(|byte| **byte == b'/').count();
        std::cmp::Reverse(depth)
    });
    all
}

/// Files beside one whose names begin as its name does, and where they go with it.
fn sidecars(tree: &Tree, file: NodeId, old: &AbsPath, new: &AbsPath) -> Vec<(AbsPath, AbsPath)> {
    let stem = |path: &AbsPath| {
        let name = path.name()?;
        let dot = name.iter().rposition(|&byte| byte == b'.').filter(|at| *at > 0)?;
        Some(name[..dot].to_vec())
    };
    let (Some(own), Some(other), Some(from), Some(to)) =
        (stem(old), stem(new), old.parent(), new.parent())
    else {
        return Vec::new();
    };
    let beside = tree
        .children(tree.parent(file))
        .filter(|node| *node != file && !tree.meta(*node).is_folder());
    beside
        .filter_map(|node| {
            let name = tree.name(node);
            let rest = name.strip_prefix(own.as_slice()).filter(|rest| rest.starts_with(b"."))?;
            let plays = crate::scan::kinds::plays(name);
            (!plays).then(|| (from.child(name), to.child(&[&other, rest].concat())))
        })
        .collect()
}

/// One rename for each name, and one name for each rename.
fn propose(
    all: &mut Vec<Rename>,
    taken: &mut HashSet<AbsPath>,
    old: Place,
    new: AbsPath,
    why: String,
) {
    if all.iter().rev().take(4).any(|known| known.old == old) || !taken.insert(new.clone()) {
        return;
    }
    all.push(Rename { old, new, why });
}

fn is_free(tree: &Tree, path: &AbsPath) -> bool {
    !matches!(tree.find(path), Lookup::Found(_))
}

/// The path of a loose file in a folder of its title.
fn filed_away(kind: Kind, problem: &Problem) -> Option<AbsPath> {
    let Filed { title, year, season, episodes, date, by, .. } = problem.filed.as_ref().ok()?;
    let path = &problem.file.place.path;
    let root = path.parent()?;
    let name = String::from_utf8(path.name()?.to_vec()).ok()?;
    let (stem, ending) = split_ending(&name);
    let titled = match year {
        Some(year) => format!("{title} ({year})"),
        None => title.clone(),
    };
    let titled = plain(&titled)?;
    match kind {
        Kind::Films => {
            let reading = read(stem);
            if reading.is_episode() {
                return None;
            }
            let version: Vec<&str> =
                reading.edition.as_deref().into_iter().chain(reading.resolution).collect();
            let version = if version.is_empty() {
                String::new()
            } else {
                format!(" - {}", version.join(" "))
            };
            let part = reading.part.map(|part| format!(" - part{part}")).unwrap_or_default();
            let name = format!("{titled}{version}{part}.{ending}");
            Some(root.child(titled.as_bytes()).child(name.as_bytes()))
        }
        Kind::Series => {
            let folder = root.child(titled.as_bytes());
            let folder = match (season, date) {
                (Some(0), _) => folder.child(b"Specials"),
                (Some(season), _) => folder.child(format!("Season {season:02}").as_bytes()),
                (None, Some(date)) => folder.child(date.year.to_string().as_bytes()),
                (None, None) => folder,
            };
            (!episodes.is_empty() || date.is_some()).then(|| folder.child(name.as_bytes()))
        }
        Kind::Music | Kind::Books => {
            let folder = root.child(plain(by.as_deref()?)?.as_bytes());
            let folder = if kind == Kind::Music { folder.child(titled.as_bytes()) } else { folder };
            Some(folder.child(name.as_bytes()))
        }
        Kind::Photos | Kind::HomeVideo => None,
    }
}

/// A title as a name that every client shows.
fn plain(title: &str) -> Option<String> {
    let title = title.replace('/', "-");
    let safe = safe_name(title.as_bytes());
    let name = safe.map_or(Some(title), |safe| String::from_utf8(safe).ok())?;
    (!name.is_empty() && !name.starts_with('.') && name.len() <= 200).then_some(name)
}
