//! What names in a layout refer to.

use std::collections::{HashMap, HashSet};

use tarvek_core::rules::registry;
use tarvek_core::words::name::Name;
use tarvek_core::words::text::{nearest, shown};

use super::raw::{Raw, RawShare};
use crate::mistake::Mistakes;
use crate::structure::At;

/// Names that may be referred to.
#[derive(Default)]
pub(super) struct Known {
    /// In the order of the file, for messages.
    pub(super) all: Vec<String>,
    pub(super) set: HashSet<String>,
}

impl<'a> FromIterator<&'a str> for Known {
    fn from_iter<I: IntoIterator<Item = &'a str>>(names: I) -> Self {
        let all: Vec<String> = names.into_iter().map(str::to_owned).collect();
        Self { set: all.iter().cloned().collect(), all }
    }
}

/// What references may refer to.
pub(super) struct Names {
    pub(super) hosts: Known,
    pub(super) shares: Known,
    pub(super) services: Known,
    pub(super) rules: Known,
    /// The host that offers a share.
    pub(super) offered: HashMap<String, String>,
}

impl Names {
    pub(super) fn of(raw: &Raw) -> Self {
        let offered = |(name, share): (&At<String>, &RawShare)| {
            Some((name.value.clone(), share.host.as_ref()?.value.clone()))
        };
        Self {
            hosts: raw.host.names().collect(),
            shares: raw.share.names().collect(),
            services: raw.service.names().collect(),
            rules: registry::rules().map(|rule| rule.id).collect(),
            offered: raw.share.iter().filter_map(offered).collect(),
        }
    }
}

/// How many known names a message lists.
const MOST_KNOWN: usize = 20;

/// Checks a reference; the mistake names the nearest known name.
pub(super) fn refer(
    mistakes: &mut Mistakes,
    what: &str,
    name: &At<String>,
    known: &Known,
) -> Option<Name> {
    if known.set.contains(&name.value) {
        return Some(name.value.as_str().into());
    }
    let message = || format!("there is no {what} {:?}", shown(name.value.as_bytes()));
    mistakes.add_with(name.span.clone(), message, || {
        Some(match nearest(&name.value, known.all.iter().map(String::as_str)) {
            Some(near) => format!("did you mean {:?}?", shown(near.as_bytes())),
            None if known.all.is_empty() => {
                format!("declare it as [{what}.{}]", shown(name.value.as_bytes()))
            }
            None => {
                let some = known.all.iter().take(MOST_KNOWN);
                let some: Vec<String> = some.map(|name| shown(name.as_bytes())).collect();
                let more = if known.all.len() > MOST_KNOWN { ", …" } else { "" };
                format!("known: {}{more}", some.join(", "))
            }
        })
    });
    None
}
