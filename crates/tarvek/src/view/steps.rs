//! The steps of a remedy, line by line.

use tarvek_core::words::name::Name;
use tarvek_core::words::remedy::{Remedy, Step};

use super::wrap::wrap;

/// The steps in their order, each with its place where that changes; `width` is what a line has, and `layout` the file that edits
/// are made in. A command stays in one line, so that it can be taken as it is.
pub(crate) fn lines(
    remedy: &Remedy,
    layout: &str,
    width: usize,
    whole: &[String],
    indent: &str,
) -> Vec<String> {
    let mut before: Option<&Name> = None;
    let mut lines = Vec::new();
    for step in &remedy.steps {
        let host = step.host().filter(|host| before != Some(*host));
        let place = match step {
            Step::Edit(edit) if edit.line > 0 => format!("in {layout} line {}: ", edit.line),
            Step::Edit(_) => format!("in {layout}: "),
            _ => host.map(|host| format!("on {host}: ")).unwrap_or_default(),
        };
        before = step.host();
        let text = format!("{place}{step}");
        lines.push(match step {
            Step::Run { .. } => text,
            _ => wrap(&text, whole, width, indent),
        });
    }
    lines
}
