//! The trees that hold media, and entries of them that are alike.

use crate::facts::tree::{Lookup, NodeId};
use crate::kernel::entry::EntryKind;
use crate::kernel::object::Object;
use crate::route::places::outermost;
use crate::rules::case::Case;
use crate::site::join::Site;
use crate::words::about::About;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::place::Place;
use crate::words::rule::RuleId;

/// The folders of a host that hold media: what it shares, what is declared to be media or on its way, and what libraries lead
/// to. Of those inside each other the outer ones.
fn media_places(site: &Site, host: &Name, cases: &[Case]) -> Vec<AbsPath> {
    let shares = site.layout.shares.iter().filter(|share| share.host == *host).map(|s| &s.path);
    let folders = site.layout.folders.iter().filter(|f| f.host == *host).map(|f| &f.path);
    let ends = cases.iter().filter_map(|case| case.route.as_ref()).filter(|r| r.entry().is_some());
    let ends = ends.map(|route| route.here()).filter(|end| end.host == *host);
    outermost(shares.chain(folders).chain(ends.map(|end| &end.path)).cloned().collect())
}

/// Every entry of a host's media but symlinks, which have no rights of their own.
pub(super) fn media<'a>(
    site: &'a Site,
    host: &'a Name,
    cases: &[Case],
) -> impl Iterator<Item = (NodeId, Object<'a>)> {
    let tops = media_places(site, host, cases).into_iter();
    let found = site.objects(host).into_iter().flat_map(move |objects| {
        tops.clone().filter_map(move |place| match objects.tree.find(&place) {
            Lookup::Found(top) => Some((objects, top)),
            _ => None,
        })
    });
    found
        .flat_map(|(objects, top)| {
            objects.tree.below(top).map(move |node| (node, objects.of(node)))
        })
        .filter(|(_, object)| object.meta.kind != EntryKind::Symlink)
}

/// Some entries that are alike, with the first of them.
#[derive(Default)]
pub(super) struct Alike {
    pub(super) count: u64,
    first: Option<NodeId>,
}

impl Alike {
    pub(super) fn add(&mut self, node: NodeId) {
        self.count += 1;
        self.first.get_or_insert(node);
    }

    /// Where the first of them is, if there is any.
    pub(super) fn example(&self, site: &Site, host: &Name) -> Option<Place> {
        Some(Place::new(host, site.tree(host)?.path(self.first?)))
    }
}

/// A finding about a host's entries.
pub(super) fn on_host(rule: RuleId, example: &Place) -> Finding {
    rule.finding(About::Host(example.host.clone())).at(example).known(Evidence::Observed)
}
