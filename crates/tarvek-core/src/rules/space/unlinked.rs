//! `space/unlinked`.

use crate::rules::case::Case;
use crate::rules::space::of_kind;
use crate::site::join::Site;
use crate::waste::group::Waste;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};

/// A copy in the intake should be a link.
pub static RULE: Rule = Rule {
    id: "space/unlinked",
    severity: Severity::Note,
    title: "A copy in the intake should be a link",
    means: "A file of a library and one of an intake hold the same bytes on one filesystem, and are two files. It is known where a survey has their digests.",
    hurts: "Each takes its space twice for as long as the download stays.",
    fix: "Make one file of each pair: `tarvek waste --kind unlinked --review FILE`, then `tarvek reclaim`; and see why they are copied (`tarvek link`).",
    example: "/loft/media/intake/done/low.water.2003.mkv and /loft/media/films/Low Water (2003)/Low Water (2003).mkv hold the same.",
};

/// Judges each library and intake.
pub fn find(site: &Site, cases: &[Case]) -> Vec<Finding> {
    of_kind(site, cases, Waste::Unlinked, &RULE)
}
