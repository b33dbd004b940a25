//! `name/*`: names that break on somebody's television.

pub mod case_collision;
pub mod not_share_safe;
pub mod not_utf8;
pub mod too_long;
pub mod unicode_twins;
pub mod unseen_characters;

use crate::forecast::names_below::{Broken, Names};
use crate::forecast::titles::Several;
use crate::rules::case::Case;
use crate::site::join::Site;
use crate::words::about::About;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::path::AbsPath;
use crate::words::remedy::{Command, Step};
use crate::words::rule::RuleId;
use crate::words::text::{counted, shown};

/// One finding for all names of a sort below a root.
fn of_case(
    site: &Site,
    case: &Case,
    rule: RuleId,
    sort: fn(&Names) -> &Several<Broken>,
    remedy: &str,
) -> Vec<Finding> {
    if case.library().is_none() {
        return Vec::new();
    }
    let sort = sort(case.names(site));
    let Some(first) = sort.told.first() else { return Vec::new() };
    let told: Vec<String> =
        sort.told.iter().map(|name| format!("{} ({})", name.place.path, name.why)).collect();
    let message =
        format!("{} below {}: {}", counted(sort.count, "name"), case.root.written, told.join(", "));
    let list = Command::new("tarvek check --names")
        .operand(first.place.path.parent().unwrap_or_else(|| first.place.path.clone()));
    let step = Step::words(format!(
        "{remedy}; `{list}` on {} lists those of one folder",
        first.place.host
    ));
    let finding = case.finding(rule).at(&first.place).known(Evidence::Observed);
    vec![finding.says(message).remedy(step)]
}

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
