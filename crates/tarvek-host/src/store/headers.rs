//! What the headers of media files say.

use std::fs::File;
use std::path::Path;

use rusqlite::{Connection, params};
use tarvek_core::facts::media::Media;
use tarvek_core::kernel::entry::Meta;
use tarvek_core::scan::kinds::plays;

use super::connection::StoreError;
use super::contents::{Added, FileRecord, add};
use crate::content_fault::ContentFault;
use crate::media;
use crate::sink::Number;
use crate::walk::Watch;

/// Adds what the header of every media file of a survey of this machine says of which that is not
/// known yet.
///
/// # Errors
/// If the survey can't be read or written.
pub fn add_media(file: &Path, watch: &Watch) -> Result<Added, StoreError> {
    add::<Header>(file, watch)
}

struct Header(Option<Media>);

impl FileRecord for Header {
    const TABLE: &'static str = "media";

    fn is_of(name: &[u8]) -> bool {
        plays(name)
    }

    fn expects(_: u64) -> u64 {
        0
    }

    fn take(file: &File, seen: &Meta, _: &Watch) -> Result<(Self, u64), ContentFault> {
        let file = file.try_clone()?;
        let (facts, bytes) = media::facts(file, seen.size);
        Ok((Self(facts), bytes))
    }

    fn keep(
        &self,
        folder: Number,
        name: &[u8],
        _: &Meta,
        survey: &Connection,
    ) -> rusqlite::Result<()> {
        header_row(survey, folder, name, self.0.as_ref())
    }
}

/// Writes what a file's header says; `None` if it can't be read.
pub(super) fn header_row(
    survey: &Connection,
    folder: Number,
    name: &[u8],
    media: Option<&Media>,
) -> rusqlite::Result<()> {
    let row = "INSERT OR REPLACE INTO media VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)";
    let Media { millis, width, height, video, audio, tracks, cut } =
        media.cloned().unwrap_or_default();
    let millis = millis.and_then(|millis| i64::try_from(millis).ok());
    let values = params![folder, name, millis, width, height, video, audio, tracks, cut];
    survey.prepare_cached(row)?.execute(values).map(drop)
}
