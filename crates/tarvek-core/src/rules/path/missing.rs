//! `path/missing`.

use crate::layout::intake::Station;
use crate::remedy::apply_on_host::set_in_service;
use crate::route::end::Missing;
use crate::route::hops::{Route, View};
use crate::route::near_miss::near_misses;
use crate::route::seen_as::seen_as;
use crate::rules::layout::on_system_disk::on_system_disk;
use crate::rules::mount::wrong_source;
use crate::rules::path::{about, missing_at, respelled, swapped, written_as_host_path};
use crate::site::join::Site;
use crate::used::used_path::{Use, UsedPath};
use crate::words::finding::Finding;
use crate::words::place::Place;
use crate::words::remedy::{Command, Remedy, Step};
use crate::words::rule::{Rule, Severity};
use crate::words::text::counted;

/// A place that is not there.
pub static RULE: Rule = Rule {
    id: "path/missing",
    severity: Severity::Blocker,
    title: "A place on the way does not exist",
    means: "Following the path from the service, a folder was read to the end and has no entry of \
            the next name.",
    hurts: "The scan finds nothing. Worse, some engines make the missing folder by themselves, \
            empty and owned by root, \
            and the fault then looks like an empty library.",
    fix: "Correct the path, if the finding names a near miss; otherwise make the folder on the \
          host that should hold it.",
    example: "A library's root is /media/flims; the folder on the storage host is called films.",
};

/// Judges one place that a service uses.
pub fn find(site: &Site, case: &UsedPath) -> Vec<Finding> {
    let Some((route, missing)) = missing_at(case) else { return Vec::new() };
    if missing.other_case.is_some() || written_as_host_path::meant(site, case).is_some() {
        return Vec::new();
    }
    let place = missing.folder.child(&missing.name);
    let what = match missing.entries {
        0 => "it is empty".to_owned(),
        count => format!("it has {}", counted(count as u64, "other entry")),
    };
    let message = format!("{} has no {:?}; {what}", missing.folder.on(), missing.name);
    let finding = about(case, route, case.finding_at_end(&RULE, route)).at(&place).says(message);
    if let Some(cause) = wrong_source::on_way(site, route) {
        return vec![finding.because(Some(cause)).remedy("mount what is declared first")];
    }
    // Others may be as near; the one that leads to something is meant.
    let near = near_misses(site, missing, case.library().map(|library| library.kind));
    let no_near = near.is_empty();
    let near = near.iter().filter_map(|near| instead(site, case, route, missing, near));
    let near = near.map(Remedy::of);
    let swapped = (!site.is_trial).then(|| swapped(site, case)).flatten().map(Remedy::of);
    let made = match is_to_be_made(site, case, missing, no_near) {
        true => Step::run(&place.host, Command::new("mkdir").arg(&place.path)),
        false => {
            let words = format!(
                "find out where {} went, if it held anything: it may be renamed, or on a disk that \
                 is not there; make {} only if it is new",
                case.root.written, place.path
            );
            Step::on(&place.host, words)
        }
    };
    let mut all = near.chain(swapped).chain([made.into()]);
    let first = all.next().unwrap_or_default();
    vec![all.fold(finding.remedy(first), Finding::or_else)]
}

/// The root, or the mapping, with a folder that may be meant instead.
fn instead(
    site: &Site,
    case: &UsedPath,
    route: &Route,
    missing: &Missing,
    near: &Place,
) -> Option<Vec<Step>> {
    let is_beside = near.path.parent().as_ref() == Some(&missing.folder.path);
    if let Some(name) = near.path.name().filter(|_| is_beside) {
        return Some(respelled(site, case, route, &missing.name, &name.into()));
    }
    let view = View::service(&case.service.name);
    let seen = seen_as(site, &view, &case.subject, near)?;
    Some(vec![case.name_instead(site, &seen), set_in_service(case.service, case.what())])
}

/// Whether a new, empty folder is what is wanted there: downloads pass it, or the site is as empty
/// as the folder would be, and nothing else may have been meant.
fn is_to_be_made(site: &Site, case: &UsedPath, missing: &Missing, no_near: bool) -> bool {
    match case.used {
        Use::Intake(_, Station::FilesInto) | Use::Library(_) => {
            no_near && missing.entries == 0 && on_system_disk(site, &missing.folder).is_none()
        }
        Use::Intake(..) => true,
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::check::report::check;
    use crate::rules::promise::{Promise, done, local, nothing};
    use crate::tests::{Scene, mapping};
    use crate::words::remedy::Change;
    use crate::words::terms::Access;

    pub(crate) const PROMISE: Promise =
        Promise { scene: || local(|scene| done(scene.root("/media/flims"))), by_hand: nothing };

    #[test]
    fn a_wrong_mapping_is_one_finding_whatever_it_affects() {
        let mut scene = Scene::local();
        let mut lost = scene.service("lantern").libraries[0].clone();
        lost.name = "Lost".into();
        scene.service("lantern").libraries.push(lost);
        scene.service("lantern").map =
            Some(vec![mapping("/loft/medai", "/media", Access::ReadOnly)]);
        let findings = check(&scene.site()).findings;
        let told: Vec<&str> = findings.iter().map(|finding| finding.rule.id).collect();
        assert_eq!(told, ["path/missing"], "{findings:#?}");
        assert_eq!(findings[0].affects.len(), 2);
        assert_eq!(findings[0].about.to_string(), "service:lantern");
        let remedy = "in the layout line 7: set from = \"/loft/media\" for lantern's mapping to \
                      /media; on granary: recreate lantern's container with this mapping";
        assert_eq!(findings[0].remedy.to_string(), remedy);
    }

    #[test]
    fn a_near_miss_is_offered_and_else_the_folder_is_made() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.root("/media/flims");
        let told = "/loft/media on granary has no \"flims\"; it has 1 other entry → in the layout \
                    line 7: change root /media/flims of lantern's library Films to /media/films; \
                    on granary: set it as the root in lantern as well";
        assert_eq!(scene.messages_of(&RULE), told);
        let findings = scene.findings();
        let finding = findings.iter().find(|finding| finding.rule == &RULE).unwrap();
        let edit = finding.remedy.edits().next().unwrap();
        assert_eq!((edit.line, &edit.change), (7, &Change::Set("/media/films".into())));
        scene.root("/media/workprints/new");
        let words = "→ on granary: find out where /media/workprints/new went, if it held anything: \
                     it may be renamed, or on a disk that is not there; make \
                     /loft/media/workprints only if it is new";
        assert!(scene.messages_of(&RULE).ends_with(words), "{}", scene.messages_of(&RULE));
        scene.without("granary", "/loft/media/films").root("/media/attic");
        let told = "/loft/media on granary has no \"attic\"; it is empty → on granary: mkdir \
                    /loft/media/attic";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.unread("granary", "/loft/media");
        assert_eq!(scene.messages_of(&RULE), "", "nobody looked there");
    }

    /// One level higher or deeper, or by what the names of folders speak of.
    #[test]
    fn a_folder_nearby_that_holds_some_is_offered() {
        let offered = |root: &str, entries: &str| {
            let mut scene = Scene::local();
            scene.tree("granary", entries).root(root);
            let told = scene.messages_of(&RULE);
            told.split(" → ").nth(1).unwrap_or_default().split("; on ").next().unwrap().to_owned()
        };
        let to = |path: &str, root: &str| {
            format!("in the layout line 7: change root {root} of lantern's library Films to {path}")
        };
        let cinema = "/media/Kino";
        assert_eq!(offered(cinema, ""), to("/media/films", cinema));
        let high = "/media/club/films";
        assert_eq!(
            offered(high, "d 0755 0:0 /loft/media/club\nf 0644 0:0 /loft/media/club/x"),
            to("/media/films", high)
        );
        let deep = "/media/filmclub";
        let entries = "d 0755 0:0 /loft/media/films/filmclub\n\
                       f 0644 0:0 /loft/media/films/filmclub/Ebb (2001).mkv";
        assert!(offered(deep, entries).starts_with("in the layout line 7: change root"));
    }
}
