//! `path/not-a-folder`.

use crate::route::end::End;
use crate::rules::case::{Case, end_of};
use crate::site::join::Site;
use crate::words::finding::Finding;
use crate::words::path::AbsPath;
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
pub fn find(site: &Site, case: &Case) -> Vec<Finding> {
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
    match end_of(site, route) {
        Some((end, meta)) if !meta.is_folder() => {
            let parent = route.asked.parent().unwrap_or_else(AbsPath::root);
            let message = format!("{} is a {}, not a folder", end.at.path, meta.kind.word());
            let remedy = format!("name a folder as the {}, for example {parent}", case.what());
            vec![finding().says(message).remedy(remedy)]
        }
        _ => Vec::new(),
    }
}

#[cfg(test)]
mod tests {
    use super::RULE;
    use crate::tests::Scene;

    #[test]
    fn a_file_is_no_root_and_leads_nowhere() {
        let mut scene = Scene::local();
        scene.tree("granary", "f 0644 1101:2100 /loft/media/list.m3u");
        assert_eq!(scene.told(&RULE), "");
        let told = "/loft/media/list.m3u is a file, not a folder → point the root at a folder, for example /media";
        assert_eq!(scene.root("/media/list.m3u").told(&RULE), told);
        let told = "/loft/media/list.m3u is a file; /media/list.m3u/x needs a folder there → point the root at the folder that \
                    holds the titles";
        assert_eq!(scene.root("/media/list.m3u/x").told(&RULE), told);
    }
}
