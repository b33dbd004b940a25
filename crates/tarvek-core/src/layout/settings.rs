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

/// What counts as waste.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct WasteSettings {
    /// Further patterns of names that are left over, in the layout's words: of folders if they end
    /// with a slash.
    pub leftovers: Vec<String>,
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
