//! `path/case`.

use crate::rules::mount::wrong_source;
use crate::rules::path::{about, missing_at, respelled};
use crate::site::join::Site;
use crate::used::names_in_use::NamesInUse;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::place::Place;
use crate::words::remedy::{Command, Step};
use crate::words::rule::{Rule, Severity};

/// A place that exists in another letter case.
pub static RULE: Rule = Rule {
    id: "path/case",
    severity: Severity::Blocker,
    title: "A place exists in another letter case only",
    means: "The folder has an entry whose name differs from the wanted one in upper and lower case \
            only.",
    hurts: "Linux filesystems tell Films from films, so the scan finds nothing, although a person \
            who looks through a \
            share from a desktop sees the folder under either spelling.",
    fix: "Write the exact spelling in the layout and in the service; or rename the folder on the \
          storage host, if nothing else leads through its name.",
    example: "The library's root is /media/Music, the folder is /loft/media/music.",
};

/// Judges one root.
pub fn find(site: &Site, case: &UsedPath) -> Vec<Finding> {
    let Some((route, missing)) = missing_at(case) else { return Vec::new() };
    let Some(other) = &missing.other_case else { return Vec::new() };
    let message = format!(
        "{} has {other:?}, but {:?} was asked for: upper and lower case differ",
        missing.folder.path, missing.name
    );
    let place = missing.folder.child(&missing.name);
    let finding = about(case, route, case.finding_at_end(&RULE, route)).at(&place).says(message);
    if let Some(cause) = wrong_source::on_way(site, route) {
        return vec![finding.because(Some(cause)).remedy("mount what is declared first")];
    }
    let (other, host) = (missing.folder.path.child(other.as_bytes()), &missing.folder.host);
    let present = Place::new(host, &other);
    let right = missing.other_case.as_ref().unwrap_or(&missing.name);
    let spelled = respelled(site, case, route, &missing.name, right);
    let finding = finding.remedy(spelled);
    // Whoever uses the name that is there would lose it.
    let is_in_use = NamesInUse::of(site).get().is_none_or(|names| names.has(&present));
    if is_in_use {
        return vec![finding];
    }
    let rename = Command::new("mv -n -T").arg(&present.path).arg(&place.path);
    vec![finding.or_else(Step::run(host, rename))]
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, done, local, nothing};
    use crate::tests::{Scene, mapping, mounts, share};
    use crate::used::used_path::used_paths;
    use crate::words::terms::{Access, Protocol};

    pub(crate) const PROMISE: Promise =
        Promise { scene: || local(|scene| done(scene.root("/media/Films"))), by_hand: nothing };

    #[test]
    fn letter_case_counts_but_behind_an_smb_server() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.root("/media/Films");
        let told = "/loft/media has \"films\", but \"Films\" was asked for: upper and lower case \
                    differ → in the layout line 7: change root /media/Films of lantern's library \
                    Films to /media/films; on granary: set it as the root in lantern as well";
        assert_eq!(scene.messages_of(&RULE), told);
        let mut scene = Scene::over(Protocol::Smb);
        assert_eq!(scene.root("/media/Films").messages_of(&RULE), "");
    }

    /// Whether renaming the folder is offered, where the root is written in another case.
    fn offers_rename(change: impl Fn(&mut Scene)) -> bool {
        let mut scene = Scene::local();
        scene.root("/media/Films");
        change(&mut scene);
        let site = scene.site();
        let told = super::find(&site, &used_paths(&site)[0]);
        told[0].or_else.iter().any(|remedy| remedy.to_string().contains("mv -n -T"))
    }

    #[test]
    fn a_folder_that_something_else_leads_through_keeps_its_name() {
        assert!(offers_rename(|_| {}));
        assert!(!offers_rename(|scene| {
            let map = mapping("/loft/media/films", "/films", Access::ReadOnly);
            scene.service("lantern").map.as_mut().unwrap().push(map);
        }));
        assert!(!offers_rename(|scene| {
            scene.layout.shares.push(share("films", "/loft/media/films"));
        }));
        let link = |target: &str| {
            let line = format!("l 0777 0:0 /loft/media/best -> {target}");
            offers_rename(|scene| done(scene.tree("granary", &line)))
        };
        assert!(!link("films"));
        assert!(!link("/loft/media/films"));
        assert!(link("music"));
        let within = |target: &str| {
            let line = format!("l 0777 0:0 /loft/media/films/best -> {target}");
            offers_rename(|scene| done(scene.tree("granary", &line)))
        };
        assert!(within("Low Water (2003)"), "it goes with the folder");
        assert!(!within("../films/Low Water (2003)"));
        assert!(!offers_rename(|scene| {
            let table =
                "1 0 0:1 / / ext4 /dev/sda1 rw\n2 1 0:2 / /loft/media/films xfs /dev/sdb1 rw";
            scene.facts("granary").mounts = Some(mounts(table));
        }));
    }
}
