//! The answer of `tarvek check --apply`.

use schemars::JsonSchema;
use serde::Serialize;
use tarvek_core::words::finding::Finding;

use super::check::Totals;
use super::common::{EditedLayout, StepDoc};
use crate::view::apply::Applied;

/// The answer of `tarvek check --apply`.
#[derive(Debug, Serialize, JsonSchema)]
#[schemars(title = "tarvek/apply/1")]
pub(crate) struct Apply {
    /// `tarvek/apply/1`.
    schema: &'static str,
    /// The edits of the layout as a unified diff; empty where there are none.
    diff: String,
    /// Whether the layout was written.
    written: bool,
    /// The findings whose edits they are.
    applied: Vec<AppliedDoc>,
    /// The findings whose remedies are not applied.
    left: Vec<LeftDoc>,
    /// The ids of the findings that are gone with the edits.
    cleared: Vec<String>,
    /// The ids of the findings that come with them.
    new: Vec<String>,
    /// How many findings of each severity there were.
    before: Totals,
    /// How many there are with the edits made.
    after: Totals,
}

#[derive(Debug, Serialize, JsonSchema)]
struct AppliedDoc {
    /// The id of the finding.
    finding: String,
    /// All steps of its remedy; those on hosts are still to be done.
    steps: Vec<StepDoc>,
    /// What they change for others, a sentence each.
    effects: Vec<String>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct LeftDoc {
    /// The id of the finding.
    finding: String,
    why: String,
}

impl Apply {
    /// `layout` is as it stood before.
    pub(crate) fn new(applied: &Applied, layout: &EditedLayout) -> Self {
        let steps = |finding: &Finding| {
            finding.remedy.steps.iter().map(|step| StepDoc::new(step, layout)).collect()
        };
        let ids = |findings: &[&Finding]| findings.iter().map(|f| f.id.clone()).collect();
        let chosen = applied.selection.chosen.iter();
        let left = applied.selection.left.iter();
        Self {
            schema: "tarvek/apply/1",
            diff: applied.diff.to_owned(),
            written: applied.written && !applied.selection.edits.is_empty(),
            applied: chosen
                .map(|f| AppliedDoc {
                    finding: f.id.clone(),
                    steps: steps(f),
                    effects: f.remedy.effects.clone(),
                })
                .collect(),
            left: left
                .map(|(f, why)| LeftDoc { finding: f.id.clone(), why: why.clone() })
                .collect(),
            cleared: ids(&applied.outcome.cleared),
            new: ids(&applied.outcome.new),
            before: applied.before.into(),
            after: applied.after.into(),
        }
    }
}
