//! What was seen of hosts: surveys, listings, and this machine live.

use std::io::Read;
use std::path::{Path, PathBuf};

use flate2::read::MultiGzDecoder;
use tarvek_core::facts::host::HostFacts;
use tarvek_core::site::join::Site;
use tarvek_core::words::name::Name;
use tarvek_core::words::path::AbsPath;
use tarvek_formats::listing;
use tarvek_host::observe::{Depth, Look, observe};
use tarvek_host::store::{self, StoreError};
use tarvek_host::walk::Watch;

use super::files::{name_of, read_file};
use super::layout::Found;
use crate::cli::Globals;
use crate::outcome::Failure;

/// A listing of a host with millions of files.
const MOST_LISTING: u64 = 4 << 30;

pub(super) fn surveys(files: &[PathBuf]) -> Result<Vec<HostFacts>, Failure> {
    files.iter().map(|file| survey(file)).collect()
}

/// What was seen of a host, from a survey or a listing.
pub(crate) fn survey(file: &Path) -> Result<HostFacts, Failure> {
    if starts_with_magic(file)? {
        return store::load(file).map_err(|error| store_failure(file, &error));
    }
    listing(&name_of(file), read_file(file, MOST_LISTING)?)
}

/// Reads a listing, packed or not.
pub(crate) fn listing(name: &str, bytes: Vec<u8>) -> Result<HostFacts, Failure> {
    if !bytes.starts_with(&[0x1f, 0x8b]) {
        return Ok(listing::read(name, &bytes)?);
    }
    let mut text = Vec::new();
    let most = MOST_LISTING + 1;
    let unpacked = MultiGzDecoder::new(bytes.as_slice()).take(most).read_to_end(&mut text);
    unpacked.map_err(|_| {
        Failure::with_remedy(
            format!("can't unpack {name}: the gzip data is damaged or cut off"),
            "copy it again",
        )
    })?;
    if text.len() as u64 == most {
        return Err(Failure::new(format!(
            "{name} unpacks to more than {} MiB",
            MOST_LISTING >> 20
        )));
    }
    Ok(listing::read(name, &text)?)
}

/// Says which survey can't be used, why, and what to do.
pub(crate) fn store_failure(file: &Path, error: &StoreError) -> Failure {
    Failure::with_remedy(format!("can't use {}: {}", name_of(file), error.message), &error.remedy)
}

fn starts_with_magic(file: &Path) -> Result<bool, Failure> {
    let regular = std::fs::metadata(file).is_ok_and(|meta| meta.is_file());
    if !regular {
        // Reading it says what is wrong.
        return Ok(false);
    }
    let mut start = Vec::new();
    std::fs::File::open(file)
        .and_then(|file| file.take(16).read_to_end(&mut start))
        .map_err(|error| Failure::new(format!("can't read {}: {error}", name_of(file))))?;
    Ok(store::is_survey(&start))
}

/// The surveys that are given, else those that stand beside the layout under their host's name.
pub(super) fn with_surveys(globals: &Globals, layout: Found) -> Result<Site, Failure> {
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
    Site::join(layout.parsed, surveys(&files)?).map_err(twice)
}

/// Looks at this machine, which is a host of the site.
pub(super) fn with_live(
    site: Site,
    host: &Name,
    places: Vec<(AbsPath, Depth)>,
) -> Result<Site, Failure> {
    let watch = Watch::default();
    let look = Look { places: &places, documents: false, watch: &watch };
    let mut facts = observe(&look)?;
    facts.name = host.clone();
    site.with(facts).map_err(twice)
}

/// That two surveys claim a host.
pub(super) fn twice(host: Name) -> Failure {
    Failure::with_remedy(format!("two surveys are of the host {host}"), "give one survey per host")
}
