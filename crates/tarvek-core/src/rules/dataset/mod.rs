//! `dataset/*`: the filesystems that hold the media.

pub mod access_times;
pub mod acl_lost_on_chmod;
pub mod case_insensitive_mix;
pub mod nearly_full;
pub mod record_size;

use crate::layout::host::{Dataset, Host};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::about::About;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::place::Place;
use crate::words::remedy::{Command, Step};
use crate::words::rule::RuleId;

/// A declared dataset in which libraries lie.
struct Used<'a> {
    site: &'a Site,
    host: &'a Host,
    dataset: &'a Dataset,
    /// The libraries that lie in it.
    users: Vec<&'a UsedPath<'a>>,
}

/// Every declared dataset in which a library lies, each once.
fn used<'a>(site: &'a Site, cases: &'a [UsedPath]) -> Vec<Used<'a>> {
    let mut all: Vec<Used> = Vec::new();
    for end in cases.iter().filter_map(UsedPath::end) {
        let Some(host) = site.layout.host(&end.host) else { continue };
        let holds = |dataset: &&Dataset| end.path.within(&dataset.at);
        let above = host.datasets.iter().filter(holds);
        let Some(dataset) = above.max_by_key(|dataset| dataset.at.components().count()) else {
            continue;
        };
        if all.iter().any(|used| used.host.name == host.name && used.dataset.at == dataset.at) {
            continue;
        }
        let lies_in = |place: &Place| place.host == host.name && place.path.within(&dataset.at);
        let users = cases.iter().filter(|case| case.end().is_some_and(lies_in)).collect();
        all.push(Used { site, host, dataset, users });
    }
    all
}

impl Used<'_> {
    /// What a property is, as seen or, failing that, as declared.
    fn property(&self, name: &str) -> Option<(Name, Evidence)> {
        let facts = self.site.facts(&self.host.name);
        let seen = facts.and_then(|facts| facts.told.property(&self.dataset.name, name));
        let declared = || Some((self.dataset.property(name)?.into(), Evidence::Declared));
        seen.map(|value| (value.clone(), Evidence::Observed)).or_else(declared)
    }

    fn finding(&self, rule: RuleId) -> Finding {
        let (host, dataset) = (self.host.name.clone(), self.dataset.name.clone());
        rule.finding(About::Dataset { host, dataset })
            .at(&Place::new(&self.host.name, &self.dataset.at))
            .line(self.dataset.origin.line)
            .affects(self.users.iter().map(|case| case.affected()))
    }

    /// The command that sets a property.
    fn set(&self, property: &str) -> Step {
        let command = Command::new("zfs set").arg(property).arg(self.dataset.name.raw());
        Step::run(&self.host.name, command)
    }
}
