//! The answer of `tarvek forecast`.

use schemars::JsonSchema;
use serde::Serialize;
use tarvek_core::check::outlook::{Missed, Outlook};
use tarvek_core::facts::media::Media;
use tarvek_core::forecast::titles::{File, Found};
use tarvek_core::words::terms::Kind;
use tarvek_formats::keyword::Keyword;

use super::common::Path;
use crate::view::forecast::{Headers, LibraryForecast, Show};

/// The answer of `tarvek forecast`.
#[derive(Debug, Serialize, JsonSchema)]
#[schemars(title = "tarvek/forecast/1")]
pub(crate) struct Forecast {
    /// `tarvek/forecast/1`.
    schema: &'static str,
    /// One per library.
    libraries: Vec<LibraryDoc>,
    /// Hosts whose survey was broken off: what it lacks is not known.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[schemars(default)]
    pub(super) partial: Vec<String>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct LibraryDoc {
    /// The service that serves it; the viewpoint, for a folder that no service serves.
    service: String,
    name: String,
    kind: Keyword<Kind>,
    /// As the service sees them.
    roots: Vec<String>,
    /// Films, shows, albums, works; of photos and home videos the files. null if it can't be told.
    titles: Option<u64>,
    /// Media files, unrecognised ones included.
    files: u64,
    /// Their sizes together.
    bytes: u64,
    /// Everything that a refusal hides.
    unreadable: u64,
    /// Media files that give no title or no episode.
    unrecognised: u64,
    /// Sidecars, artwork, dot entries, what systems leave behind.
    ignored: u64,
    /// Places that nobody has looked into.
    unseen: u64,
    /// Whether a scan started now would find what is meant.
    ready: bool,
    verdict: String,
    /// With --titles: what would be found.
    #[serde(skip_serializing_if = "Option::is_none")]
    found: Option<Vec<FoundDoc>>,
    /// With --problems: what would be missed or misread.
    #[serde(skip_serializing_if = "Option::is_none")]
    problems: Option<Vec<ProblemDoc>>,
    /// With --since: what the next scan adds and drops.
    #[serde(skip_serializing_if = "Option::is_none")]
    since: Option<SinceDoc>,
}

/// A film, an episode, an album, a work, a photo or a home video.
#[derive(Debug, Serialize, JsonSchema)]
struct FoundDoc {
    title: String,
    /// The artist of an album.
    #[serde(skip_serializing_if = "Option::is_none")]
    artist: Option<String>,
    /// The author of a book.
    #[serde(skip_serializing_if = "Option::is_none")]
    author: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    year: Option<u16>,
    #[serde(skip_serializing_if = "Option::is_none")]
    season: Option<u16>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[schemars(default)]
    episodes: Vec<u16>,
    /// Of an episode that goes by its day.
    #[serde(skip_serializing_if = "Option::is_none")]
    date: Option<String>,
    /// The languages of the subtitles beside its files, by their names; `und` where these do not
    /// say.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[schemars(default)]
    subtitles: Vec<String>,
    files: Vec<FileDoc>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct FileDoc {
    /// On the host that holds it.
    #[serde(flatten)]
    path: Path,
    host: String,
    /// Its size.
    bytes: u64,
    /// With --media: what its header says; null if that can't be read.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schemars(with = "Option<MediaDoc>")]
    media: Option<Option<MediaDoc>>,
}

/// What the header of a file says.
#[derive(Debug, Serialize, JsonSchema)]
pub(super) struct MediaDoc {
    /// How long it plays; null if the header does not say.
    seconds: Option<f64>,
    /// Of the first picture track, in pixels.
    width: Option<u32>,
    height: Option<u32>,
    /// The codec of the first picture track; cover art is none.
    video: Option<String>,
    /// The codec of the first sound track.
    audio: Option<String>,
    /// The whole file's size by its duration.
    bits_per_second: Option<u64>,
}

impl MediaDoc {
    pub(super) fn new(media: &Media, bytes: u64) -> Self {
        Self {
            seconds: media.millis.map(|millis| millis as f64 / 1000.0),
            width: media.width,
            height: media.height,
            video: media.video.clone(),
            audio: media.audio.clone(),
            bits_per_second: media.bits_per_second(bytes),
        }
    }
}

#[derive(Debug, Serialize, JsonSchema)]
struct ProblemDoc {
    /// On the host that holds it.
    #[serde(flatten)]
    path: Path,
    why: String,
    /// The form that names of this kind usually have.
    #[serde(skip_serializing_if = "Option::is_none")]
    usual: Option<&'static str>,
    /// How many entries it is about.
    count: u64,
}

#[derive(Debug, Serialize, JsonSchema)]
struct SinceDoc {
    new: Vec<FoundDoc>,
    gone: Vec<FoundDoc>,
}

impl Forecast {
    pub(crate) fn new(told: &[LibraryForecast], show: Show) -> Self {
        let libraries = told.iter().map(|told| LibraryDoc::new(told, show)).collect();
        Self { schema: "tarvek/forecast/1", libraries, partial: Vec::new() }
    }
}

impl LibraryDoc {
    fn new(told: &LibraryForecast, show: Show) -> Self {
        let Outlook { row, roots, kind, forecast, .. } = told.outlook;
        let kind = *kind;
        let all =
            |found: &[Found]| found.iter().map(|f| FoundDoc::new(f, kind, told.headers)).collect();
        let problem = |problem: &Missed| ProblemDoc {
            path: (&problem.path).into(),
            why: problem.why.clone(),
            usual: problem.usual,
            count: problem.count,
        };
        Self {
            service: row.service.raw().to_owned(),
            name: row.name.raw().to_owned(),
            kind: Keyword(kind),
            roots: roots.iter().map(|root| root.raw().to_owned()).collect(),
            titles: row.stages.titles,
            files: forecast.files,
            bytes: forecast.bytes,
            unreadable: forecast.unreadable,
            unrecognised: forecast.unrecognised,
            ignored: forecast.ignored,
            unseen: forecast.unseen,
            ready: row.ready,
            verdict: row.verdict.to_string(),
            found: (show == Show::Titles).then(|| all(&forecast.found)),
            problems: (show == Show::Problems)
                .then(|| told.outlook.missed().iter().map(problem).collect()),
            since: told
                .since
                .as_ref()
                .map(|(new, gone)| SinceDoc { new: all(new), gone: all(gone) }),
        }
    }
}

impl FoundDoc {
    fn new(found: &Found, kind: Kind, headers: Option<&Headers>) -> Self {
        let by = |of: Kind| found.by.clone().filter(|_| kind == of);
        Self {
            title: found.title.clone(),
            artist: by(Kind::Music),
            author: by(Kind::Books),
            year: found.year,
            season: found.season,
            episodes: found.episodes.clone(),
            date: found.date.map(|date| date.to_string()),
            subtitles: found.subtitles.clone(),
            files: found.files.iter().map(|file| FileDoc::new(file, headers)).collect(),
        }
    }
}

impl FileDoc {
    fn new(file: &File, headers: Option<&Headers>) -> Self {
        let media = headers.map(|headers| {
            let media = headers.get(&(file.place.host.clone(), file.node))?.as_ref()?;
            Some(MediaDoc::new(media, file.bytes))
        });
        Self {
            path: (&file.place.path).into(),
            host: file.place.host.raw().to_owned(),
            bytes: file.bytes,
            media,
        }
    }
}
