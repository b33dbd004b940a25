//! Which edits of the layout, of those that findings advise, can be made together.

use std::collections::HashSet;

use crate::check::report::Report;
use crate::layout::site::Layout;
use crate::words::finding::Finding;
use crate::words::part::Part;
use crate::words::remedy::{Change, Edit};

/// Edits that can be made together.
#[derive(Debug, Default)]
pub struct Selection<'a> {
    /// The findings whose edits they are.
    pub chosen: Vec<&'a Finding>,
    /// Each once, in the order of the findings.
    pub edits: Vec<Edit>,
    /// Findings that are left, with the reason.
    pub left: Vec<(&'a Finding, String)>,
}

/// Chooses of findings, the first ones first, those whose edits no earlier one contradicts.
pub fn select_edits<'a>(
    layout: &Layout,
    findings: impl IntoIterator<Item = &'a Finding>,
) -> Selection<'a> {
    let mut selection = Selection::default();
    let mut trial = layout.clone();
    for finding in findings {
        let edits: Vec<&Edit> = finding.remedy.edits().collect();
        if edits.is_empty() {
            let why = "nothing of its remedy is an edit of the layout".to_owned();
            selection.left.push((finding, why));
            continue;
        }
        let new: Vec<&Edit> =
            edits.into_iter().filter(|edit| !selection.edits.contains(edit)).collect();
        let other = new.iter().find(|edit| selection.edits.iter().any(|made| clash(made, edit)));
        if let Some(edit) = other {
            let part = edit.part.phrase();
            let why = format!("another finding's edit changes {part} too: apply this one after it");
            selection.left.push((finding, why));
            continue;
        }
        let mut next = trial.clone();
        if new.iter().all(|edit| next.edit(edit).is_some()) {
            trial = next;
            selection.edits.extend(new.into_iter().cloned());
            selection.chosen.push(finding);
        } else {
            let why = "the edits of another finding leave no place for its own".to_owned();
            selection.left.push((finding, why));
        }
    }
    selection
}

/// Whether two edits can't both be made as they are meant.
fn clash(one: &Edit, other: &Edit) -> bool {
    let within = |inner: &Part, outer: &Part| {
        std::iter::successors(Some(inner.clone()), Part::enclosing).any(|part| part == *outer)
    };
    let goes = |edit: &Edit| edit.change == Change::Remove;
    // Two items of one list go well together.
    let adds = |edit: &Edit| matches!(edit.change, Change::Add(_));
    (one.part == other.part && one.key == other.key && !(adds(one) && adds(other)))
        || (goes(one) && one.key.is_empty() && within(&other.part, &one.part))
        || (goes(other) && other.key.is_empty() && within(&one.part, &other.part))
}

/// What a change of the layout cleared, and what it brought about.
#[derive(Debug)]
pub struct Outcome<'a> {
    pub cleared: Vec<&'a Finding>,
    pub new: Vec<&'a Finding>,
}

/// Compares two reports. That the layout says now what a host does not have yet is no news: it is
/// what is still to be done there.
pub fn compare_reports<'a>(before: &'a Report, after: &'a Report) -> Outcome<'a> {
    let ids =
        |report: &'a Report| report.findings.iter().map(|f| f.id.as_str()).collect::<HashSet<_>>();
    let (had, has) = (ids(before), ids(after));
    let missing = |report: &'a Report, known: &HashSet<&str>| {
        let all = report.findings.iter().filter(|finding| !known.contains(finding.id.as_str()));
        all.collect::<Vec<_>>()
    };
    let mut new = missing(after, &had);
    new.retain(|finding| {
        !matches!(finding.rule.id, "layout/not-applied" | "layout/differs-from-host")
    });
    Outcome { cleared: missing(before, &has), new }
}
