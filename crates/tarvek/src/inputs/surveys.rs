//! What was seen of hosts: surveys, listings, and this machine live.

use std::path::{Path, PathBuf};

use tarvek_core::facts::host::HostFacts;
use tarvek_core::site::join::Site;
use tarvek_core::words::name::Name;
use tarvek_core::words::path::AbsPath;
use tarvek_host::observe::{Depth, Look, observe};
use tarvek_host::process::Process;
use tarvek_host::walk::Watch;

use super::layout::{Found, twice};
use super::parts::{Parts, Reading};
use crate::cli::Globals;
use crate::outcome::Failure;

/// What was seen of hosts, and the way to what was not read of it.
pub(super) fn surveys(
    files: &[PathBuf],
    reading: Reading,
) -> Result<(Vec<HostFacts>, Parts), Failure> {
    let mut parts = Parts::default();
    let facts: Result<_, _> = files.iter().map(|file| parts.facts(file, reading)).collect();
    Ok((facts?, parts))
}

/// The surveys that are given, else those that stand beside the layout under their host's name.
pub(super) fn with_surveys(
    globals: &Globals,
    layout: Found,
    reading: Reading,
) -> Result<(Site, Parts), Failure> {
    let mut files = globals.survey.clone();
    if files.is_empty() {
        let folder = layout.file.parent().unwrap_or(Path::new(""));
        let beside = |host: &Name| {
            let name = |ending| folder.join(format!("{}.{ending}", host.raw()));
            let names = ["survey", "listing"].map(name);
            names.into_iter().find(|file| file.is_file())
        };
        files.extend(layout.parsed.hosts.iter().filter_map(|host| beside(&host.name)));
    }
    let (facts, parts) = surveys(&files, reading)?;
    Ok((Site::join(layout.parsed, facts).map_err(twice)?, parts))
}

/// Looks at this machine, which is a host of the site.
pub(super) fn with_live(
    site: Site,
    host: &Name,
    places: Vec<(AbsPath, Depth)>,
) -> Result<Site, Failure> {
    site.with(live(host, &places, false)?).map_err(twice)
}

/// As [`with_live`], with all that this machine says of itself, and what runs on it in mounts of
/// its own.
pub(super) fn with_all_of_it(
    site: Site,
    host: &Name,
    places: Vec<(AbsPath, Depth)>,
) -> Result<Site, Failure> {
    site.with(live(host, &places, true)?).map_err(twice)
}

fn live(host: &Name, places: &[(AbsPath, Depth)], documents: bool) -> Result<HostFacts, Failure> {
    let watch = Watch::default();
    let mut facts = observe(&Look { places, documents, process: None, watch: &watch })?;
    facts.name = host.clone();
    Ok(facts)
}

/// Looks at what a process of this machine sees, which runs on a host of the site.
pub(super) fn with_process(
    site: Site,
    process: &Process,
    host: &Name,
    places: Vec<(AbsPath, Depth)>,
) -> Result<Site, Failure> {
    let watch = Watch::default();
    let look = Look { places: &places, documents: false, process: Some(process), watch: &watch };
    site.with_process(observe(&look)?, host).map_err(twice)
}
