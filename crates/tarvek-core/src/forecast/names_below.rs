//! Names below a library that break somewhere, by sort.

use super::share_names::{NameFault, faults, safe_name};
use super::titles::Several;
use crate::facts::tree::{Lookup, Tree};
use crate::scan::read::Scan;
use crate::site::join::Site;
use crate::words::path::AbsPath;
use crate::words::place::Place;
use crate::words::text::shown;

/// How many examples are kept of each sort.
const EXAMPLES: usize = 3;

/// One name that breaks, and how.
#[derive(Clone, Debug, PartialEq)]
pub struct Broken {
    pub place: Place,
    /// Why, in words.
    pub why: String,
    /// A name that does not, if one can be made of it.
    pub safe: Option<AbsPath>,
}

/// Names that break somewhere.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Names {
    pub case_collision: Several<Broken>,
    pub unicode_twins: Several<Broken>,
    pub not_share_safe: Several<Broken>,
    pub too_long: Several<Broken>,
    pub not_utf8: Several<Broken>,
    pub unseen_characters: Several<Broken>,
}

/// Every name of the parts that a scan read; a few examples of each sort are kept.
pub fn names_below(site: &Site, scan: &Scan) -> Names {
    let mut names = Names::default();
    for region in &scan.regions {
        let Some(tree) = site.tree(&region.host) else { continue };
        let offered = offered_by_smb(site, &Place::new(&region.host, region.base.clone()));
        names.add(tree, &region.base, &region.host, offered, EXAMPLES);
    }
    names
}

/// How many UTF-16 units of path an SMB client has before what lies in a place, or that none comes
/// to it: shares are declared, and none of those for SMB holds it.
fn offered_by_smb(site: &Site, place: &Place) -> Option<usize> {
    let shares = &site.layout.shares;
    let holding = shares.iter().filter(|share| {
        share.smb.is_some() && share.host == place.host && place.path.within(&share.path)
    });
    let before = |path: &AbsPath| {
        let below = place.path.below(path).unwrap_or_default();
        let units = String::from_utf8_lossy(below).encode_utf16().count();
        if units == 0 { 0 } else { units + 1 }
    };
    let most = holding.map(|share| before(&share.path)).max();
    most.or_else(|| shares.is_empty().then_some(0))
}

impl Names {
    /// Adds what a part of a tree has. Where no SMB client comes, nothing is said of what only
    /// those can't take.
    pub fn add(
        &mut self,
        tree: &Tree,
        base: &AbsPath,
        host: &crate::words::name::Name,
        offered: Option<usize>,
        most: usize,
    ) {
        let Lookup::Found(top) = tree.find(base) else { return };
        for faulty in faults(tree, top, offered.unwrap_or(0)) {
            let (sort, why) = match faulty.fault {
                NameFault::CaseCollision(_)
                | NameFault::NotShareSafe(_)
                | NameFault::TooLong(_)
                    if offered.is_none() =>
                {
                    continue;
                }
                NameFault::CaseCollision(other) => (
                    &mut self.case_collision,
                    format!("{} differs from it in case only", shown(&other)),
                ),
                NameFault::UnicodeTwin(other) => {
                    let why = format!("{} is the same text in other bytes", shown(&other));
                    (&mut self.unicode_twins, why)
                }
                NameFault::NotShareSafe(why) => (&mut self.not_share_safe, why),
                NameFault::TooLong(why) => (&mut self.too_long, why),
                NameFault::NotUtf8 => (
                    &mut self.not_utf8,
                    "it is not UTF-8, and SMB clients do not see it".to_owned(),
                ),
                NameFault::UnseenCharacters(which) => {
                    (&mut self.unseen_characters, format!("it has {which}"))
                }
            };
            sort.count += 1;
            if sort.told.len() < most {
                let place = Place::new(host, tree.path(faulty.node));
                let safe = safe_name(tree.name(faulty.node));
                let safe = safe.zip(place.path.parent()).map(|(name, above)| above.child(&name));
                let free = |path: &AbsPath| !matches!(tree.find(path), Lookup::Found(_));
                sort.told.push(Broken { place, why, safe: safe.filter(free) });
            }
        }
    }
}
