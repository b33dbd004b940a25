//! Surveys of which only that is read which a question needs.
//!
//! The core says which folders it was asked for and had not got; they are read, and it is asked
//! again, until it has all that it asks for. What it says before that is never shown.

use std::path::{Path, PathBuf};

use tarvek_core::facts::host::HostFacts;
use tarvek_core::facts::tree::Lookup;
use tarvek_core::site::join::Site;
use tarvek_core::words::name::Name;
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::place::Place;
use tarvek_host::store::{LazySurvey, StoreError};

use super::one_survey::{starts_with_magic, store_failure, survey};
use crate::outcome::Failure;

/// How much of surveys is read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Reading {
    Whole,
    InPart,
}

/// Has something found out of what holds a site and its parts, again until that asks for nothing
/// that was not read.
pub(super) fn settled<H, T>(
    holder: &mut H,
    find: impl Fn(&H) -> Result<T, Failure>,
    split: impl Fn(&mut H) -> (&mut Site, &mut Parts),
) -> Result<T, Failure> {
    loop {
        let found = find(holder);
        let (site, parts) = split(holder);
        if !parts.read(site)? {
            return found;
        }
    }
}

/// The surveys of a site that were read in part: of which host, and from which file.
#[derive(Default)]
pub(crate) struct Parts(Vec<(Name, PathBuf, LazySurvey)>);

impl Parts {
    /// What was seen of a host, in part if its survey can be read so.
    pub(super) fn facts(&mut self, file: &Path, reading: Reading) -> Result<HostFacts, Failure> {
        if reading == Reading::Whole || !starts_with_magic(file)? {
            return survey(file);
        }
        let (facts, part) = LazySurvey::open(file).map_err(|error| store_failure(file, &error))?;
        self.0.push((facts.name.clone(), file.to_owned(), part));
        Ok(facts)
    }

    /// Reads what was asked for since the last time; whether that was anything.
    pub(super) fn read(&mut self, site: &mut Site) -> Result<bool, Failure> {
        let mut any = false;
        for (name, file, part) in &mut self.0 {
            let host = site.host_named(name.raw()).unwrap_or(name).clone();
            let wanted = site.take_wanted(&host);
            if wanted.is_empty() {
                continue;
            }
            any = true;
            let facts = site.facts_mut(&host).expect("it wants something");
            // So many folders are wanted at once only by somebody who wants all below them.
            let below = wanted.len() > MANY;
            let refuse = |error: StoreError| store_failure(file, &error);
            part.fill(&mut facts.tree, wanted, below).map_err(refuse)?;
        }
        Ok(any)
    }

    /// Reads all that is below some places, or below every one, and what the files there hold.
    /// Where that is half of a survey, all of it is read: to be asked again would take longer.
    pub(super) fn read_below(
        &mut self,
        site: &mut Site,
        places: Option<&[Place]>,
    ) -> Result<(), Failure> {
        for (name, file, part) in &mut self.0 {
            let host = site.host_named(name.raw()).unwrap_or(name).clone();
            let facts = site.facts_mut(&host).expect("its survey was read");
            let here = |places: &[Place]| {
                let here = places.iter().filter(|place| place.host == host);
                here.map(|place| place.path.clone()).collect::<Vec<_>>()
            };
            let read = all_below(part, facts, places.map(here));
            read.map_err(|error| store_failure(file, &error))?;
        }
        Ok(())
    }
}

fn all_below(
    part: &mut LazySurvey,
    facts: &mut HostFacts,
    paths: Option<Vec<AbsPath>>,
) -> Result<(), StoreError> {
    let tree = &mut facts.tree;
    let everything = paths.is_none();
    for path in paths.into_iter().flatten() {
        if let Lookup::Found(top) = tree.find(&path) {
            // Whoever goes through them asks for them.
            tree.below(top).for_each(drop);
            part.fill(tree, tree.take_wanted(), true)?;
        }
    }
    if everything || part.is_half_read()? {
        part.fill(tree, part.left(), true)?;
    }
    part.contents(facts)
}

/// How many folders are many.
const MANY: usize = 256;
