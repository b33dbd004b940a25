//! `path/wrong-translation`.

use crate::layout::service::{Service, Translation};
use crate::route::end::End;
use crate::route::follow;
use crate::route::hops::{Route, View};
use crate::route::seen_as::seen_as;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::about::About;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::part::Part;
use crate::words::path::AbsPath;
use crate::words::remedy::{Remedy, Step};
use crate::words::rule::{Rule, Severity};

/// A translation that leads elsewhere.
pub static RULE: Rule = Rule {
    id: "path/wrong-translation",
    severity: Severity::Blocker,
    title: "A translation leads elsewhere",
    means: "A service takes a path that another one names for a path of its own, and the two are \
            not the same folder.",
    hurts: "It looks for what the other has made where it is not, and finds nothing, or something \
            else.",
    fix: "Translate to the path under which the service itself sees that folder, or map the folder \
          into both alike.",
    example: "drover sees the done folder as /data/done; joiner, which sees it as /downloads, \
              takes /data/done for /incoming.",
};

/// Judges every translation.
pub fn find(site: &Site, _: &[UsedPath]) -> Vec<Finding> {
    let of_service = |service| move |translation| (service, translation);
    let all = site.layout.services.iter().flat_map(|s| s.translate.iter().map(of_service(s)));
    all.filter_map(|(service, translation)| judge_translation(site, service, translation)).collect()
}

fn judge_translation(site: &Site, service: &Service, translation: &Translation) -> Option<Finding> {
    let Translation { service: other, from, to } = translation;
    let theirs = as_seen(site, other, from.path.as_ref().ok()?)?;
    let ours = as_seen(site, &service.name, to.path.as_ref().ok()?)?;
    let end = |route: &Route| route.entry().map(|(end, node)| (end.seen_on.clone(), node));
    let unseen = |route: &Route| matches!(route.end, End::Unseen { .. } | End::Volume { .. });
    let same = match (end(&theirs), end(&ours)) {
        (Some(theirs), Some(ours)) => theirs == ours,
        _ => theirs.here() == ours.here() && theirs.end == ours.end,
    };
    // A folder that is not there, or that nobody looked at, is a finding of its own.
    if same || theirs.end != End::Reached || unseen(&ours) {
        return None;
    }
    let place = theirs.here();
    let leads = match &ours.end {
        End::Reached => format!("leads to {}", ours.here()),
        end => format!("leads nowhere: {}", end.words()),
    };
    let message = format!(
        "by {} {other} means {place}, but {}, which {} takes it for, {leads}",
        theirs.asked, ours.asked, service.name
    );
    let finding = RULE.finding(About::Service(service.name.clone()));
    let finding = finding.line(to.origin.line).says(message);
    let own = View::Service(service.name.clone());
    let better = seen_as(site, &own, &site.subject_of(service).0, place);
    Some(finding.remedy(match better {
        Some(path) => {
            let real = format!("set it in {} as well", service.name);
            let part = Part::translation(&service.name, translation);
            let edit = site.layout.set_path(part, "to", &path);
            Remedy::of(vec![edit, Step::on(&service.host, real)])
        }
        None => Remedy::of(vec![Step::words(format!(
            "map {place} into {}, in the layout and in earnest, and translate it to where it lies \
             there",
            service.name
        ))]),
    }))
}

fn as_seen(site: &Site, service: &Name, path: &AbsPath) -> Option<Route> {
    let (subject, _) = site.subject_of(site.layout.service(service)?);
    Some(follow(site, &View::Service(service.clone()), path, &subject))
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::layout::service::Translation;
    use crate::rules::promise::{Promise, intake, nothing};
    use crate::tests::{Scene, declared, mapping};
    use crate::words::terms::Access;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            intake(|scene| {
                let (from, to) = (declared("/data/intake/done"), declared("/data/films"));
                let translation = Translation { service: "drover".into(), from, to };
                scene.service("joiner").translate.push(translation);
            })
        },
        by_hand: nothing,
    };

    #[test]
    fn both_sides_have_to_be_one_folder() {
        let mut scene = Scene::local().with_intake();
        let downloads = mapping("/loft/media/intake/done", "/downloads", Access::ReadWrite);
        scene.service("joiner").map.as_mut().unwrap().push(downloads);
        let mut told = |from: &str, to: &str| {
            let translation =
                Translation { service: "drover".into(), from: declared(from), to: declared(to) };
            scene.service("joiner").translate = vec![translation];
            scene.messages_of(&RULE)
        };
        assert_eq!(told("/data/intake/done", "/downloads"), "");
        assert_eq!(told("/data/intake/done", "/data/intake/done"), "");
        let remedy = " → in the layout line 7: set to = \"/downloads\" for joiner's translation of \
                      drover's /data/intake/done; on granary: set it in joiner as well";
        let means = "by /data/intake/done drover means granary:/loft/media/intake/done, but";
        let elsewhere =
            "/data/films, which joiner takes it for, leads to granary:/loft/media/films";
        assert_eq!(
            told("/data/intake/done", "/data/films"),
            format!("{means} {elsewhere}{remedy}")
        );
        let nowhere = "/incoming, which joiner takes it for, leads nowhere: no mapping covers it: \
                       it lies in the service's own storage";
        assert_eq!(told("/data/intake/done", "/incoming"), format!("{means} {nowhere}{remedy}"));
        // What is not there is told elsewhere.
        assert_eq!(told("/data/intake/gone", "/data/films"), "");
    }
}
