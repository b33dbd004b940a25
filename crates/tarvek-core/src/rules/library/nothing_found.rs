//! `library/nothing-found`.

use std::collections::VecDeque;

use crate::facts::tree::{NodeId, Tree};
use crate::judge::access_check::judge;
use crate::judge::verdict::Need;
use crate::kernel::entry::EntryKind;
use crate::layout::service::Library;
use crate::remedy::apply_on_host::set_in_service;
use crate::route::end::End;
use crate::route::follow;
use crate::route::hops::{Route, View};
use crate::rules::layout::on_system_disk::is_on_media_storage;
use crate::rules::{access, identity, mount, path, share};
use crate::scan::kinds::is_media;
use crate::scan::read::Scan;
use crate::site::join::Site;
use crate::used::used_path::{UsedPath, unseen_mount};
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::path::AbsPath;
use crate::words::place::Place;
use crate::words::remedy::{Command, Remedy};
use crate::words::rule::{Rule, RuleId, Severity};
use crate::words::terms::Kind;
use crate::words::text::counted;

/// A library that would come out empty.
pub static RULE: Rule = Rule {
    id: "library/nothing-found",
    severity: Severity::Blocker,
    title: "A scan would find nothing",
    means: "Following the root as the service does, no file of the library's kind can be reached, \
            read and recognised. The finding names the first reason along the way; where the way \
            is in order, the folder itself holds nothing of this kind. An empty folder on media \
            storage that nothing speaks against is a new library, and only a note.",
    hurts: "The library is empty; if it was not empty before, the service may forget everything it \
            knew about it.",
    fix: "Clear the reason. Where there is none, the root most likely leads to the wrong folder: \
          trace it.",
    example: "The books library is mapped to /srv/books on the application host, where nobody ever \
              put a book.",
};

/// How deep below `/` a library's folder is looked for.
const DEEPEST: usize = 5;

/// Judges one root.
pub fn find(site: &Site, case: &UsedPath) -> Vec<Finding> {
    let Some(library) = case.library() else { return Vec::new() };
    let Some((reason, because)) = empty_because(site, case) else { return Vec::new() };
    let finding = match &case.route {
        Some(route) => case.finding_at_end(&RULE, route),
        None => case.finding(&RULE).known(Evidence::Declared),
    };
    let (root, kind) = (&case.root.written, wanted(library.kind));
    if is_new(site, case) {
        let words = "file the first titles there; until then a scan finds nothing";
        let message = format!("nothing is in {root} yet: {reason}");
        return vec![finding.weighs(Severity::Note).says(message).remedy(words)];
    }
    let message = format!("a scan of {root} would find no {kind}: {reason}");
    vec![finding.says(message).remedy(remedy(site, case, library)).because(because)]
}

/// Whether a root is in order in every way, and only has nothing in it yet: an empty folder on media
/// storage, with no folder elsewhere that is more likely to be meant.
pub fn is_new(site: &Site, case: &UsedPath) -> bool {
    let (Some(library), Some(route), Some(scan)) = (case.library(), &case.route, &case.scan) else {
        return false;
    };
    let is_empty = scan.entries == 0 && scan.unseen == 0 && scan.unsettled.is_none();
    route.complete()
        && is_empty
        && unseen_mount(site, route).is_none()
        && judge(site, route, Need::Read).is_allowed()
        && is_on_media_storage(site, route.here())
        && elsewhere(site, case, library, route).is_none()
}

fn wanted(kind: Kind) -> &'static str {
    match kind {
        Kind::Films => "film",
        Kind::Series => "episode",
        Kind::Music => "music",
        Kind::Photos => "photo",
        Kind::Books => "book",
        Kind::HomeVideo => "video",
    }
}

/// Why nothing can be found, and the rule that speaks of it.
type Reason = (String, Option<RuleId>);

/// The first reason along the way why nothing can be found; `None` if something is found, or nobody
/// can tell.
fn empty_because(site: &Site, case: &UsedPath) -> Option<Reason> {
    let Some(route) = &case.route else {
        return Some(("its root is not absolute".into(), Some(&path::not_absolute::RULE)));
    };
    if case.forecast.as_ref().is_some_and(|forecast| forecast.titles > 0) {
        return None;
    }
    if let Some(absent) = route.not_mounted.first() {
        let reason = format!("{} is not mounted on {}", absent.at.path, absent.at.host);
        return Some((reason, Some(&mount::not_mounted::RULE)));
    }
    let rule: Option<RuleId> = match &route.end {
        End::Reached => return at_the_end(site, case, route),
        End::Unseen { .. } | End::Volume { .. } => return None,
        End::Missing(missing) if missing.other_case.is_some() => Some(&path::case::RULE),
        End::Missing(_) => Some(&path::missing::RULE),
        End::NotAFolder { .. } => Some(&path::not_a_folder::RULE),
        End::Uncovered { .. } => Some(&path::uncovered::RULE),
        End::HiddenChild { .. } => Some(&share::child_dataset_hidden::RULE),
        End::Unmapped { .. } => Some(&identity::shifted::RULE),
        End::NotAdmitted { .. } => Some(&access::root_unreadable::RULE),
        End::Loop
        | End::LeavesShare { .. }
        | End::NotFollowed { .. }
        | End::ProtectedLink { .. }
        | End::TooLong { .. } => None,
    };
    Some((route.end.words(), rule))
}

fn at_the_end(site: &Site, case: &UsedPath, route: &Route) -> Option<Reason> {
    // What an engine makes is no entry of a host.
    if !route.is_engine_made() {
        route.entry()?;
    }
    let here = match route.is_engine_made() {
        true => format!("{}, which is {}'s own", route.asked, case.service.name),
        false => route.here().on(),
    };
    let Some(scan) = &case.scan else {
        // For somebody unknown nothing is scanned.
        let is_known = route.doubt().is_none();
        let reason = "its root is not a folder".to_owned();
        return is_known.then_some((reason, Some(&path::not_a_folder::RULE)));
    };
    let read = judge(site, route, Need::Read);
    match (read.allowed()?, scan) {
        (false, _) => {
            let reason = format!("{} refuses {}", read.decided_at.path, case.subject);
            Some((reason, Some(&access::root_unreadable::RULE)))
        }
        (true, Scan { unseen: 1.., .. } | Scan { unsettled: Some(_), .. }) => None,
        (true, Scan { unreadable: count @ 1.., .. }) => {
            let reason = format!("{} in it can't be read", counted(*count, "entry"));
            Some((reason, Some(&access::entries_unreadable::RULE)))
        }
        (true, scan) if scan.files() > 0 && scan.unsettled.is_none() => {
            let files = counted(scan.files(), "file");
            let reason = format!("{here} holds {files}, and no name gives a title");
            Some((reason, None))
        }
        (true, Scan { entries, .. }) => {
            let holds = match entries {
                0 => "is empty".to_owned(),
                count => format!("holds {}, none of this kind", counted(*count, "entry")),
            };
            Some((format!("it leads to {here}, which {holds}"), None))
        }
    }
}

fn remedy(site: &Site, case: &UsedPath, library: &Library) -> Remedy {
    let service = &case.service.name;
    let complete = case.route.as_ref().filter(|route| route.complete());
    match complete.and_then(|route| elsewhere(site, case, library, route)) {
        Some((folder, Some(seen))) => {
            let holds = format!("it leads to {}, which holds some", folder.on());
            let steps =
                vec![case.name_instead(site, &seen), set_in_service(case.service, case.what())];
            Remedy { steps, effects: vec![holds] }
        }
        Some((folder, None)) => format!(
            "did you mean {}? it holds some, but no mapping of {service} leads there: add one",
            folder.on()
        )
        .into(),
        None => {
            let root = Command::new("tarvek trace").arg(case.root.written.raw());
            root.arg("--from").arg(format!("service:{}", service.raw())).to_string().into()
        }
    }
}

/// A folder of the same name, or named like the kind, that does hold files of the kind; and the
/// path under which the service would see it.
fn elsewhere(
    site: &Site,
    case: &UsedPath,
    library: &Library,
    route: &Route,
) -> Option<(Place, Option<AbsPath>)> {
    let own = String::from_utf8_lossy(route.asked.name()?).to_lowercase();
    let names = [own.as_str(), library.kind.word()];
    for (host, facts) in site.observed() {
        let tree = &facts.tree;
        let mut todo: VecDeque<(NodeId, usize)> = [(Tree::ROOT, 0)].into();
        while let Some((node, depth)) = todo.pop_front() {
            let name = String::from_utf8_lossy(tree.name(node)).to_lowercase();
            if names.contains(&name.as_str()) {
                let place = Place::new(host, tree.path(node));
                if *route.here() != place && holds_kind(tree, node, library.kind) {
                    let seen = seen_from_mappings(site, case, &place);
                    return Some((place, seen));
                }
            }
            if depth < DEEPEST {
                let folders = tree.children(node).filter(|child| tree.meta(*child).is_folder());
                todo.extend(folders.map(|folder| (folder, depth + 1)));
            }
        }
    }
    None
}

/// Whether a folder holds a file of a kind within its first levels.
fn holds_kind(tree: &Tree, folder: NodeId, kind: Kind) -> bool {
    let mut todo = vec![(folder, 0)];
    while let Some((node, depth)) = todo.pop() {
        for child in tree.children(node) {
            match tree.meta(child).kind {
                EntryKind::File if is_media(kind, tree.name(child)) => return true,
                EntryKind::Folder if depth < 3 => todo.push((child, depth + 1)),
                _ => {}
            }
        }
    }
    false
}

/// The path below the first mapping that leads there.
fn seen_from_mappings(site: &Site, case: &UsedPath, place: &Place) -> Option<AbsPath> {
    let view = View::service(&case.service.name);
    let mut places = case.service.maps().iter().filter_map(|map| map.to.path.as_ref().ok());
    places.find_map(|to| {
        let route = follow(site, &view, to, &case.subject);
        let here = route.here();
        let same = here.host == place.host && route.complete();
        let rest = place.path.below(&here.path).filter(|_| same)?;
        Some(to.join(rest))
    })
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::check::report::check;
    use crate::facts::host_report::Property;
    use crate::rules::promise::{Promise, done, local, nothing};
    use crate::rules::{access, path};
    use crate::tests::{Scene, mapping, mounts};
    use crate::words::rule::{RuleId, Severity};
    use crate::words::terms::Access;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            local(|scene| {
                done(scene.tree("granary", "d 0755 0:0 /loft/media/attic").root("/media/attic"))
            })
        },
        by_hand: nothing,
    };

    #[test]
    fn an_empty_library_has_a_reason_or_another_folder() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.tree("granary", "f 0644 0:0 /loft/media/attic/readme");
        let told = "a scan of /media/attic would find no film: it leads to /loft/media/attic on \
                    granary, which holds 1 entry, none of this kind → in the layout line 7: change \
                    root /media/attic of lantern's library Films to /media/films; on granary: set \
                    it as the root in lantern as well";
        assert_eq!(scene.root("/media/attic").messages_of(&RULE), told);
        scene.tree("granary", "d 0755 0:0 /srv/films");
        let books = mapping("/srv/films", "/films", Access::ReadOnly);
        scene.service("lantern").map = Some(vec![books]);
        let told = "a scan of /films would find no film: it leads to /srv/films on granary, which \
                    is empty → did you mean \
                    /loft/media/films on granary? it holds some, but no mapping of lantern leads \
                    there: add one";
        assert_eq!(scene.root("/films").messages_of(&RULE), told);
        scene.tree("granary", "f 0644 0:0 /srv/films/A (2001).mkv");
        assert_eq!(scene.messages_of(&RULE), "");
    }

    #[test]
    fn what_another_rule_says_brings_it_about() {
        let because = |scene: &Scene| -> Option<RuleId> {
            scene.findings().iter().find(|finding| finding.rule == &RULE).unwrap().because
        };
        let mut scene = Scene::local();
        scene.root("/media/flims");
        assert_eq!(because(&scene), Some(&path::missing::RULE));
        scene.root("media/films");
        assert_eq!(because(&scene), Some(&path::not_absolute::RULE));
        scene.root("/other");
        assert_eq!(because(&scene), Some(&path::uncovered::RULE));
        scene.root("/media/films").tree("granary", "d 0700 0:0 /loft/media/films");
        assert_eq!(because(&scene), Some(&access::root_unreadable::RULE));
        scene.tree("granary", "d 0755 0:0 /loft/media/films");
        scene.tree("granary", "d 0700 0:0 /loft/media/films/Low Water (2003)");
        assert_eq!(because(&scene), Some(&access::entries_unreadable::RULE));
        scene.tree("granary", "d 0755 0:0 /loft/media/films/Low Water (2003)");
        scene.without("granary", "/loft/media/films/Low Water (2003)/Low Water (2003).mkv");
        assert_eq!(because(&scene), None);
        scene.unread("granary", "/loft/media/films/Low Water (2003)");
        assert_eq!(scene.messages_of(&RULE), "", "nobody can tell");
    }

    /// An empty folder is a new library only on storage that is there.
    #[test]
    fn an_empty_folder_is_a_new_library_only_where_its_storage_is_mounted() {
        let told = |table: &str, dataset: &str| {
            let mut scene = Scene::local();
            scene
                .without("granary", "/loft/media/films")
                .tree("granary", "d 0755 0:0 /loft/media/films");
            scene.facts("granary").mounts = Some(mounts(table));
            let dataset = Property {
                dataset: "loft/media".into(),
                name: "mountpoint".into(),
                value: dataset.into(),
            };
            scene.facts("granary").told.properties = vec![dataset];
            let report = check(&scene.site());
            let row = &report.board[0];
            let finding = report.findings.iter().find(|f| f.rule == &RULE).unwrap();
            (row.ready, finding.severity == Severity::Note)
        };
        let root = "1 0 8:1 / / ext4 /dev/sda1 rw";
        let (loft, media) =
            ("2 1 0:4 / /loft zfs loft rw", "3 2 0:5 / /loft/media zfs loft/media rw");
        assert_eq!(told(&[root, loft, media].join("\n"), "/loft/media"), (true, true));
        assert_eq!(told(&[root, loft].join("\n"), "/loft"), (true, true));
        assert_eq!(told(&[root, loft].join("\n"), "/loft/media"), (false, false));
        assert_eq!(told(root, "/loft/media"), (false, false));
    }
}
