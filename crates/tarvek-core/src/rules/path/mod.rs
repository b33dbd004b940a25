//! `path/*`: what lies at the places that mappings and libraries name.

pub mod case;
pub mod missing;
pub mod not_a_folder;
pub mod not_absolute;
pub mod shadowed;
pub mod uncovered;

use crate::route::end::{End, Missing};
use crate::route::hops::Route;
use crate::rules::case::Case;
use crate::words::file_name::FileName;
use crate::words::path::AbsPath;
use crate::words::remedy::Step;

/// The name that is missing on the way of a root. Where a mount is missing, what lies beneath is nobody's mistake.
fn missing_at<'a>(case: &'a Case) -> Option<(&'a Route, &'a Missing)> {
    let route = case.route.as_ref().filter(|route| route.not_mounted.is_empty())?;
    match &route.end {
        End::Missing(missing) => Some((route, missing)),
        _ => None,
    }
}

/// The root as it should have been written: the last component of that name before the break is replaced.
fn respelled(
    case: &Case,
    route: &Route,
    wrong: &FileName,
    right: &FileName,
    before: &str,
    after: &str,
) -> Step {
    let reached = route.levels.first().map_or(0, |(_, path)| path.components().count());
    let parts: Vec<&[u8]> = route.asked.components().collect();
    let name = |part: &[u8]| part == wrong.as_bytes();
    // A name inside a mapping's source does not occur in the root; then the mapping is what to change.
    let Some(at) = parts.iter().take(reached.max(1)).rposition(|part| name(part)) else {
        let place = route.levels.last().map(|(_, path)| path.clone()).unwrap_or_else(AbsPath::root);
        let exact = place.parent().unwrap_or_else(AbsPath::root).child(right.as_bytes());
        return Step::words(format!("{before}write {exact} in the mapping or mount{after}"));
    };
    let path = parts.iter().enumerate().fold(AbsPath::root(), |path, (n, part)| {
        path.child(if n == at { right.as_bytes() } else { part })
    });
    let words = format!("{before}write the {} as {path}{after}", case.what());
    Step::rewritten(case.root.origin.line, &case.root.written, &path, words)
}
