//! Surveys of which only that is read which a question needs.
//!
//! The core says which folders it was asked for and had not got; they are read, and it is asked again, until it has all that it asks for. What
//! it says before that is never shown.

use std::path::{Path, PathBuf};

use tarvek_core::facts::host::HostFacts;
use tarvek_core::site::join::Site;
use tarvek_core::words::name::Name;
use tarvek_host::store::{InPart, StoreError};

use super::surveys::{starts_with_magic, store_failure, survey};
use crate::outcome::Failure;

/// How much of surveys is read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Reading {
    Whole,
    InPart,
}

/// Has something found out of what holds a site and its parts, again until that asks for nothing that was not read.
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
pub(crate) struct Parts(Vec<(Name, PathBuf, InPart)>);

impl Parts {
    /// What was seen of a host, in part if its survey can be read so.
    pub(super) fn facts(&mut self, file: &Path, reading: Reading) -> Result<HostFacts, Failure> {
        if reading == Reading::Whole || !starts_with_magic(file)? {
            return survey(file);
        }
        match InPart::open(file).map_err(|error| store_failure(file, &error))? {
            Some((facts, part)) => {
                self.0.push((facts.name.clone(), file.to_owned(), part));
                Ok(facts)
            }
            None => survey(file),
        }
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
            let tree = site.tree_mut(&host).expect("it wants something");
            let refuse = |error: StoreError| store_failure(file, &error);
            part.fill(tree, wanted).map_err(refuse)?;
        }
        Ok(any)
    }
}
