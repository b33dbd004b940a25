//! What was seen of hosts: surveys, listings, and this machine live.

use std::io::{self, BufRead, BufReader, Read};
use std::path::{Path, PathBuf};

use flate2::read::MultiGzDecoder;
use tarvek_core::facts::host::HostFacts;
use tarvek_core::site::join::Site;
use tarvek_core::words::name::Name;
use tarvek_core::words::path::AbsPath;
use tarvek_formats::listing::{self, Unread};
use tarvek_host::observe::{Depth, Look, observe};
use tarvek_host::process::Process;
use tarvek_host::store::{self, StoreError};
use tarvek_host::walk::Watch;

use super::files::{name_of, open_file};
use super::layout::Found;
use super::parts::{Parts, Reading};
use crate::cli::Globals;
use crate::outcome::Failure;

/// The most that is read of a listing, in bytes: that of a host with ten million files.
const MOST_LISTING: u64 = 2 << 30;

/// The most that a packed listing unpacks to: what a small one may, and how many times its size a large one may. Listings are packed to a tenth;
/// what is packed to a thousandth is no listing.
const MOST_UNPACKED: (u64, u64) = (256 << 20, 100);

/// What was seen of hosts, and the way to what was not read of it.
pub(super) fn surveys(
    files: &[PathBuf],
    reading: Reading,
) -> Result<(Vec<HostFacts>, Parts), Failure> {
    let mut parts = Parts::default();
    let facts: Result<_, _> = files.iter().map(|file| parts.facts(file, reading)).collect();
    Ok((facts?, parts))
}

/// What was seen of a host, from a survey or a listing.
pub(crate) fn survey(file: &Path) -> Result<HostFacts, Failure> {
    if starts_with_magic(file)? {
        return store::load(file).map_err(|error| store_failure(file, &error));
    }
    let (open, size) = open_file(file)?;
    listing(&name_of(file), open, Some(size))
}

/// Reads a listing, packed or not. `size`: how long the source is, if that is known.
pub(crate) fn listing(
    name: &str,
    source: impl Read,
    size: Option<u64>,
) -> Result<HostFacts, Failure> {
    let mut source = BufReader::new(source);
    let cant = |error: &io::Error| Failure::new(format!("can't read {name}: {error}"));
    let start = source.fill_buf().map_err(|error| cant(&error))?;
    let packed = start.starts_with(&[0x1f, 0x8b]);
    let most = match (packed, size) {
        (false, _) => MOST_LISTING,
        (true, Some(size)) => {
            MOST_UNPACKED.0.max(size.saturating_mul(MOST_UNPACKED.1)).min(MOST_LISTING)
        }
        (true, None) => {
            // What is packed is short; how long it is says what it may unpack to.
            let mut bytes = Vec::new();
            source.take(MOST_LISTING).read_to_end(&mut bytes).map_err(|error| cant(&error))?;
            let size = bytes.len() as u64;
            return listing(name, bytes.as_slice(), Some(size));
        }
    };
    let read = if packed {
        listing::read_from(name, MultiGzDecoder::new(source), most)
    } else {
        listing::read_from(name, source, most)
    };
    read.map_err(|unread| match unread {
        Unread::Refused(refused) => Failure::Refused(refused),
        Unread::Broken(_) if packed => Failure::with_remedy(
            format!("can't unpack {name}: the gzip data is damaged or cut off"),
            "copy it again",
        ),
        Unread::Broken(error) => cant(&error),
        Unread::TooLong(most) => Failure::with_remedy(
            format!(
                "{name} {} more than {} MiB",
                if packed { "unpacks to" } else { "has" },
                most >> 20
            ),
            "no listing is as long as that; collect fewer folders at a time",
        ),
    })
}

/// Says which survey can't be used, why, and what to do.
pub(crate) fn store_failure(file: &Path, error: &StoreError) -> Failure {
    Failure::with_remedy(format!("can't use {}: {}", name_of(file), error.message), &error.remedy)
}

pub(super) fn starts_with_magic(file: &Path) -> Result<bool, Failure> {
    let mut start = Vec::new();
    let (open, _) = open_file(file)?;
    open.take(16)
        .read_to_end(&mut start)
        .map_err(|error| Failure::new(format!("can't read {}: {error}", name_of(file))))?;
    Ok(store::is_survey(&start))
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

/// As [`with_live`], with all that this machine says of itself, and what runs on it in mounts of its own.
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

/// That two surveys claim a host.
pub(crate) fn twice(host: Name) -> Failure {
    Failure::with_remedy(format!("two surveys are of the host {host}"), "give one survey per host")
}
