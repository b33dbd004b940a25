//! `library/too-high`.

use std::collections::BTreeMap;

use crate::facts::tree::{NodeId, Tree};
use crate::forecast::reading::{read, split_ending};
use crate::layout::intake::Station;
use crate::remedy::apply_on_host::set_in_service;
use crate::route::end::End;
use crate::route::follow;
use crate::route::hops::View;
use crate::scan::kinds::{is_media, is_passed_over};
use crate::site::join::Site;
use crate::used::used_path::{UsedPath, stations};
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::place::Place;
use crate::words::remedy::Remedy;
use crate::words::rule::{Rule, Severity};
use crate::words::terms::Kind;

/// The root covers more than its kind.
pub static RULE: Rule = Rule {
    id: "library/too-high",
    severity: Severity::Risk,
    title: "The root covers more than its kind",
    means: "The root holds other kinds beside its own, the configuration of a service, or an \
            intake.",
    hurts: "A scan takes music videos, trailers, unfinished downloads and pictures of the \
            configuration for titles of this library.",
    fix: "Set the root to the folder that holds this kind alone.",
    example: "The root is /media, with films, music and photos below it.",
};

/// How many files of a folder are looked at to say its kind.
const ENOUGH: usize = 2000;

/// Judges one root.
pub fn find(site: &Site, case: &UsedPath) -> Vec<Finding> {
    of_root(site, case).into_iter().collect()
}

fn of_root(site: &Site, case: &UsedPath) -> Option<Finding> {
    let (route, library) = (case.route.as_ref()?, case.library()?);
    let (end, node) = route.entry()?;
    let tree = site.tree(&end.seen_on)?;
    let root = case.end()?;
    let kinds = kinds(tree, node);
    let own = if library.kind == Kind::HomeVideo { Kind::Films } else { library.kind };
    let others: Vec<&Kind> = kinds.keys().filter(|kind| **kind != own).collect();
    // A show among the films is another fault, and so is a film among the shows.
    let apart = |kind: &Kind| !is_video(*kind) || !is_video(own) || kinds.contains_key(&own);
    let mut covers: Vec<String> = others
        .iter()
        .filter(|kind| apart(kind) && !(own == Kind::Books && ***kind == Kind::Music))
        .map(|kind| format!("{} ({})", kind.word(), shown_names(tree, &kinds[*kind])))
        .collect();
    covers.extend(
        configurations(site, root).map(|service| format!("the configuration of {service}")),
    );
    covers.extend(intakes(site, root).into_iter().map(|intake| format!("the intake {intake}")));
    if covers.is_empty() {
        return None;
    }
    let message = format!("the root {} covers {} as well", case.root.written, covers.join(", "));
    let finding = case.finding_at_end(&RULE, route).says(message);
    // What is called as the kind is comes first.
    let called =
        |node: &NodeId| tree.name(*node).eq_ignore_ascii_case(library.kind.word().as_bytes());
    // Downloads are of the kind, and no library.
    let intakes: Vec<Place> = intake_folders(site).map(|(_, place)| place).collect();
    let holds_downloads = |node: &NodeId| {
        let path = tree.path(*node);
        intakes
            .iter()
            .any(|at| at.host == root.host && (at.path.within(&path) || path.within(&at.path)))
    };
    let mut right = kinds.get(&own).cloned().unwrap_or_default();
    right.retain(|node| !holds_downloads(node));
    right.sort_by_key(|node| !called(node));
    let right = right.first().filter(|first| right.len() == 1 || called(first));
    let apart = Remedy::from(format!(
        "put what is of kind {} into a folder of its own, and name that as the root",
        library.kind.word()
    ));
    Some(match right {
        Some(one) => {
            let right = route.asked.child(tree.name(*one));
            let edit = case.name_instead(site, &right);
            finding.remedy(vec![edit, set_in_service(case.service, case.what())]).or_else(apart)
        }
        None => finding.remedy(apart),
    })
}

fn is_video(kind: Kind) -> bool {
    matches!(kind, Kind::Films | Kind::Series)
}

fn shown_names(tree: &Tree, nodes: &[NodeId]) -> String {
    let names: Vec<String> =
        nodes.iter().take(3).map(|node| crate::words::text::shown(tree.name(*node))).collect();
    names.join(", ")
}

/// Services whose configuration lies in a root.
fn configurations<'s>(site: &'s Site, root: &Place) -> impl Iterator<Item = String> + use<'s> {
    let root = root.clone();
    site.layout.services.iter().filter_map(move |service| {
        let (subject, _) = site.subject_of(service);
        let route = follow(site, &View::host(&service.host), service.config.as_ref()?, &subject);
        let end = route.here();
        let inside = end.host == root.host && end.path.within(&root.path) && end.path != root.path;
        inside.then(|| service.name.to_string())
    })
}

/// Intakes with a folder of downloads in a root.
fn intakes<'s>(site: &'s Site, root: &Place) -> Vec<&'s Name> {
    let is_inside = |place: &Place| {
        place.host == root.host && place.path.within(&root.path) && place.path != root.path
    };
    let mut names: Vec<&Name> =
        intake_folders(site).filter(|(_, at)| is_inside(at)).map(|(name, _)| name).collect();
    names.dedup();
    names
}

/// Where the folders of intakes are, but those that are filed into.
fn intake_folders(site: &Site) -> impl Iterator<Item = (&Name, Place)> {
    let stations = |intake| stations(intake).into_iter().map(move |station| (intake, station));
    let all = site.layout.intakes.iter().flat_map(stations);
    all.filter_map(|(intake, (service, station, folder))| {
        let service = site.layout.service(service)?;
        let (subject, _) = site.subject_of(service);
        let route = follow(site, &View::service(&service.name), &folder.path, &subject);
        let is_there = station != Station::FilesInto && route.end == End::Reached;
        is_there.then(|| (&intake.name, route.here().clone()))
    })
}

/// What the folders of a root hold that hold titles and are none: by kind.
fn kinds(tree: &Tree, root: NodeId) -> BTreeMap<Kind, Vec<NodeId>> {
    let mut kinds: BTreeMap<Kind, Vec<NodeId>> = BTreeMap::new();
    for child in tree.children(root) {
        if !tree.meta(child).is_folder() || is_passed_over(tree.name(child), true) {
            continue;
        }
        // A folder with media in itself is a title.
        let media =
            |node: NodeId| !tree.meta(node).is_folder() && any_kind(tree.name(node)).is_some();
        if tree.children(child).any(media) {
            continue;
        }
        if let Some(kind) = kind_of(tree, child) {
            kinds.entry(kind).or_default().push(child);
        }
    }
    kinds
}

/// The kind that most of the files below a folder are of: whatever moves before what sounds, that
/// before pictures, which all others have beside them.
fn kind_of(tree: &Tree, folder: NodeId) -> Option<Kind> {
    let (mut episodes, mut videos, mut sounds, mut books, mut pictures) = (0, 0, 0, 0, 0);
    let files = tree.below(folder).filter(|node| !tree.meta(*node).is_folder());
    for node in files.take(ENOUGH) {
        let name = tree.name(node);
        match any_kind(name) {
            Some(Kind::Films) => {
                videos += 1;
                let text = String::from_utf8_lossy(name);
                episodes += usize::from(read(split_ending(&text).0).is_episode());
            }
            Some(Kind::Music) => sounds += 1,
            Some(Kind::Books) => books += 1,
            Some(Kind::Photos) => pictures += 1,
            _ => {}
        }
    }
    match (videos, sounds, books, pictures) {
        (1.., ..) if episodes * 2 > videos => Some(Kind::Series),
        (1.., ..) => Some(Kind::Films),
        (0, 1.., ..) => Some(Kind::Music),
        (0, 0, 1.., _) => Some(Kind::Books),
        (0, 0, 0, 1..) => Some(Kind::Photos),
        _ => None,
    }
}

fn any_kind(name: &[u8]) -> Option<Kind> {
    let kinds = [Kind::Films, Kind::Music, Kind::Photos];
    let plain = kinds.into_iter().find(|kind| is_media(*kind, name));
    // Texts and documents lie everywhere.
    let papers = [&b".txt"[..], b".pdf"];
    let paper = papers.iter().any(|ending| name.to_ascii_lowercase().ends_with(ending));
    plain.or_else(|| (is_media(Kind::Books, name) && !paper).then_some(Kind::Books))
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, done, local, nothing};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            local(|scene| {
                scene.tree("granary", "f 0644 0:0 /loft/media/music/Low Tide Choir/Ebb/01 A.flac");
                done(scene.root("/media"))
            })
        },
        by_hand: nothing,
    };

    #[test]
    fn a_root_covers_its_kind_alone() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.tree(
            "granary",
            "f 0644 0:0 /loft/media/music/Low Tide Choir/Harbour (1998)/01 Ice.flac",
        );
        assert_eq!(scene.messages_of(&RULE), "");
        scene.root("/media");
        let told = "the root /media covers music (music) as well → in the layout line 7: change \
                    root /media of lantern's library Films to /media/films; on granary: set it as \
                    the root in lantern as well";
        assert_eq!(scene.messages_of(&RULE), told);
        let mut scene = Scene::local().with_intake();
        let told = scene.root("/media").messages_of(&RULE);
        assert!(told.starts_with("the root /media covers the intake films as well"), "{told}");
    }
}
