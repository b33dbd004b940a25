//! `path/not-a-folder`.

use crate::forecast::titles::{Detail, forecast};
use crate::remedy::apply_on_host::set_in_service;
use crate::route::end::End;
use crate::route::follow;
use crate::route::hops::Route;
use crate::scan::kinds::is_media;
use crate::scan::read::scan;
use crate::site::join::Site;
use crate::used::used_path::{UsedPath, end_of};
use crate::words::finding::Finding;
use crate::words::path::AbsPath;
use crate::words::remedy::Remedy;
use crate::words::rule::{Rule, Severity};

/// Something else than a folder.
pub static RULE: Rule = Rule {
    id: "path/not-a-folder",
    severity: Severity::Blocker,
    title: "A file or special file stands where a folder is needed",
    means: "The path leads to something that can't hold entries.",
    hurts: "A scan of it fails, and so does every path that would lead through it.",
    fix: "Point the library at the folder, or move what stands in its place.",
    example: "The root was set to a playlist file that lies among the films.",
};

/// Judges one root.
pub fn find(site: &Site, case: &UsedPath) -> Vec<Finding> {
    let route = case.route.as_ref().filter(|route| route.not_mounted.is_empty());
    let Some(route) = route else { return Vec::new() };
    let finding = || case.finding_at_end(&RULE, route);
    if let End::NotAFolder { at, kind } = &route.end {
        let message =
            format!("{} is a {}; {} needs a folder there", at.path, kind.word(), route.asked);
        return vec![
            finding()
                .says(message)
                .remedy(format!("name the folder that is meant as the {}", case.what())),
        ];
    }
    let Some((end, meta)) = end_of(site, route).filter(|(_, meta)| !meta.is_folder()) else {
        return Vec::new();
    };
    let message = format!("{} is a {}, not a folder", end.at.path, meta.kind.word());
    let mut all = candidates(site, case, route).into_iter().map(|path| {
        Remedy::of(vec![case.name_instead(site, &path), set_in_service(case.service, case.what())])
    });
    let none = || Remedy::from(format!("name a folder as the {}", case.what()));
    let first = all.next().unwrap_or_else(none);
    vec![all.chain([none()]).fold(finding().says(message).remedy(first), Finding::or_else)]
}

/// The folders that may be meant where a file is named, the likeliest first. A file of a library
/// that lies alone in its folder is a title, and the root is the folder above that; one title is no
/// root.
fn candidates(site: &Site, case: &UsedPath, route: &Route) -> Vec<AbsPath> {
    let Some(parent) = route.asked.parent() else { return Vec::new() };
    let titles = |path: &AbsPath| {
        let kind = case.library()?.kind;
        is_media(kind, route.asked.name()?).then_some(())?;
        let route = follow(site, &route.view, path, &case.subject);
        let scan = scan(site, &route, kind);
        Some(forecast(site, kind, [(path, &scan)], Detail::Figures).titles)
    };
    let above = parent.parent().filter(|above| !above.is_root());
    match (titles(&parent), above) {
        (Some(0 | 1), Some(above)) => vec![above, parent],
        _ => vec![parent],
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, done, local, nothing};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            local(|scene| done(scene.root("/media/films/Low Water (2003)/Low Water (2003).mkv")))
        },
        by_hand: nothing,
    };

    #[test]
    fn a_file_is_no_root_and_leads_nowhere() {
        let mut scene = Scene::local();
        scene.tree("granary", "f 0644 1101:2100 /loft/media/list.m3u");
        assert_eq!(scene.messages_of(&RULE), "");
        let told = "/loft/media/list.m3u is a file, not a folder → in the layout line 7: change \
                    root /media/list.m3u of lantern's library Films to /media; on granary: set it \
                    as the root in lantern as well";
        assert_eq!(scene.root("/media/list.m3u").messages_of(&RULE), told);
        let told = "/loft/media/list.m3u is a file; /media/list.m3u/x needs a folder there → name \
                    the folder that is meant as \
                    the root";
        assert_eq!(scene.root("/media/list.m3u/x").messages_of(&RULE), told);
        // One title's folder is no root either.
        let told =
            scene.root("/media/films/Low Water (2003)/Low Water (2003).mkv").messages_of(&RULE);
        assert!(told.contains(" to /media/films; on granary: "), "{told}");
    }
}
