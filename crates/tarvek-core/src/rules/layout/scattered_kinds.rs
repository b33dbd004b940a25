//! `layout/scattered-kinds`.

use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::about::About;
use crate::words::finding::Finding;
use crate::words::place::Place;
use crate::words::rule::{Rule, Severity};
use crate::words::terms::Kind;

/// Every kind needs a mapping of its own.
pub static RULE: Rule = Rule {
    id: "layout/scattered-kinds",
    severity: Severity::Note,
    title: "Every kind lies under a parent of its own",
    means: "The libraries of the site lie under as many unrelated folders as there are kinds, so \
            that each needs a mapping, and \
            often a mount and a share, of its own.",
    hurts: "Each new kind is work in several places, services come to know one folder under \
            different paths, and nothing can be \
            hard-linked from one parent to another.",
    fix: "Put the kinds into one parent folder or dataset, and give services the parent in one \
          mapping. tarvek draft shows how.",
    example: "Films are in /loft/films, music in /tank/music, and every service has two mappings.",
};

/// Judges the libraries of the site together.
pub fn find(_: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut kinds: Vec<Kind> = Vec::new();
    let mut parents: Vec<Place> = Vec::new();
    for case in cases {
        let (Some(end), Some(library)) = (case.end(), case.library()) else { continue };
        let Some(path) = end.path.parent() else { continue };
        let parent = Place::new(&end.host, path);
        if !kinds.contains(&library.kind) {
            kinds.push(library.kind);
        }
        let inside = |a: &Place, b: &Place| a.host == b.host && a.path.within(&b.path);
        if !parents.iter().any(|other| inside(&parent, other)) {
            parents.retain(|other| !inside(other, &parent));
            parents.push(parent);
        }
    }
    if kinds.len() < 2 || parents.len() < kinds.len() {
        return Vec::new();
    }
    let named: Vec<String> = parents.iter().map(ToString::to_string).collect();
    let message = format!(
        "{} kinds lie under {} unrelated folders: {}",
        kinds.len(),
        parents.len(),
        named.join(", ")
    );
    let finding = RULE.finding(About::Host(parents[0].host.clone())).says(message);
    vec![finding.remedy("put them under one parent, and map that")]
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::layout::service::Library;
    use crate::rules::promise::{Promise, local};
    use crate::tests::{Scene, declared, mapping};
    use crate::words::terms::{Access, Kind};

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            local(|scene| {
                scene.tree("granary", "f 0644 0:0 /attic/music/A/B/01 C.flac");
                let music = mapping("/attic/music", "/music", Access::ReadOnly);
                scene.service("lantern").map.as_mut().unwrap().push(music);
                let films = scene.service("lantern").libraries[0].clone();
                let roots = vec![declared("/music")];
                let music = Library { name: "Music".into(), kind: Kind::Music, roots, ..films };
                scene.service("lantern").libraries.push(music);
            })
        },
        by_hand: |scene| {
            scene.tree("granary", "f 0644 0:0 /loft/media/music/A/B/01 C.flac");
            scene.service("lantern").libraries[1].roots = vec![declared("/media/music")];
        },
    };

    #[test]
    fn kinds_that_share_no_parent_are_scattered() {
        let mut scene = Scene::local();
        scene.tree("granary", "d 0755 0:0 /attic/music\nd 0755 0:0 /loft/media/music");
        let lantern = scene.service("lantern");
        lantern.map.as_mut().unwrap().push(mapping("/attic", "/attic", Access::ReadOnly));
        let films = lantern.libraries[0].clone();
        let roots = vec![declared("/media/music")];
        lantern.libraries.push(Library { name: "Music".into(), kind: Kind::Music, roots, ..films });
        assert_eq!(scene.messages_of(&RULE), "");
        scene.service("lantern").libraries[1].roots = vec![declared("/attic/music")];
        let told = "2 kinds lie under 2 unrelated folders: granary:/loft/media, granary:/attic → \
                    put them under one parent, and map that";
        assert_eq!(scene.messages_of(&RULE), told);
    }
}
