//! `layout/no-backup`.

use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::about::{About, Affected};
use crate::words::finding::Finding;
use crate::words::place::Place;
use crate::words::rule::{Rule, Severity};

/// What would be lost.
pub static RULE: Rule = Rule {
    id: "layout/no-backup",
    severity: Severity::Note,
    title: "Nothing is said of a backup",
    means: "A configuration folder, or a library that can't be replaced, has no declared backup.",
    hurts: "To restore a server, both are needed: the originals, and what the service knows about \
            everything else.",
    fix: "Back it up, and say where to: backup = \"…\" of the service or the library.",
    example: "The photos are original = true, and nobody wrote down where their copy is.",
};

/// Judges configuration folders, and libraries that can't be replaced.
pub fn find(site: &Site, _: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for service in &site.layout.services {
        let name = &service.name;
        let (folder, volume) = (&service.config, &service.config_volume);
        if service.backup.is_none() && (folder.is_some() || volume.is_some()) {
            let kept = volume.as_ref().map(|volume| format!(", the volume {volume}"));
            let message = format!(
                "nothing is said of a backup of {name}'s configuration{}",
                kept.unwrap_or_default()
            );
            let finding = RULE.finding(About::Service(name.clone())).on(&service.host);
            let finding = match folder {
                Some(folder) => finding.at(&Place::new(&service.host, folder)),
                None => finding,
            };
            findings.push(
                finding
                    .line(service.origin.line)
                    .says(message)
                    .remedy("back it up, and write backup = \"…\" into the service"),
            );
        }
        for library in service.libraries.iter().filter(|l| l.original && l.backup.is_none()) {
            let about = About::Library { service: name.clone(), library: library.name.clone() };
            let message =
                format!("{} can't be replaced, and nothing is said of its backup", library.name);
            findings.push(
                RULE.finding(about)
                    .line(library.origin.line)
                    .says(message)
                    .remedy("back it up, and write backup = \"…\" into the library")
                    .affects([Affected::Library(library.name.clone())]),
            );
        }
    }
    findings
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, local};
    use crate::tests::{Scene, abs};

    pub(crate) const PROMISE: Promise = Promise {
        scene: || local(|scene| scene.service("lantern").config_volume = Some("kept".into())),
        by_hand: |scene| scene.service("lantern").backup = Some("rill".into()),
    };

    #[test]
    fn configuration_and_originals_need_a_backup() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.service("lantern").config = Some(abs("/srv/lantern"));
        scene.service("lantern").libraries[0].original = true;
        let told = "nothing is said of a backup of lantern's configuration → back it up, and write \
                    backup = \"…\" into the service\n\
                    Films can't be replaced, and nothing is said of its backup → back it up, and \
                    write backup = \"…\" into the library";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.service("lantern").backup = Some("rill".into());
        scene.service("lantern").libraries[0].backup = Some("rill".into());
        assert_eq!(scene.messages_of(&RULE), "");
    }
}
