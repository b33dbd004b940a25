//! `link/category-mismatch`.

use crate::link::intake::{Ways, ways};
use crate::remedy::apply_on_host::set_in_service;
use crate::route::end::End;
use crate::route::seen_as::seen_as;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::about::{About, Affected};
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::part::{Part, Side};
use crate::words::remedy::{Remedy, Step};
use crate::words::rule::{Rule, Severity};

/// Two categories, or two folders of one.
pub static RULE: Rule = Rule {
    id: "link/category-mismatch",
    severity: Severity::Blocker,
    title: "Fetcher and sorter do not mean the same category",
    means: "The sorting service asks for a category by name, and reads the folder of that \
            category. Both have to agree exactly, letter case \
            included.",
    hurts: "Finished downloads lie in a folder that nobody reads.",
    fix: "Write the same name, and the same folder, in both.",
    example: "drover files under Films, and joiner asks for films.",
};

/// Judges every intake.
pub fn find(site: &Site, _: &[UsedPath]) -> Vec<Finding> {
    ways(site).flat_map(|ways| [names(site, &ways), folders(site, &ways)]).flatten().collect()
}

fn finding(ways: &Ways) -> Option<Finding> {
    let sort = ways.intake.sort.as_ref()?;
    let (service, intake) = (sort.service.clone(), ways.intake.name.clone());
    let finding = RULE.finding(About::Intake { service, intake: intake.clone() });
    Some(finding.line(ways.intake.origin.line).affects([Affected::Intake(intake)]))
}

/// The names of the category.
fn names(site: &Site, ways: &Ways) -> Option<Finding> {
    let (fetch, sort) = (ways.intake.fetch.as_ref()?, ways.intake.sort.as_ref()?);
    let (theirs, ours) = (fetch.category.as_ref()?, sort.category.as_ref()?);
    if theirs == ours {
        return None;
    }
    let (theirs, ours) = (Name::from(theirs.as_str()), Name::from(ours.as_str()));
    let case = theirs.raw().to_lowercase() == ours.raw().to_lowercase();
    let how = if case { ": they differ in letter case" } else { "" };
    let message = format!(
        "{} files downloads under the category {theirs}, and {} asks for {ours}{how}",
        fetch.service, sort.service
    );
    let intake = &ways.intake.name;
    let host = &site.layout.service(&sort.service)?.host;
    Some(finding(ways)?.says(message).remedy(Remedy::of(vec![
        site.layout.set(sort_of(intake), "category", &theirs),
        Step::on(
            host,
            format!(
                "set the category {theirs} in {} as well, as it is in {}",
                sort.service, fetch.service
            ),
        ),
    ])))
}

/// The folders of the category: what is read is where finished files are put, or a folder above.
fn folders(site: &Site, ways: &Ways) -> Option<Finding> {
    let (done, reads) = (ways.done.as_ref()?, ways.reads.as_ref()?);
    let (theirs, ours) = (&done.route, &reads.route);
    if theirs.end != End::Reached || ours.end != End::Reached {
        return None;
    }
    let (put, read) = (theirs.here(), ours.here());
    let same = match (theirs.entry(), ours.entry()) {
        (Some((a, one)), Some((b, other))) => (&a.seen_on, one) == (&b.seen_on, other),
        _ => false,
    };
    if same || put.host == read.host && put.path.within(&read.path) {
        return None;
    }
    let message = format!(
        "{} puts finished files in {put}, and {} reads {read}",
        done.service.name, reads.service.name
    );
    let evidence = theirs.evidence().min(ours.evidence());
    let seen = seen_as(site, &ours.view, &ours.subject, put);
    let edit = match seen {
        Some(path) => site.layout.set_path(sort_of(&ways.intake.name), "reads", &path),
        None => Step::words(format!(
            "in the layout, name one folder as done of {} and as reads of {} in intake {}",
            done.service.name, reads.service.name, ways.intake.name
        )),
    };
    let steps = vec![edit, set_in_service(reads.service, "folder that is read")];
    Some(finding(ways)?.at(read).known(evidence).says(message).remedy(steps))
}

fn sort_of(intake: &Name) -> Part {
    Part::IntakeSide { intake: intake.clone(), side: Side::Sort }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::layout::intake::InView;
    use crate::rules::promise::{Promise, intake};
    use crate::tests::{Scene, abs};

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            intake(|scene| {
                let way = &mut scene.layout.intakes[0];
                way.fetch.as_mut().unwrap().category = Some("Films".to_owned());
                way.sort.as_mut().unwrap().category = Some("films".to_owned());
            })
        },
        by_hand: |scene| {
            let sort = scene.layout.intakes[0].sort.as_mut().unwrap();
            sort.category = Some("Films".to_owned());
        },
    };

    #[test]
    fn both_mean_the_same_category_and_the_same_folder() {
        let mut scene = Scene::local().with_intake();
        let mut named = |theirs: &str, ours: &str| {
            let intake = &mut scene.layout.intakes[0];
            intake.fetch.as_mut().unwrap().category = Some(theirs.to_owned());
            intake.sort.as_mut().unwrap().category = Some(ours.to_owned());
            scene.messages_of(&RULE)
        };
        assert_eq!(named("films", "films"), "");
        let told = "drover files downloads under the category Films, and joiner asks for films: \
                    they differ in letter case → in the layout line 9: set category = \"Films\" \
                    for sort of intake films; on granary: set the category Films in joiner as \
                    well, as it is in drover";
        assert_eq!(named("Films", "films"), told);
        assert!(named("films", "series").starts_with(
            "drover files downloads under the category films, and joiner asks for series → "
        ));
        named("films", "films");
        scene.tree("granary", "d 2770 841:2100 /loft/media/intake/Done");
        let reads = |scene: &mut Scene, path: &str| {
            scene.layout.intakes[0].sort.as_mut().unwrap().reads = InView::of(abs(path));
            scene.messages_of(&RULE)
        };
        assert_eq!(reads(&mut scene, "/data/intake"), "", "it reads what lies above");
        let told = "drover puts finished files in granary:/loft/media/intake/done, and joiner \
                    reads granary:/loft/media/intake/Done → ";
        let came = reads(&mut scene, "/data/intake/Done");
        assert!(came.starts_with(told), "{came}");
    }
}
