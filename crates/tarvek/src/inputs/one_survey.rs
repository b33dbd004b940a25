//! What was seen of one host: a survey, or a listing that may be packed.

use std::io::{self, BufRead, BufReader, Read};
use std::path::Path;

use flate2::read::MultiGzDecoder;
use tarvek_core::facts::host::HostFacts;
use tarvek_formats::listing::{self, Unread};
use tarvek_host::store::{self, StoreError};

use super::files::{name_of, open_file};
use crate::outcome::Failure;

/// The most that is read of a listing, in bytes: that of a host with ten million files.
const MOST_LISTING: u64 = 2 << 30;

/// The most that a packed listing unpacks to: what a small one may, and how many times its size a
/// large one may. Listings are packed to a tenth; what is packed to a thousandth is no listing.
const MOST_UNPACKED: (u64, u64) = (256 << 20, 100);

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
