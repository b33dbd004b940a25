//! A finding for each name by itself, below a folder that somebody names.

use crate::forecast::names_below::{Broken, Names};
use crate::forecast::titles::Several;
use crate::rules::name::{
    case_collision, not_share_safe, not_utf8, too_long, unicode_twins, unseen_characters,
};
use crate::words::about::About;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::path::AbsPath;
use crate::words::rule::RuleId;
use crate::words::text::shown;

/// A finding for each name of every sort below a folder.
pub fn each(names: &Names) -> Vec<Finding> {
    let sorts: [(RuleId, &Several<Broken>, &str); 6] = [
        (&case_collision::RULE, &names.case_collision, case_collision::REMEDY),
        (&unicode_twins::RULE, &names.unicode_twins, unicode_twins::REMEDY),
        (&not_share_safe::RULE, &names.not_share_safe, not_share_safe::REMEDY),
        (&too_long::RULE, &names.too_long, too_long::REMEDY),
        (&not_utf8::RULE, &names.not_utf8, not_utf8::REMEDY),
        (&unseen_characters::RULE, &names.unseen_characters, unseen_characters::REMEDY),
    ];
    // What is another's name as well needs a person's decision.
    let renames: [RuleId; 3] = [&not_share_safe::RULE, &not_utf8::RULE, &unseen_characters::RULE];
    let of_sort = |(rule, sort, remedy): &(RuleId, &Several<Broken>, &str)| -> Vec<Finding> {
        let finding = |name: &Broken| {
            let about = About::Host(name.place.host.clone());
            let finding = rule.finding(about).at(&name.place).known(Evidence::Observed);
            let finding = finding.says(format!("{}: {}", name.place.path, name.why));
            let safe =
                name.safe.as_ref().and_then(AbsPath::name).filter(|_| renames.contains(rule));
            finding.remedy(match safe {
                Some(safe) => format!("rename it, such as to {}", shown(safe)),
                None => (*remedy).to_owned(),
            })
        };
        sort.told.iter().map(finding).collect()
    };
    sorts.iter().flat_map(of_sort).collect()
}
