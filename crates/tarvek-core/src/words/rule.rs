//! A rule, as it is documented. What makes it fire stands in `rules/`.

use std::fmt;

use super::word::words;

words! {
    /// How much a finding matters.
    #[derive(PartialOrd, Ord)]
    pub enum Severity {
        /// Worth knowing.
        Note = "note",
        /// Something will go wrong some day.
        Risk = "risk",
        /// The scan, import or mount will fail, or data is at stake.
        Blocker = "blocker",
    }
}

/// A rule, as it is documented.
#[derive(Debug)]
pub struct Rule {
    /// `family/name`.
    pub id: &'static str,
    /// Unless a layout changes it.
    pub severity: Severity,
    /// In one line.
    pub title: &'static str,
    /// What a finding of this rule means.
    pub means: &'static str,
    /// Why it hurts.
    pub hurts: &'static str,
    /// How to clear it.
    pub fix: &'static str,
    /// One example, as an administrator would meet it.
    pub example: &'static str,
}

/// A rule by its definition.
pub type RuleId = &'static Rule;

impl PartialEq for Rule {
    fn eq(&self, other: &Self) -> bool {
        self.id == other.id
    }
}

impl fmt::Display for Rule {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.id)
    }
}
