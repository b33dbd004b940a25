//! Changes to the rules.

use crate::words::path::AbsPath;
use crate::words::rule::{RuleId, Severity};

/// Changes to the rules.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct RuleSettings {
    /// Another severity for a rule.
    pub severity: Vec<(RuleId, Severity)>,
    /// Findings not to report, each with a reason.
    pub silence: Vec<Silence>,
}

/// One silenced rule.
#[derive(Clone, Debug, PartialEq)]
pub struct Silence {
    pub rule: RuleId,
    /// Only below this path; everywhere if absent.
    pub below: Option<AbsPath>,
    /// The reason.
    pub why: String,
}
