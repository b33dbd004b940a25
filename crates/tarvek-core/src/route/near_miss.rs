//! Folders that may have been meant where a name is missing.

use crate::facts::tree::{Lookup, NodeId, Tree};
use crate::route::end::Missing;
use crate::site::join::Site;
use crate::words::kind_names::kind_by_name;
use crate::words::path::AbsPath;
use crate::words::place::Place;
use crate::words::terms::Kind;

/// How many are named at most.
const MOST: usize = 8;

/// How many folders beside the missing name are looked into for it.
const MOST_BESIDE: usize = 256;

/// Folders that may have been meant, the likeliest first: the name most like it, folders whose names
/// speak of the same kind, and folders of this very name one level deeper or higher.
pub fn near_misses(site: &Site, missing: &Missing, kind: Option<Kind>) -> Vec<Place> {
    let host = &missing.folder.host;
    let Some(tree) = site.tree(host) else { return Vec::new() };
    let Lookup::Found(folder) = tree.find(&missing.folder.path) else { return Vec::new() };
    let is_folder = |node: &NodeId| tree.meta(*node).is_folder();
    let beside: Vec<NodeId> = tree.children(folder).filter(is_folder).take(MOST_BESIDE).collect();
    let of_kind = |node: &&NodeId| kind.is_some() && kind_by_name(tree.name(**node)) == kind;
    let mut paths: Vec<AbsPath> = Vec::new();
    paths.extend(missing.near.iter().map(|near| missing.folder.path.child(near.as_bytes())));
    paths.extend(beside.iter().filter(of_kind).map(|node| tree.path(*node)));
    let wanted = missing.name.as_bytes();
    paths.extend(beside.iter().filter_map(|node| named_in(tree, *node, wanted)));
    let above = tree.parent(folder);
    if above != folder {
        paths.extend(named_in(tree, above, wanted).filter(|path| *path != missing.folder.path));
    }
    let mut known = Vec::new();
    paths.retain(|path| {
        let is_new = !known.contains(path);
        known.push(path.clone());
        is_new && matches!(tree.find(path), Lookup::Found(node) if is_folder(&node))
    });
    paths.truncate(MOST);
    paths.into_iter().map(|path| Place::new(host, path)).collect()
}

/// The folder of a name in another one.
fn named_in(tree: &Tree, folder: NodeId, name: &[u8]) -> Option<AbsPath> {
    match tree.lookup(folder, name) {
        Lookup::Found(node) if tree.meta(node).is_folder() => Some(tree.path(node)),
        _ => None,
    }
}
