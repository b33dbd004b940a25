//! What each library scan would find, as text.

use std::collections::HashMap;
use std::fmt::Write;

use tarvek_core::check::outlook::Outlook;
use tarvek_core::facts::media::Media;
use tarvek_core::facts::tree::NodeId;
use tarvek_core::forecast::titles::{File, Found};
use tarvek_core::words::name::Name;
use tarvek_core::words::text::{bytes, counted, shown};
use unicode_width::UnicodeWidthStr;

use super::screen::{Screen, Volume};
use super::style::{dim, sign, strong, verdict};

/// What is shown of forecasts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Show {
    Figures,
    Titles,
    Problems,
}

/// A library, and what the next scan adds and drops.
pub(crate) struct LibraryForecast<'a> {
    pub(crate) outlook: &'a Outlook,
    pub(crate) since: Option<(Vec<Found>, Vec<Found>)>,
    /// What the headers of the files say, if that is wanted.
    pub(crate) headers: Option<&'a Headers>,
}

/// What headers say, by the host and the number of the entry there; `None` where one can't be read.
pub(crate) type Headers = HashMap<(Name, NodeId), Option<Media>>;

/// `1 h 42 min  1920×1080 hevc`, of the first file that says so.
fn header(headers: &Headers, found: &Found) -> String {
    let of = |file: &File| headers.get(&(file.place.host.clone(), file.node))?.as_ref();
    let Some(media) = found.files.iter().find_map(of) else { return String::new() };
    format!("  {}", of_header(media))
}

/// `1 h 42 min  1920×1080  hevc  aac`, as far as a header says so.
pub(super) fn of_header(media: &Media) -> String {
    let mut parts = Vec::new();
    if let Some(millis) = media.millis {
        let minutes = (millis + 30_000) / 60_000;
        parts.push(match (minutes / 60, minutes % 60) {
            (0, 0) => format!("{} s", (millis + 500) / 1000),
            (0, minutes) => format!("{minutes} min"),
            (hours, minutes) => format!("{hours} h {minutes:02} min"),
        });
    }
    if let (Some(width), Some(height)) = (media.width, media.height) {
        parts.push(format!("{width}×{height}"));
    }
    // A survey may say anything.
    parts.extend(media.video.iter().chain(&media.audio).map(|codec| shown(codec.as_bytes())));
    parts.join("  ")
}

/// The whole answer.
pub(crate) fn text(told: &[LibraryForecast], show: Show, screen: &Screen) -> String {
    let mut out = String::new();
    let ready = told.iter().filter(|told| told.outlook.row.ready).count();
    let all = counted(told.len() as u64, "library");
    let _ = match told.len() {
        0 => writeln!(out, "the layout declares no library"),
        1 if ready == 1 => writeln!(out, "a scan would find what is meant"),
        1 => writeln!(out, "a scan would not find all that is meant"),
        count if ready == count => {
            writeln!(out, "a scan of each of the {all} would find what is meant")
        }
        _ => writeln!(out, "scans of {ready} of {all} would find what is meant"),
    };
    if screen.volume() == Volume::Quiet {
        return out;
    }
    match show {
        Show::Figures => figures(&mut out, told, screen.width()),
        Show::Titles => each(&mut out, told, titles),
        Show::Problems => each(&mut out, told, faults),
    }
    for told in told {
        since(&mut out, told);
    }
    out
}

fn figures(out: &mut String, all: &[LibraryForecast], width: usize) {
    let names = || all.iter().map(|told| told.outlook.row.name.to_string());
    let widest = names().map(|name| name.width()).max().unwrap_or(0).clamp(7, 24);
    const COLUMNS: [(&str, usize); 6] = [
        ("titles", 8),
        ("files", 8),
        ("space", 11),
        ("unreadable", 12),
        ("recognised", 12),
        ("skipped", 9),
    ];
    let before: usize = COLUMNS[..5].iter().map(|(_, wide)| wide).sum();
    let indent = " ".repeat(2 + widest + before - "recognised".len());
    let _ = write!(out, "\n{indent}{}\n  {:widest$}", dim("not"), dim("library"));
    for (title, wide) in COLUMNS {
        let _ = write!(out, "{}{}", " ".repeat(wide - title.len()), dim(title));
    }
    let _ = writeln!(out, "  {}", dim("verdict"));
    let used = 2 + widest + COLUMNS.iter().map(|(_, wide)| wide).sum::<usize>() + 2;
    let mut service = None;
    for told in all {
        let (row, forecast) = (&told.outlook.row, &told.outlook.forecast);
        if service != Some(&row.service) {
            let _ = writeln!(out, "{}", strong(&row.service));
            service = Some(&row.service);
        }
        let name = row.name.to_string();
        if name.width() > widest {
            let _ = write!(out, "  {name}\n  {:widest$}", "");
        } else {
            let _ = write!(out, "  {name}{}", " ".repeat(widest - name.width()));
        }
        let titles = row.stages.titles.map_or("?".to_owned(), |titles| titles.to_string());
        let none = |count: u64| if count == 0 { "–".to_owned() } else { count.to_string() };
        let _ = write!(
            out,
            "{titles:>8}{:>8}{:>11}{:>12}{:>12}{:>9}",
            forecast.files,
            if forecast.files == 0 { "–".to_owned() } else { bytes(forecast.bytes) },
            none(forecast.unreadable),
            none(forecast.unrecognised),
            none(forecast.ignored)
        );
        let text = row.verdict.to_string();
        let shown = verdict(&text, row.ready);
        if used + text.width() <= width {
            let _ = writeln!(out, "  {shown}");
        } else {
            let _ = writeln!(out, "\n  {:widest$}  {shown}", "");
        }
    }
    let _ = writeln!(
        out,
        "\n{}",
        dim("not recognised: gives no title or episode · skipped: sidecars, artwork and the \
             like\n--titles lists what would be found, --problems what would be missed or misread")
    );
}

fn each(out: &mut String, all: &[LibraryForecast], list: fn(&mut String, &LibraryForecast)) {
    for told in all {
        let row = &told.outlook.row;
        let good = Some(row.ready);
        let _ = writeln!(
            out,
            "\n{} {}  {}",
            sign(good, told.outlook.forecast.unrecognised > 0),
            strong(format!("{} of {}", row.name, row.service)),
            verdict(&row.verdict.to_string(), row.ready)
        );
        list(out, told);
    }
}

/// What would be found: a line per film, album or work, and of shows one per season.
fn titles(out: &mut String, told: &LibraryForecast) {
    let mut lines: Vec<(String, u64, u64, String)> = Vec::new();
    let mut season: Option<(String, Vec<u16>)> = None;
    for found in &told.outlook.forecast.found {
        let size: u64 = found.files.iter().map(|file| file.bytes).sum();
        let files = found.files.len() as u64;
        let name = name_of(found);
        let header = told.headers.map(|headers| header(headers, found)).unwrap_or_default();
        match found.season {
            Some(number) => {
                let name = format!("{name}  {}", season_word(number));
                match season.as_mut().filter(|(known, _)| *known == name) {
                    Some((_, episodes)) => {
                        episodes.extend(&found.episodes);
                        let text = format!("{name}: {}", ranges(episodes));
                        let last = lines.last_mut().expect("its first episode has a line");
                        *last = (text, last.1 + files, last.2 + size, String::new());
                    }
                    None => {
                        let text = format!("{name}: {}", ranges(&found.episodes));
                        lines.push((text, files, size, header));
                        season = Some((name, found.episodes.clone()));
                    }
                }
            }
            None => {
                let date = found.date.map(|date| format!("  {date}")).unwrap_or_default();
                lines.push((name + &date, files, size, header));
                season = None;
            }
        }
    }
    let widest = lines.iter().map(|(text, ..)| text.width()).max().unwrap_or(0).min(64);
    for (text, files, size, header) in lines {
        let pad = " ".repeat(widest.saturating_sub(text.width()));
        let _ = writeln!(
            out,
            "  {text}{pad}  {:>9}  {:>10}{header}",
            counted(files, "file"),
            bytes(size)
        );
    }
}

fn season_word(number: u16) -> String {
    if number == 0 { "specials".to_owned() } else { format!("season {number}") }
}

fn name_of(found: &Found) -> String {
    let mut name = shown(found.title.as_bytes());
    if let Some(by) = &found.by {
        name = format!("{} – {name}", shown(by.as_bytes()));
    }
    match found.year {
        Some(year) => format!("{name} ({year})"),
        None => name,
    }
}

/// `1–4, 6`.
fn ranges(numbers: &[u16]) -> String {
    let mut sorted = numbers.to_vec();
    sorted.sort_unstable();
    sorted.dedup();
    let runs = sorted.chunk_by(|a, b| a + 1 == *b);
    let runs = runs.map(|run| match run {
        [one] => one.to_string(),
        [first, .., last] => format!("{first}–{last}"),
        [] => String::new(),
    });
    runs.collect::<Vec<_>>().join(", ")
}

fn faults(out: &mut String, told: &LibraryForecast) {
    let outlook = told.outlook;
    let lines = outlook.missed();
    // Where nothing would be found, the verdict says why.
    if lines.is_empty() && outlook.forecast.files > 0 {
        let _ = writeln!(out, "  nothing would be missed or misread");
    }
    for line in &lines {
        let _ = writeln!(out, "  {}\n    {}", line.path, line.why);
    }
    if let Some(usual) = lines.iter().find_map(|line| line.usual) {
        let _ = writeln!(out, "  {}", dim(format!("the usual form: {usual}")));
    }
}

/// `Films: 3 new, 1 gone`, and which.
fn since(out: &mut String, told: &LibraryForecast) {
    let Some((new, gone)) = &told.since else { return };
    let name = &told.outlook.row.name;
    let counts = [(new.len(), "new"), (gone.len(), "gone")];
    let counts: Vec<String> = counts
        .into_iter()
        .filter(|(count, _)| *count > 0)
        .map(|(count, word)| format!("{count} {word}"))
        .collect();
    let counts =
        if counts.is_empty() { "nothing new, nothing gone".to_owned() } else { counts.join(", ") };
    let _ = writeln!(out, "\n{}: {counts}", strong(name));
    for (mark, all) in [("+", new), ("−", gone)] {
        for found in all {
            let episode = match (found.season, found.date) {
                (Some(season), _) => {
                    format!("  {}: {}", season_word(season), ranges(&found.episodes))
                }
                (None, Some(date)) => format!("  {date}"),
                (None, None) => String::new(),
            };
            let _ = writeln!(out, "  {mark} {}{episode}", name_of(found));
        }
    }
}
