//! `path/not-absolute`.

use crate::layout::mapping::{Declared, MapSource};
use crate::remedy::apply_on_host::set_in_service;
use crate::rules::path::written_as_host_path;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::about::About;
use crate::words::finding::Finding;
use crate::words::part::Part;
use crate::words::path::{AbsPath, components};
use crate::words::remedy::Step;
use crate::words::rule::{Rule, Severity};

/// A mapping or root that is not absolute.
pub static RULE: Rule = Rule {
    id: "path/not-absolute",
    severity: Severity::Blocker,
    title: "A mapping or root is not absolute",
    means: "A path is relative, or has a \"..\" component, where only an absolute one has one \
            meaning.",
    hurts: "Engines read a relative source as the name of a volume or as relative to some file; \
            the service then sees an \
            empty folder.",
    fix: "Write the absolute form.",
    example: "{ from = \"media\", to = \"/media\" }",
};

/// Judges one root.
pub fn find(site: &Site, case: &UsedPath) -> Vec<Finding> {
    if written_as_host_path::meant(site, case).is_some() {
        return Vec::new();
    }
    let (part, key) = case.part();
    let by_name = describe_fault(site, &case.root, "the root", (part, key), || case.finding(&RULE));
    // What `..` comes to by name may be nowhere; perhaps it was only one too many.
    let without = components(case.root.written.raw().as_bytes()).filter(|part| *part != b"..");
    let without = without.fold(AbsPath::root(), |path, part| path.child(part));
    let finding = by_name.map(|finding| {
        finding
            .or_else(vec![
                case.name_instead(site, &without),
                set_in_service(case.service, case.what()),
            ])
            .or_else("write it as an absolute path that a mapping covers")
    });
    finding.into_iter().collect()
}

/// Judges every mapping, used by a library or not.
pub fn find_in_site(site: &Site, _: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for service in &site.layout.services {
        for map in service.maps() {
            let from = match &map.source {
                MapSource::Folder(from) => Some((from, "the mapping's from", "from")),
                _ => None,
            };
            let written = from.into_iter().chain([(&map.to, "the mapping's to", "to")]);
            let finding = || RULE.finding(About::Service(service.name.clone()));
            let part = || Part::mapping(&service.name, &map.to.written);
            if let MapSource::Folder(from) = &map.source
                && let (true, Ok(path)) = (from.is_shortened(), &from.path)
            {
                let message = format!(
                    "the mapping's from {:?} has a \"..\" component: the engine makes {path} of it",
                    from.written
                );
                let steps = vec![site.layout.set_path(part(), "from", path)];
                let finding = finding().line(from.origin.line).weighs(Severity::Note);
                findings.push(finding.says(message).remedy(steps));
            }
            findings.extend(written.filter_map(|(written, what, key)| {
                describe_fault(site, written, what, (part(), key), finding)
            }));
        }
        for translation in &service.translate {
            let sides = [
                (&translation.from, "a translation's from", "from"),
                (&translation.to, "a translation's to", "to"),
            ];
            let finding = || RULE.finding(About::Service(service.name.clone()));
            let part = || Part::translation(&service.name, translation);
            findings.extend(sides.into_iter().filter_map(|(written, what, key)| {
                describe_fault(site, written, what, (part(), key), finding)
            }));
        }
    }
    findings
}

fn describe_fault(
    site: &Site,
    written: &Declared,
    what: &str,
    (part, key): (Part, &'static str),
    finding: impl Fn() -> Finding,
) -> Option<Finding> {
    let fault = written.path.as_ref().err()?;
    let form = AbsPath::by_text(written.written.raw().as_bytes());
    let line = written.origin.line;
    let step = site.layout.set_path(part, key, &form);
    let message = format!("{what} {:?} {fault}", written.written);
    let real = Step::words("change it in the service's own settings as well");
    Some(finding().line(line).says(message).remedy(vec![step, real]))
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, done, local, nothing};
    use crate::tests::{Scene, mapping};
    use crate::words::terms::Access;

    pub(crate) const PROMISE: Promise =
        Promise { scene: || local(|scene| done(scene.root("media/films"))), by_hand: nothing };

    #[test]
    fn roots_and_both_sides_of_mappings_have_one_meaning_only_if_absolute() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        for (root, told) in [
            (
                "media/films",
                "the root \"media/films\" is not absolute → in the layout line 7: change root \
                 media/films of lantern's library Films to /media/films; change it in the \
                 service's own settings as well",
            ),
            (
                "/media/../films",
                "the root \"/media/../films\" has a \"..\" component → in the layout line 7: \
                 change root /media/../films of lantern's library Films to /media/films; on \
                 granary: set it as the root in lantern as well",
            ),
        ] {
            assert_eq!(scene.root(root).messages_of(&RULE), told);
        }
        let mut scene = Scene::local();
        let books = mapping("srv/books", "books", Access::ReadOnly);
        scene.service("lantern").map.as_mut().unwrap().push(books);
        let told = "the mapping's from \"srv/books\" is not absolute → in the layout line 7: set \
                    from = \"/srv/books\" for lantern's mapping to books; change it in the \
                    service's own settings as well\nthe mapping's to \"books\" is not absolute → \
                    in the layout line 7: set to = \"/books\" for lantern's mapping to books; \
                    change it in the service's own settings as well";
        assert_eq!(scene.messages_of(&RULE), told);
    }
}
