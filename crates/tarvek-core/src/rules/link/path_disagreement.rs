//! `link/path-disagreement`.

use crate::layout::service::Service;
use crate::link::intake::{Ways, ways};
use crate::route::end::End;
use crate::route::seen_as::seen_as;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::about::{About, Affected};
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::part::Part;
use crate::words::path::AbsPath;
use crate::words::remedy::{Remedy, Step};
use crate::words::rule::{Rule, Severity};
use crate::words::value::Value;

/// One folder under two names, and nobody who translates.
pub static RULE: Rule = Rule {
    id: "link/path-disagreement",
    severity: Severity::Blocker,
    title: "Two services know one folder under different paths",
    means: "The fetching service tells the sorting one where a download lies by its own path. \
            Where the sorting one sees that folder under \
            another path, or not at all, and translates nothing, it looks in the wrong place.",
    hurts: "Finished downloads are never filed: the sorting service says that the path does not \
            exist.",
    fix: "Map the folder into both under one path, or declare the translation in the layout and in \
          the sorting service.",
    example: "drover says /downloads/x, and joiner, to which the same folder is /data/intake/x, \
              has never heard of it.",
};

/// Judges every intake.
pub fn find(site: &Site, _: &[UsedPath]) -> Vec<Finding> {
    ways(site).filter_map(|ways| judge_ways(site, &ways)).collect()
}

fn judge_ways(site: &Site, ways: &Ways) -> Option<Finding> {
    let (done, reads) = (ways.done.as_ref()?, ways.reads.as_ref()?);
    let (fetcher, sorter) = (done.service, reads.service);
    // Where the way of either ends nowhere, that is the finding.
    if fetcher.name == sorter.name
        || done.route.end != End::Reached
        || reads.route.end != End::Reached
    {
        return None;
    }
    let view = &reads.route.view;
    let place = done.route.here();
    let named = &done.route.asked;
    let seen = seen_as(site, view, &reads.route.subject, place);
    let expected = translated(site, ways, named)?;
    if seen.as_ref() == Some(&expected) {
        return None;
    }
    let (service, intake) = (sorter.name.clone(), ways.intake.name.clone());
    let finding = RULE
        .finding(About::Intake { service, intake: intake.clone() })
        .at(place)
        .line(ways.intake.origin.line)
        .known(done.route.evidence().min(reads.route.evidence()))
        .affects([Affected::Intake(intake)]);
    let (fetcher, sorter, host) = (&fetcher.name, &sorter.name, &sorter.host);
    Some(match seen {
        Some(path) => {
            let message = format!(
                "{place} is {named} to {fetcher} and {path} to {sorter}, and nothing translates: \
                 {sorter} looks for what {fetcher} names in \
                 {expected}"
            );
            finding.says(message).remedy(Remedy::of(vec![
                translate(site, reads.service, fetcher, named, &path),
                Step::on(host, format!("have {sorter} take {named} of {fetcher} for {path}")),
            ]))
        }
        None => finding
            .says(format!(
                "{fetcher} puts finished files in {named}, which is {place}, and \
                           {sorter} does not see that folder at all"
            ))
            .remedy(Remedy::of(vec![Step::words(format!(
                "map {place} into {sorter} as {named}, in the layout and in its container"
            ))])),
    })
}

/// The step that translates a path which another service names.
fn translate(
    site: &Site,
    sorter: &Service,
    fetcher: &Name,
    named: &AbsPath,
    path: &AbsPath,
) -> Step {
    let known = sorter
        .translate
        .iter()
        .find(|known| known.service == *fetcher && known.from.path.as_ref() == Ok(named));
    if let Some(known) = known {
        return site.layout.set_path(Part::translation(&sorter.name, known), "to", path);
    }
    match (Value::path(named), Value::path(path)) {
        (Some(from), Some(to)) => {
            let table = Value::table([("service", fetcher.into()), ("from", from), ("to", to)]);
            site.layout.add(Part::Service(sorter.name.clone()), "translate", table)
        }
        _ => Step::words(format!("in the layout, translate {named} of {fetcher} to {path}")),
    }
}

/// What the sorting service makes of a path that the fetching one names; `None` if what it declares
/// is no path.
fn translated(site: &Site, ways: &Ways, named: &AbsPath) -> Option<AbsPath> {
    let (fetcher, sorter) = (ways.done.as_ref()?.service, ways.reads.as_ref()?.service);
    let own = site.layout.service(&sorter.name)?.translate.iter();
    let own = own.filter(|translation| translation.service == fetcher.name);
    let fits = own.filter_map(|translation| {
        let from = translation.from.path.as_ref().ok()?;
        Some((from.as_bytes().len(), named.below(from)?.to_vec(), &translation.to.path))
    });
    match fits.max_by_key(|(length, ..)| *length) {
        None => Some(named.clone()),
        Some((_, rest, to)) => Some(to.as_ref().ok()?.join(&rest)),
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::layout::intake::InView;
    use crate::layout::service::Translation;
    use crate::rules::promise::{Promise, intake};
    use crate::tests::{Scene, abs, declared, mapping};
    use crate::words::terms::Access;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            intake(|scene| {
                scene.service("drover").map =
                    Some(vec![mapping("/loft/media/intake", "/downloads", Access::ReadWrite)]);
                let fetch = scene.layout.intakes[0].fetch.as_mut().unwrap();
                fetch.partial = None;
                fetch.done.path = abs("/downloads/done");
            })
        },
        by_hand: |scene| {
            let (from, to) = (declared("/downloads/done"), declared("/data/intake/done"));
            let translation = Translation { service: "drover".into(), from, to };
            scene.service("joiner").translate.push(translation);
        },
    };

    #[test]
    fn a_folder_of_two_names_needs_a_translation() {
        let mut scene = Scene::local().with_intake();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.service("drover").map =
            Some(vec![mapping("/loft/media/intake", "/downloads", Access::ReadWrite)]);
        let fetch = scene.layout.intakes[0].fetch.as_mut().unwrap();
        fetch.partial = None;
        fetch.done = InView::of(abs("/downloads/done"));
        let told = "granary:/loft/media/intake/done is /downloads/done to drover and \
                    /data/intake/done to joiner, and nothing translates: joiner looks for what \
                    drover names in /downloads/done → in the layout line 5: add { service \
                    = \"drover\", from = \"/downloads/done\", to = \"/data/intake/done\" } to \
                    translate of service joiner; on granary: have joiner take /downloads/done of \
                    drover for /data/intake/done";
        assert_eq!(scene.messages_of(&RULE), told);
        let (from, to) = (declared("/downloads"), declared("/data/intake"));
        scene.service("joiner").translate.push(Translation { service: "drover".into(), from, to });
        assert_eq!(scene.messages_of(&RULE), "");
    }

    #[test]
    fn a_folder_that_only_one_of_them_sees_is_not_agreed_upon() {
        let mut scene = Scene::local().with_intake();
        scene.tree("granary", "d 2770 841:2100 /loft/other/done");
        scene.service("drover").map =
            Some(vec![mapping("/loft/other", "/data/intake", Access::ReadWrite)]);
        let fetch = scene.layout.intakes[0].fetch.as_mut().unwrap();
        fetch.partial = None;
        let told = "drover puts finished files in /data/intake/done, which is \
                    granary:/loft/other/done, and joiner does not see that folder at all";
        assert!(scene.messages_of(&RULE).starts_with(told), "{}", scene.messages_of(&RULE));
    }
}
