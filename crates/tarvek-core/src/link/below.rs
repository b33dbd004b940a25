//! A source folder, judged for what it holds: which of its files could be linked into the target
//! folder.

use std::collections::HashMap;

use crate::facts::tree::{Listing, Lookup, NodeId};
use crate::kernel::entry::EntryKind;
use crate::link::hard::hardlink;
use crate::link::link_paths::{LinkPaths, Source};
use crate::link::verdict::{Reason, Verdict};
use crate::route::attached::attached_below;
use crate::route::follow;
use crate::route::hops::Route;
use crate::words::errno::Errno;
use crate::words::path::AbsPath;

/// What a folder holds, by whether it could be linked.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Holds {
    /// Files that could be linked.
    pub possible: u64,
    /// All files that were seen below it.
    pub files: u64,
    /// Why the others could not, or why it can't be told, the most frequent first.
    pub causes: Vec<Cause>,
    /// Folders that could not be looked into.
    pub unseen: u64,
}

/// Why some files can't be linked.
#[derive(Clone, Debug, PartialEq)]
pub struct Cause {
    pub possible: Option<bool>,
    pub reason: Reason,
    pub errno: Option<Errno>,
    /// Of the first of them.
    pub detail: String,
    pub count: u64,
    /// Some of them, as the view names them.
    pub examples: Vec<AbsPath>,
}

/// So many examples tell what is meant.
const EXAMPLES: usize = 3;

/// Regions that lead into each other without end are left.
const MOST_REGIONS: usize = 1000;

/// Judges every file below the source, if it is a folder that was seen: as if each were linked into
/// the target folder under a name that is free there. Those that lie in the folder itself keep
/// their names, so that what is there already is told.
pub fn holds(ends: &LinkPaths) -> Option<Holds> {
    let name = ends.source.name.as_ref()?;
    ends.source.object.as_ref().filter(|object| object.is_folder())?;
    let mut holds = Holds::default();
    let mut regions = vec![name.view_path().clone()];
    let mut next = 0;
    // What is mounted or mapped below is another region, where the view has it.
    while let Some(top) = regions.get(next).cloned().filter(|_| next < MOST_REGIONS) {
        let route = follow(ends.site, &name.view, &top, &name.subject);
        let attached = attached_below(ends.site, &route);
        region(ends, &route, &attached, next == 0, &mut holds);
        let nearest =
            |point: &&AbsPath| !attached.iter().any(|other| other != *point && point.within(other));
        for point in attached.iter().filter(nearest) {
            if !regions.contains(point) {
                regions.push(point.clone());
            }
        }
        next += 1;
    }
    holds.causes.sort_by_key(|cause| std::cmp::Reverse(cause.count));
    Some(holds)
}

/// The files of one mount, below the end of a route.
fn region(ends: &LinkPaths, route: &Route, attached: &[AbsPath], first: bool, holds: &mut Holds) {
    let Some((at, top)) = route.entry() else { return };
    let Some(objects) = ends.site.objects(&at.seen_on) else { return };
    let tree = objects.tree;
    let mut todo: Vec<(NodeId, AbsPath)> = vec![(top, route.view_path().clone())];
    while let Some((folder, path)) = todo.pop() {
        holds.unseen += u64::from(tree.listing(folder) != Listing::Complete);
        let way = follow(ends.site, &route.view, &path, &route.subject);
        // The class of a file and how many names it has decide, besides the folder that it lies in.
        let mut known: HashMap<(u32, u32), Verdict> = HashMap::new();
        for child in tree.children(folder) {
            let meta = tree.meta(child);
            let place = || path.child(tree.name(child));
            if meta.is_folder() {
                let place = place();
                if attached.binary_search(&place).is_err() {
                    todo.push((child, place));
                }
                continue;
            }
            if meta.kind != EntryKind::File || attached.binary_search(&place()).is_ok() {
                continue;
            }
            holds.files += 1;
            if first && folder == top && taken(ends, tree.name(child)) {
                let errno = Some(Errno::Exists);
                let detail = "the target folder has the name already".to_owned();
                holds.add(&(Some(false), Reason::TargetExists, errno), &detail, place());
                continue;
            }
            let project = tree.project(child);
            let verdict =
                known.entry((tree.class_number(child), meta.links)).or_insert_with(|| {
                    let object = Some(objects.of(child));
                    let source =
                        Source { name: None, folder: way.clone(), object, project, is_name: true };
                    hardlink(&ends.with_source(source))
                });
            if verdict.is_possible() {
                holds.possible += 1;
            } else {
                let why = (verdict.possible, verdict.reason, verdict.errno);
                holds.add(&why, &verdict.detail, place());
            }
        }
    }
}

/// Whether the target folder has something of a name.
fn taken(ends: &LinkPaths, name: &[u8]) -> bool {
    let Some((at, folder)) = ends.target.folder.entry() else { return false };
    let tree = ends.site.tree(&at.seen_on);
    tree.is_some_and(|tree| matches!(tree.lookup(folder, name), Lookup::Found(_)))
}

impl Holds {
    /// Whether every file in it can be linked; `None` where that can't be told.
    pub fn all_possible(&self) -> Option<bool> {
        if self.causes.iter().any(|cause| cause.possible == Some(false)) {
            return Some(false);
        }
        (self.causes.is_empty() && self.unseen == 0).then_some(true)
    }

    /// Whether it is certain that none can.
    pub fn none_possible(&self) -> bool {
        let refused = self.causes.iter().all(|cause| cause.possible == Some(false));
        self.possible == 0 && refused && self.unseen == 0
    }

    fn add(&mut self, why: &(Option<bool>, Reason, Option<Errno>), detail: &str, place: AbsPath) {
        let known = self.causes.iter_mut().find(|c| (c.possible, c.reason, c.errno) == *why);
        match known {
            Some(cause) => {
                cause.count += 1;
                if cause.examples.len() < EXAMPLES {
                    cause.examples.push(place);
                }
            }
            None => self.causes.push(Cause {
                possible: why.0,
                reason: why.1,
                errno: why.2,
                detail: detail.to_owned(),
                count: 1,
                examples: vec![place],
            }),
        }
    }
}
