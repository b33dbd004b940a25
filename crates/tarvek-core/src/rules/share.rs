//! `share/*`: what a host offers.

use super::{Rule, Severity};
use crate::check::{Case, Finding, Where};
use crate::route::{End, Evidence};
use crate::site::Site;

/// A dataset that clients see as an empty folder.
pub static CHILD_DATASET_HIDDEN: Rule = Rule {
    id: "share/child-dataset-hidden",
    severity: Severity::Blocker,
    title: "A child dataset is hidden from NFS clients",
    means: "A dataset is mounted below an exported folder, and it is neither exported itself nor included by crossmnt. The \
            server shows clients the empty folder on which it is mounted.",
    hurts: "On the storage host everything is in place; every client finds an empty folder.",
    fix: "Export the child dataset too, and mount it if the clients use NFSv3; or set crossmnt on the parent's export.",
    example: "silo/media is exported, silo/media/photos is a dataset of its own: the photo library is empty.",
};

/// Judges one root.
pub(super) fn judge(_: &Site, case: &Case, findings: &mut Vec<Finding>) {
    let Some(route) = &case.route else { return };
    let End::HiddenChild { host, point, share } = &route.end else { return };
    findings.push(Finding {
        rule: &CHILD_DATASET_HIDDEN,
        severity: CHILD_DATASET_HIDDEN.severity,
        evidence: Evidence::Declared,
        subject: case.subject_text(),
        message: format!(
            "{} leads into the dataset at {point}, which the share {share} does not include",
            route.asked
        ),
        place: Where {
            host: Some(host.clone()),
            path: Some(point.clone()),
            line: Some(case.root.origin.line),
        },
        remedy: format!(
            "on {host}: export {point} as well, or add crossmnt to the export of {share}"
        ),
        affects: vec![case.affected()],
        effects: Vec::new(),
        because: None,
    });
}
