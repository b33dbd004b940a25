//! Whether a file would be linked, as text, with the mounts between the two ends.

use std::fmt::Write;

use tarvek_core::kernel::subject::Subject;
use tarvek_core::link::below::Holds;
use tarvek_core::link::picture::Shown;
use tarvek_core::link::verdict::{Reason, Verdict};
use tarvek_core::remedy::verified_fix::Mended;
use tarvek_core::route::hops::View;
use tarvek_core::words::errno::Errno;
use tarvek_core::words::evidence::Evidence;
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::text::counted;
use unicode_width::UnicodeWidthStr;

use super::screen::{Screen, Volume};
use super::steps;
use super::style::{allowed, broken, dim, plain, sign, strong};
use super::wrap::wrap;

/// The whole answer of `link`.
#[derive(Debug)]
pub(crate) struct Answer<'a> {
    pub(crate) from: &'a AbsPath,
    pub(crate) to: &'a AbsPath,
    pub(crate) view: &'a View,
    pub(crate) subject: &'a Subject,
    pub(crate) remark: Option<&'a str>,
    pub(crate) hardlink: Verdict,
    pub(crate) rename: Verdict,
    /// What a source folder holds.
    pub(crate) holds: Option<Holds>,
    /// The mounts between the two ends.
    pub(crate) mounts: Vec<Shown>,
    /// What would let it be linked.
    pub(crate) mended: Option<Mended>,
}

/// The answer as text; `layout` is the file that edits are made in.
pub(crate) fn text(answer: &Answer, layout: &str, screen: &Screen) -> String {
    let mut out = String::new();
    let possible = headline_is_good(answer);
    let _ = writeln!(out, "{} {}", sign(possible, false), strong(headline(answer)));
    if screen.volume() == Volume::Quiet {
        return out;
    }
    let _ = writeln!(out, "\n{} {} {}", answer.from, dim("→"), answer.to);
    let remark = answer.remark.map(|remark| format!("   ({remark})")).unwrap_or_default();
    let _ = writeln!(out, "{}, as {}{}", answer.view, answer.subject, dim(remark));
    out.push('\n');
    let both = [("link", &answer.hardlink), ("rename", &answer.rename)];
    for (deed, verdict) in both {
        let _ = write!(out, "  {deed:7} {:8}", allowed(verdict.possible));
        let same = deed == "rename" && *verdict == answer.hardlink && verdict.reason != Reason::Ok;
        let words = if same { "the same".to_owned() } else { words(verdict) };
        let whole = [answer.from.to_string(), answer.to.to_string()];
        let _ = writeln!(out, "  {}", wrap(&words, &whole, screen.width() - 20, &" ".repeat(20)));
    }
    if let Some(holds) = &answer.holds {
        list_files_in_folder(&mut out, holds, screen);
    }
    if !answer.mounts.is_empty() {
        let _ = writeln!(out, "\n{}", strong(format!("the mounts of {}", answer.view)));
        picture(&mut out, answer, screen);
    }
    if let Some(mended) = &answer.mended {
        remedy(&mut out, mended, layout, screen);
    }
    out
}

/// What would let it be linked, and what is possible then.
fn remedy(out: &mut String, mended: &Mended, layout: &str, screen: &Screen) {
    let _ = writeln!(out, "\n{}", strong("what would let it be linked"));
    for line in steps::lines(&mended.remedy, layout, screen.width() - 4, &[], "    ") {
        let _ = writeln!(out, "  {} {line}", dim("·"));
    }
    for effect in &mended.remedy.effects {
        let words = format!("then {effect}");
        let _ = writeln!(out, "  {} {}", dim("·"), wrap(&words, &[], screen.width() - 4, "    "));
    }
    let (from, to) = (&mended.from, &mended.to);
    let _ = writeln!(out, "\n{} {} {}", from, dim("→"), to);
    for (deed, verdict) in [("link", &mended.hardlink), ("rename", &mended.rename)] {
        let words = wrap(&words(verdict), &[], screen.width() - 20, &" ".repeat(20));
        let _ = writeln!(out, "  {deed:7} {:8}  {words}", allowed(verdict.possible));
    }
}

/// Whether what was asked for goes well: of a folder, that every file in it can be linked.
fn headline_is_good(answer: &Answer) -> Option<bool> {
    let held = answer.holds.as_ref().filter(|holds| holds.files > 0);
    held.map_or(answer.hardlink.possible, Holds::all_possible)
}

fn headline(answer: &Answer) -> String {
    if let Some(holds) = answer.holds.as_ref().filter(|holds| holds.files > 0) {
        let files = counted(holds.files, "file");
        return match holds.possible {
            all if all == holds.files => format!("a folder of {files}, all of which can be linked"),
            _ if holds.none_possible() => {
                format!("a folder of {files}, none of which can be linked")
            }
            0 => format!("a folder of {files}, none of which is sure to be linked"),
            some => format!("a folder of {files}, of which {some} can be linked"),
        };
    }
    match (answer.hardlink.possible, answer.rename.possible) {
        (Some(true), _) => "it can be linked".to_owned(),
        (Some(false), Some(true)) => "it can't be linked; moving it costs no copy".to_owned(),
        (Some(false), Some(false)) => {
            "it can neither be linked nor moved: it would be copied".to_owned()
        }
        (Some(false), None) => {
            "it can't be linked, and whether it can be moved is not known".to_owned()
        }
        (None, _) => "whether it can be linked is not known".to_owned(),
    }
}

fn words(verdict: &Verdict) -> String {
    let tried = (verdict.evidence == Evidence::Proven).then_some("tried");
    let marks: Vec<&str> = verdict.errno.map(Errno::word).into_iter().chain(tried).collect();
    let marks = if marks.is_empty() { String::new() } else { format!(" ({})", marks.join(", ")) };
    match verdict.reason {
        Reason::Ok => format!("{}{marks}", verdict.detail),
        reason => format!("{}: {}{marks}", reason.word(), verdict.detail),
    }
}

fn list_files_in_folder(out: &mut String, holds: &Holds, screen: &Screen) {
    let _ = writeln!(out, "\n{}", strong("the files in it"));
    if holds.possible > 0 {
        let _ = writeln!(out, "  {:8}  {}", allowed(Some(true)), counted(holds.possible, "file"));
    }
    for cause in &holds.causes {
        let errno = cause.errno.map(|errno| format!(" ({errno})")).unwrap_or_default();
        let words = format!(
            "{}: {}: {}{errno}",
            counted(cause.count, "file"),
            cause.reason.word(),
            cause.detail
        );
        let wrapped = wrap(&words, &[], screen.width() - 12, &" ".repeat(12));
        let _ = writeln!(out, "  {:8}  {wrapped}", allowed(cause.possible));
        for example in &cause.examples {
            let _ = writeln!(out, "{}{}", " ".repeat(14), dim(example));
        }
    }
    if holds.unseen > 0 {
        let folders = counted(holds.unseen, "folder");
        let _ = writeln!(out, "  {:8}  {folders} could not be looked into", allowed(None));
    }
}

/// A row of the picture, before it is put into columns.
struct Line {
    tree: String,
    shows: String,
    how: String,
    mark: &'static str,
}

/// The mounts as a tree; a bracket joins the two that hold the ends, and shows the boundary between
/// them.
fn picture(out: &mut String, answer: &Answer, screen: &Screen) {
    let lines: Vec<Line> = answer.mounts.iter().enumerate().map(|(n, _)| line(answer, n)).collect();
    let widest =
        |of: fn(&Line) -> &str| lines.iter().map(|line| of(line).width()).max().unwrap_or(0);
    let room = screen.width().saturating_sub(4 + 22);
    let tree = widest(|line| &line.tree).min(room / 2);
    let shows = widest(|line| &line.shows).min(room - tree.min(room));
    let how = widest(|line| &line.how);
    let marked: Vec<usize> = (0..lines.len()).filter(|n| !lines[*n].mark.is_empty()).collect();
    let (first, last) = (marked.first().copied(), marked.last().copied());
    let split = first != last;
    let verdict = &answer.hardlink;
    let why = verdict.errno.map_or("", Errno::word);
    for (n, row) in lines.iter().enumerate() {
        let bracket = match () {
            () if !split => "",
            () if Some(n) == first => " ─┐",
            () if Some(n) == last => " ─┘",
            () if Some(n) > first && Some(n) < last => "  │",
            () => "",
        };
        let pad = |text: &str, width: usize| " ".repeat(width.saturating_sub(text.width()));
        let cells = [
            (row.tree.as_str(), tree + 2, plain(&row.tree)),
            (&row.shows, shows + 2, dim(&row.shows)),
            (&row.how, how + 2, dim(&row.how)),
            (row.mark, 8, strong(row.mark)),
            (bracket, 0, broken(bracket)),
        ];
        // Nothing stands behind the last one that says something.
        let last = cells.iter().rposition(|(text, ..)| !text.is_empty()).unwrap_or(0);
        let mut text = "  ".to_owned();
        for (n, (shown, width, styled)) in cells.iter().enumerate().take(last + 1) {
            text += &styled.to_string();
            text += &pad(shown, if n < last { *width } else { 0 });
        }
        let _ = writeln!(out, "{text}");
        if split && Some(n) == first {
            let column = tree + 2 + shows + 2 + how + 2 + 8;
            let _ = writeln!(
                out,
                "  {}{}  {}",
                below(answer, n),
                " ".repeat(column.saturating_sub(below(answer, n).width())),
                broken(format!("╳ another mount {why}"))
            );
        }
    }
}

/// How deep a mount lies in others of the picture.
fn depth(answer: &Answer, n: usize) -> usize {
    let at = &answer.mounts[n].at;
    answer.mounts[..n].iter().filter(|above| at.within(&above.at)).count()
}

/// Whether a further mount of that depth follows before the tree goes up again.
fn goes_on(answer: &Answer, n: usize, level: usize) -> bool {
    let mut later = (n + 1..answer.mounts.len()).map(|k| depth(answer, k));
    later.find(|deep| *deep <= level) == Some(level)
}

fn line(answer: &Answer, n: usize) -> Line {
    let mount = &answer.mounts[n];
    let deep = depth(answer, n);
    let mut tree = String::new();
    for level in 1..deep {
        tree += if goes_on(answer, n, level) { "│  " } else { "   " };
    }
    if deep > 0 {
        tree += if goes_on(answer, n, deep) { "├─ " } else { "└─ " };
    }
    tree += &mount.at.to_string();
    let kind = mount.filesystem.as_ref().map(|kind| format!("{kind} ")).unwrap_or_default();
    Line {
        tree,
        shows: match &mount.shows {
            Some(place) => place.to_string(),
            None => "the service's own storage".to_owned(),
        },
        how: if mount.shows.is_some() {
            format!("{kind}{}", mount.access.word())
        } else {
            String::new()
        },
        mark: match (mount.has_source, mount.has_target) {
            (true, true) => "● both",
            (true, false) => "● source",
            (false, true) => "● target",
            (false, false) => "",
        },
    }
}

/// The strokes of the tree that pass below a line.
fn below(answer: &Answer, n: usize) -> String {
    let deepest = (n + 1..answer.mounts.len()).map(|k| depth(answer, k)).max().unwrap_or(0);
    let mut strokes = String::new();
    for level in 1..=deepest {
        strokes += if goes_on(answer, n, level) { "│  " } else { "   " };
    }
    strokes
}
