//! The JSON contract, a file per command: each document names its schema; unknown fields may be
//! added.

mod access;
mod adopt;
mod apply;
mod check;
mod common;
mod compare;
mod forecast;
mod link;
mod reclaim;
mod trace;
mod waste;

use serde::Serialize;
use tarvek_core::words::name::Name;
use tarvek_core::words::text::is_unseen;

pub(crate) use access::{Access, AccessAll, NewEntries};
pub(crate) use adopt::Adopt;
pub(crate) use apply::Apply;
pub(crate) use check::Check;
pub(crate) use common::{EditedLayout, exact, lossy};
pub(crate) use compare::Compare;
pub(crate) use forecast::Forecast;
pub(crate) use link::Link;
pub(crate) use reclaim::{Reclaim, ReclaimTotal};
pub(crate) use trace::{Trace, TraceTo};
pub(crate) use waste::Waste;

/// The answers that rest on surveys which may have been broken off.
macro_rules! tell_partial {
    ($($answer:ident),*) => {$(
        impl $answer {
            /// With the hosts of which that is so.
            pub(crate) fn with_partial<'a>(mut self, hosts: impl Iterator<Item = &'a Name>) -> Self {
                self.partial = hosts.map(|host| host.raw().to_owned()).collect();
                self
            }
        }
    )*};
}

tell_partial!(Access, AccessAll, NewEntries, Trace, TraceTo, Compare, Forecast, Link, Waste);

/// Renders a document, with a line feed at its end.
pub(crate) fn text<T: Serialize>(document: &T) -> String {
    let plain = serde_json::to_string_pretty(document).expect("a document has only plain keys");
    let mut text = String::with_capacity(plain.len() + 1);
    for c in plain.chars() {
        // JSON lets characters stand that move a terminal or hide; they only ever stand in strings,
        // and mean the same escaped.
        if is_unseen(c) && c != '\n' {
            let mut units = [0; 2];
            c.encode_utf16(&mut units).iter().for_each(|unit| text += &format!("\\u{unit:04x}"));
        } else {
            text.push(c);
        }
    }
    text.push('\n');
    text
}
