//! What the rules on names have in common: one finding for all names of a sort.

use crate::forecast::names_below::{Broken, Names};
use crate::forecast::titles::Several;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::remedy::{Command, Step};
use crate::words::rule::RuleId;
use crate::words::text::counted;

/// One finding for all names of a sort below a root.
pub(super) fn of_case(
    site: &Site,
    case: &UsedPath,
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
