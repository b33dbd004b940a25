//! The JSON contract, a file per command: each document names its schema; unknown fields may be added.

mod access;
mod check;
mod common;
mod compare;
mod trace;

use serde::Serialize;

pub(crate) use access::{Access, AccessAll, NewEntries};
pub(crate) use check::Check;
pub(crate) use compare::Compare;
pub(crate) use trace::Trace;

/// Renders a document, with a line feed at its end.
pub(crate) fn text<T: Serialize>(document: &T) -> String {
    let mut text = serde_json::to_string_pretty(document).expect("a document has only plain keys");
    text.push('\n');
    text
}
