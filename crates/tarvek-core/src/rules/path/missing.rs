//! `path/missing`.

use crate::rules::mount::wrong_source;
use crate::rules::path::{about, missing_at, respelled, swapped};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
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
    if missing.other_case.is_some() {
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
    let mkdir = Step::run(&place.host, Command::new("mkdir").arg(&place.path));
    // Others may be as near; the one that leads to something is meant.
    let near = missing.near.iter();
    let near = near.map(|near| Remedy::of(respelled(site, case, route, &missing.name, near)));
    let swapped = (!site.is_trial).then(|| swapped(site, case)).flatten().map(Remedy::of);
    let mut all = near.chain(swapped).chain([mkdir.into()]);
    let first = all.next().unwrap_or_default();
    vec![all.fold(finding.remedy(first), Finding::or_else)]
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
        assert!(scene.messages_of(&RULE).ends_with("→ on granary: mkdir /loft/media/workprints"));
        scene.without("granary", "/loft/media/films").root("/media/attic");
        let told = "/loft/media on granary has no \"attic\"; it is empty → on granary: mkdir \
                    /loft/media/attic";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.unread("granary", "/loft/media");
        assert_eq!(scene.messages_of(&RULE), "", "nobody looked there");
    }
}
