//! The steps of a remedy, line by line.

use tarvek_core::words::remedy::{Remedy, Step};

use super::wrap::wrap;

/// The steps in their order, each with its place where that changes; `width` is what a line has,
/// and `layout` the file that edits are made in. A command stays in one line, so that it can be
/// taken as it is.
pub(crate) fn lines(
    remedy: &Remedy,
    layout: &str,
    width: usize,
    whole: &[String],
    indent: &str,
) -> Vec<String> {
    let mut before = String::new();
    let mut lines = Vec::new();
    for step in &remedy.steps {
        let place = step.place(layout);
        let text = if place == before { step.to_string() } else { format!("{place}{step}") };
        before = place;
        lines.push(match step {
            Step::Run { .. } => text,
            _ => wrap(&text, whole, width, indent),
        });
    }
    lines
}
