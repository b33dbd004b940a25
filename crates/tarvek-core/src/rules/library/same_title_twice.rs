//! `library/same-title-twice`.

use crate::forecast::titles::Detail;
use crate::site::join::Site;
use crate::used::used_path::{UsedPath, of_library, rows};
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};
use crate::words::text::{counted, shown};

/// One title in two folders.
pub static RULE: Rule = Rule {
    id: "library/same-title-twice",
    severity: Severity::Note,
    title: "One title in two folders",
    means: "One title stands in two folders of a library: names that differ in case or \
            punctuation, or a second copy.",
    hurts: "A server shows it twice, or one of the two only.",
    fix: "Put both into one folder.",
    example: "There are Low Water (2003) and low.water.2003.",
};

/// Judges each library, all its roots together.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let libraries = rows(cases).filter(|roots| roots[0].library().is_some());
    libraries.filter_map(|roots| of_roots(site, roots)).collect()
}

fn of_roots(site: &Site, roots: &[UsedPath]) -> Option<Finding> {
    let together;
    let forecast = match roots {
        [one] => one.forecast.as_ref()?,
        _ => {
            together = of_library(site, roots, Detail::Figures);
            &together
        }
    };
    let first = forecast.twice.told.first()?;
    let [one, other] = &first.folders;
    let message = format!(
        "{} in two folders, such as {}: {one} and {other}",
        match forecast.twice.count {
            1 => "1 title stands".to_owned(),
            count => format!("{} stand", counted(count, "title")),
        },
        shown(first.title.as_bytes())
    );
    let case = roots.first()?;
    let finding = case.finding(&RULE).known(Evidence::Observed);
    let finding = case.end().into_iter().fold(finding, Finding::at).says(message);
    Some(finding.remedy("put the files of each title into one folder"))
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, named, renamed};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || named("low.water.2003/a.mkv"),
        by_hand: |scene| renamed(scene, "low.water.2003", "Low Water (2003)/a.mkv"),
    };

    #[test]
    fn a_title_stands_once() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.tree("granary", "f 0644 0:0 /loft/media/films/low.water.2003.720p/a.mkv");
        let told = scene.messages_of(&RULE);
        assert!(told.starts_with("1 title stands in two folders, such as "), "{told}");
    }
}
