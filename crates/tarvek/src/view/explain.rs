//! The long text of rules.

use std::fmt::Write;

use tarvek_core::rules::registry::rules;
use tarvek_core::rules::space::leftovers;
use tarvek_core::waste::pattern;
use tarvek_core::words::rule::Rule;

use super::screen::Screen;
use super::style::{dim, severity, strong};
use super::wrap::wrap;

/// One rule, whole.
pub(crate) fn rule(rule: &Rule, screen: &Screen) -> String {
    let mut out = String::new();
    let _ = writeln!(out, "{}   {}", strong(rule.id), severity(rule.severity));
    let _ = writeln!(out, "{}", wrap(rule.title, &[], screen.width(), ""));
    for (label, text) in [
        ("What it means", rule.means),
        ("Why it hurts", rule.hurts),
        ("What to do", rule.fix),
        ("Example", rule.example),
    ] {
        let _ =
            writeln!(out, "\n{}\n  {}", strong(label), wrap(text, &[], screen.width() - 2, "  "));
    }
    if rule == &leftovers::RULE {
        let _ = writeln!(out, "\n{}", strong("Patterns"));
        for (sort, patterns) in pattern::table() {
            let text = format!("{}: {patterns}", sort.word());
            let whole: Vec<String> = patterns.split("  ").map(str::to_owned).collect();
            let _ = writeln!(out, "  {}", wrap(&text, &whole, screen.width() - 2, "      "));
        }
    }
    out
}

/// All rules, a line each.
pub(crate) fn all(screen: &Screen) -> String {
    let mut out = String::new();
    let widest = rules().map(|rule| rule.id.len()).max().unwrap_or(0);
    let used = widest + 2 + 9 + 2;
    for rule in rules() {
        let (id, severity) = (rule.id, severity(rule.severity));
        // Where there is no room beside them, titles go below.
        let _ = match screen.width().checked_sub(used).filter(|room| *room >= 20) {
            Some(room) => {
                let title = wrap(rule.title, &[], room, &" ".repeat(used));
                writeln!(out, "{id:widest$}  {severity:9}  {title}")
            }
            None => {
                let title = wrap(rule.title, &[], screen.width() - 4, "    ");
                writeln!(out, "{id}  {severity}\n    {title}")
            }
        };
    }
    let _ = writeln!(out, "\n{}", dim("tarvek explain RULE tells more of one"));
    out
}
