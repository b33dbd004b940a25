//! The trees that hold media, and entries of them that are alike.

use crate::facts::tree::{Lookup, NodeId};
use crate::kernel::entry::EntryKind;
use crate::kernel::object::Object;
use crate::route::places::outermost;
use crate::site::join::Site;
use crate::site::suppose::AccessClassCache;
use crate::used::used_path::UsedPath;
use crate::words::about::About;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::place::Place;
use crate::words::rule::RuleId;

/// The folders of a host that hold media: what it shares, what is declared to be media or on its
/// way, and what libraries lead to. Of those inside each other the outer ones.
pub(crate) fn media_places(site: &Site, host: &Name, cases: &[UsedPath]) -> Vec<AbsPath> {
    let shares = site.layout.shares.iter().filter(|share| share.host == *host).map(|s| &s.path);
    let folders = site.layout.folders.iter().filter(|f| f.host == *host).map(|f| &f.path);
    let ends = cases.iter().filter_map(|case| case.route.as_ref()).filter(|r| r.entry().is_some());
    let ends = ends.map(|route| route.here()).filter(|end| end.host == *host);
    outermost(shares.chain(folders).chain(ends.map(|end| &end.path)).cloned().collect())
}

/// Goes through every entry of a host's media but symlinks, which have no rights of their own:
/// takes the place that it is below, the entry, and what was found out of it, which is the same for
/// entries that are alike.
pub(super) fn media<T: Clone>(
    site: &Site,
    host: &Name,
    cases: &[UsedPath],
    find: impl Fn(&Object) -> Option<T>,
    mut take: impl FnMut(NodeId, NodeId, T),
) {
    let Some(objects) = site.objects(host) else { return };
    let mut known = AccessClassCache::new(objects);
    for place in media_places(site, host, cases) {
        let Lookup::Found(top) = objects.tree.find(&place) else { continue };
        for node in objects.tree.below(top) {
            if objects.tree.kind(node) != EntryKind::Symlink
                && let Some(found) = known.of(node, &find)
            {
                take(top, node, found);
            }
        }
    }
}

/// How many of some entries are named at the most.
const NAMED: usize = 3;

/// Some entries that are alike, with the first few of them.
#[derive(Default)]
pub(super) struct AlikeEntries {
    pub(super) count: u64,
    first: Vec<NodeId>,
    tops: Vec<NodeId>,
}

impl AlikeEntries {
    /// One more, below one of the places that hold media.
    pub(super) fn add(&mut self, top: NodeId, node: NodeId) {
        self.count += 1;
        if self.first.len() < NAMED {
            self.first.push(node);
        }
        // They come place by place.
        if self.tops.last() != Some(&top) {
            self.tops.push(top);
        }
    }

    /// The first few of them, and whether these are all.
    pub(super) fn named(&self, site: &Site, host: &Name) -> (Vec<AbsPath>, bool) {
        (paths(site, host, &self.first), self.count == self.first.len() as u64)
    }

    /// The places that hold media below which they all are.
    pub(super) fn tops(&self, site: &Site, host: &Name) -> Vec<AbsPath> {
        paths(site, host, &self.tops)
    }

    /// Where the first of them is, if there is any.
    pub(super) fn example(&self, site: &Site, host: &Name) -> Option<Place> {
        Some(Place::new(host, site.tree(host)?.path(*self.first.first()?)))
    }
}

fn paths(site: &Site, host: &Name, nodes: &[NodeId]) -> Vec<AbsPath> {
    site.tree(host)
        .map(|tree| nodes.iter().map(|node| tree.path(*node)).collect())
        .unwrap_or_default()
}

/// A finding about a host's entries.
pub(super) fn on_host(rule: RuleId, example: &Place) -> Finding {
    rule.finding(About::Host(example.host.clone())).at(example).known(Evidence::Observed)
}
