//! The long text of rules.

use std::fmt::Write;

use tarvek_core::rules::registry::rules;
use tarvek_core::words::rule::Rule;

use super::Screen;
use super::style::{dim, severity, strong};
use super::wrap::wrap;

/// One rule, whole.
pub(crate) fn rule(rule: &Rule, screen: &Screen) -> String {
    let mut out = String::new();
    let _ = writeln!(out, "{}   {}", strong(rule.id), severity(rule.severity));
    let _ = writeln!(out, "{}", rule.title);
    for (label, text) in [
        ("What it means", rule.means),
        ("Why it hurts", rule.hurts),
        ("What to do", rule.fix),
        ("Example", rule.example),
    ] {
        let _ =
            writeln!(out, "\n{}\n  {}", strong(label), wrap(text, &[], screen.width() - 2, "  "));
    }
    out
}

/// All rules, a line each.
pub(crate) fn all() -> String {
    let mut out = String::new();
    let widest = rules().map(|rule| rule.id.len()).max().unwrap_or(0);
    for rule in rules() {
        let _ = writeln!(out, "{:widest$}  {:9}  {}", rule.id, severity(rule.severity), rule.title);
    }
    let _ = writeln!(out, "\n{}", dim("tarvek explain RULE tells more of one"));
    out
}
