//! The filing step of an intake that is to cost no copy: what most of these rules judge.

use crate::layout::intake::Want;
use crate::link::intake::{Does, Stage, Step, Way, Ways, ways};
use crate::link::verdict::{Reason, Verdict};
use crate::site::join::Site;
use crate::words::about::{About, Affected};
use crate::words::finding::Finding;
use crate::words::rule::RuleId;

/// The filing step of one intake.
pub(crate) struct Filing<'a> {
    pub(crate) ways: Ways<'a>,
    pub(crate) step: Step,
}

/// Of every intake that is to link or move, the filing step.
pub(crate) fn filings(site: &Site) -> impl Iterator<Item = Filing<'_>> {
    let to_link = ways(site).filter(|ways| ways.intake.want != Want::Copy);
    to_link.filter_map(|ways| filing_of(site, ways))
}

/// The filing step of one.
pub(crate) fn filing_of<'a>(site: &'a Site, ways: Ways<'a>) -> Option<Filing<'a>> {
    let step = ways.steps(site).into_iter().find(|step| step.stage == Stage::File)?;
    Some(Filing { ways, step })
}

impl<'a> Filing<'a> {
    /// The verdict on what is wanted.
    pub(crate) fn verdict(&self) -> &Verdict {
        match self.ways.intake.want {
            Want::Rename => &self.step.rename,
            _ => &self.step.link,
        }
    }

    /// Whether what is wanted is refused for one reason.
    pub(crate) fn is_refused_for(&self, reason: Reason) -> bool {
        self.verdict().possible == Some(false) && self.verdict().reason == reason
    }

    /// The way from which files are filed, and the one into the library.
    pub(crate) fn ends(&self) -> (&Way<'a>, &Way<'a>) {
        let both = self.ways.reads.as_ref().zip(self.ways.files_into.as_ref());
        both.expect("the step has both ends")
    }

    /// What the step does, in a sentence: `joiner can't link /downloads/done into /media/films`.
    pub(crate) fn cant(&self) -> String {
        let verb = match self.ways.intake.want {
            Want::Rename => "move files from",
            _ => "link files of",
        };
        format!("{} can't {verb} {} into {}", self.step.service, self.step.from, self.step.to)
    }

    /// What it costs instead.
    pub(crate) fn costs(&self) -> &'static str {
        match self.step.does {
            Does::Moves => "moving them still costs no copy",
            Does::Copies => "each download is copied and takes its space twice",
            _ => "nothing can be filed",
        }
    }

    /// A finding about it, at the library folder.
    pub(crate) fn finding(&self, rule: RuleId) -> Finding {
        let (service, intake) = (self.step.service.clone(), self.ways.intake.name.clone());
        let (_, into) = self.ends();
        let message = format!("{}: {}; {}", self.cant(), self.verdict().detail, self.costs());
        rule.finding(About::Intake { service, intake })
            .at(into.route.here())
            .line(self.ways.intake.origin.line)
            .known(self.verdict().evidence)
            .affects([Affected::Intake(self.ways.intake.name.clone())])
            .says(message)
    }
}
