//! One thing that is wrong or worth knowing.

use std::collections::{HashMap, HashSet};

use crate::words::about::{About, Affected};
use crate::words::evidence::Evidence;
use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::place::Place;
use crate::words::remedy::Remedy;
use crate::words::rule::{Rule, RuleId, Severity};
use crate::words::spot::Spot;

/// Where a finding is.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Where {
    pub host: Option<Name>,
    /// The path on that host.
    pub path: Option<AbsPath>,
    /// The line of the layout.
    pub line: Option<u32>,
    /// The configuration that the line was adopted from, or that the finding is about by itself.
    pub origin: Option<Spot>,
}

/// One thing that is wrong or worth knowing.
#[derive(Clone, Debug, PartialEq)]
pub struct Finding {
    /// Stable over wording and lines; given once all findings are known.
    pub id: String,
    pub rule: RuleId,
    /// How much it matters here.
    pub severity: Severity,
    pub evidence: Evidence,
    pub about: About,
    /// What is wrong and why, in one sentence.
    pub message: String,
    pub place: Where,
    /// What clears it.
    pub remedy: Remedy,
    /// What to say instead, in this order, where that would not clear it, or would bring something
    /// else about.
    pub or_else: Vec<Remedy>,
    /// What can't do its job because of it.
    pub affects: Vec<Affected>,
    /// The rule whose finding brings this one about; clearing that clears this.
    pub because: Option<RuleId>,
}

impl Rule {
    /// A finding of this rule, to be filled in:
    /// `MISSING.finding(about).at(place).says(…).remedy(…)`.
    pub fn finding(&'static self, about: About) -> Finding {
        Finding {
            id: String::new(),
            rule: self,
            severity: self.severity,
            evidence: Evidence::Declared,
            about,
            message: String::new(),
            place: Where::default(),
            remedy: Remedy::default(),
            or_else: Vec::new(),
            affects: Vec::new(),
            because: None,
        }
    }
}

impl Finding {
    /// Where it is.
    pub fn at(mut self, place: &Place) -> Self {
        self.place.host = Some(place.host.clone());
        self.place.path = Some(place.path.clone());
        self
    }

    /// On which host it is, where no path says more.
    pub fn on(mut self, host: &Name) -> Self {
        self.place.host = Some(host.clone());
        self
    }

    /// Which line of the layout it is about.
    pub fn line(mut self, line: u32) -> Self {
        self.place.line = Some(line);
        self
    }

    /// Which line of the host's own configuration it is about.
    pub fn written(mut self, spot: &Spot) -> Self {
        self.place.origin = Some(spot.clone());
        self
    }

    /// How it is known, if not only by the layout.
    pub fn known(mut self, evidence: Evidence) -> Self {
        self.evidence = evidence;
        self
    }

    /// How much it matters, if not as much as the rule says.
    pub fn weighs(mut self, severity: Severity) -> Self {
        self.severity = severity;
        self
    }

    /// What is wrong and why.
    pub fn says(mut self, message: impl Into<String>) -> Self {
        self.message = message.into();
        self
    }

    /// What clears it.
    pub fn remedy(mut self, remedy: impl Into<Remedy>) -> Self {
        self.remedy = remedy.into();
        self
    }

    /// What to say instead where the remedy before would not hold.
    pub fn or_else(mut self, remedy: impl Into<Remedy>) -> Self {
        self.or_else.push(remedy.into());
        self
    }

    /// What it stands in the way of.
    pub fn affects(mut self, affected: impl IntoIterator<Item = Affected>) -> Self {
        let mut known: HashSet<Affected> = self.affects.iter().cloned().collect();
        self.affects.extend(affected.into_iter().filter(|affected| known.insert(affected.clone())));
        self
    }

    /// The rule whose finding brings it about.
    pub fn because(mut self, rule: Option<RuleId>) -> Self {
        self.because = rule;
        self
    }
}

/// Gives every finding its id: made of its rule, its subject and its place. Of several alike the
/// later ones are numbered.
pub fn identify(findings: &mut [Finding]) {
    let mut known: HashMap<String, usize> = HashMap::new();
    for finding in findings {
        let place = &finding.place;
        let host = place.host.as_ref().map_or("", |host| host.raw());
        let mut hash = blake3::Hasher::new();
        for part in [finding.about.to_string().as_bytes(), host.as_bytes()] {
            hash.update(part).update(&[0]);
        }
        hash.update(place.path.as_ref().map_or(b"", |path| path.as_bytes()));
        let id = format!("{}-{}", finding.rule.id, &hash.finalize().to_hex()[..10]);
        let count = known.entry(id.clone()).or_default();
        *count += 1;
        finding.id = if *count == 1 { id } else { format!("{id}-{count}") };
    }
}
