//! The review of `tarvek waste`: a table (RFC 4180) that a person edits, also in a spreadsheet, and
//! that `reclaim` reads.

use std::collections::HashMap;

use base64::Engine as _;
use base64::prelude::BASE64_STANDARD;
use tarvek_core::kernel::entry::Meta;
use tarvek_core::waste::group::{Decision, hash};
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::text::{is_unseen, nearest, shown};
use tarvek_core::words::word::Word;

use crate::guard::refusing;
use crate::mistake::{Mistakes, Refused};

/// The columns, in this order; a file may have them in another order, and more of them.
pub const COLUMNS: [&str; 21] = [
    "decision",
    "group",
    "kind",
    "bytes",
    "frees",
    "why",
    "library",
    "host",
    "path",
    "path_bytes",
    "root",
    "root_bytes",
    "filesystem",
    "device",
    "inode",
    "mtime",
    "ctime",
    "digest",
    "picture",
    "seconds",
    "seal",
];

/// What is read of a file at most, in bytes: that of some million names.
pub const MOST: u64 = 2 << 30;

/// A line of a review.
#[derive(Clone, Debug, PartialEq)]
pub struct Row {
    /// Where it stands.
    pub line: u64,
    pub decision: Decision,
    pub group: String,
    pub kind: String,
    /// Of the library or intake that it lies in.
    pub library: String,
    pub host: String,
    pub path: AbsPath,
    /// The folder that was looked through.
    pub root: Option<AbsPath>,
    /// What the file was when it was reviewed; `None` where the line does not say.
    pub bytes: Option<u64>,
    /// What the filesystem is known by, also when it is mounted again; empty where the line does
    /// not say.
    pub filesystem: String,
    pub device: Option<u64>,
    pub inode: Option<u64>,
    /// In the words of [`moment`].
    pub modified: String,
    pub changed: String,
    /// What the file held, in hexadecimal digits; empty where nobody read it.
    pub digest: String,
    /// What [`seal`] made of the line when it was written.
    pub seal: String,
}

/// A sign of all that a line says of a file and its group, by which it shows if anything but the
/// decision was changed: a cell that was filled down, a path that was moved. It is no secret, and
/// proves nothing to somebody who makes a line up.
pub fn seal(row: &Row) -> String {
    let number = |number: Option<u64>| number.map(|n| n.to_string()).unwrap_or_default();
    let root = row.root.as_ref().map(AbsPath::as_bytes).unwrap_or_default();
    let sign = hash(&[
        row.group.as_bytes(),
        row.kind.as_bytes(),
        row.host.as_bytes(),
        row.path.as_bytes(),
        root,
        number(row.bytes).as_bytes(),
        row.filesystem.as_bytes(),
        number(row.device).as_bytes(),
        number(row.inode).as_bytes(),
        row.modified.as_bytes(),
        row.changed.as_bytes(),
        row.digest.as_bytes(),
    ]);
    // Letters alone: no spreadsheet takes them for a number.
    (0..16).map(|n| char::from(b'a' + (sign >> (60 - 4 * n) & 15) as u8)).collect()
}

/// A line that can't be used.
#[derive(Clone, Debug, PartialEq)]
pub struct BadRow {
    pub line: u64,
    /// As far as it can be read.
    pub path: Vec<u8>,
    pub why: String,
}

/// A review.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Review {
    pub rows: Vec<Row>,
    pub bad: Vec<BadRow>,
}

/// A time in words that no spreadsheet takes for a date of its own.
pub fn moment(nanoseconds: i64) -> String {
    match jiff::Timestamp::from_nanosecond(i128::from(nanoseconds)) {
        Ok(time) => time.strftime("%Y-%m-%d %H:%M:%S.%9f UTC").to_string(),
        Err(_) => format!("{nanoseconds} ns"),
    }
}

/// `st_dev` as `stat(1)` prints it.
pub fn device(meta: &Meta) -> Option<u64> {
    let device = meta.device?;
    let (major, minor) = ((device >> 32) as u32, device as u32);
    // gnu_dev_makedev(3).
    let (major, minor) = (u64::from(major), u64::from(minor));
    Some(
        (major & 0xffff_f000) << 32
            | (major & 0xfff) << 8
            | (minor & 0xffff_ff00) << 12
            | minor & 0xff,
    )
}

/// The exact bytes of a path in base64, where its text could be changed on the way through other
/// programs; else empty.
pub fn exact(path: &[u8]) -> String {
    let fragile = match std::str::from_utf8(path) {
        Ok(text) => text.chars().any(is_unseen) || text.trim() != text,
        Err(_) => true,
    };
    if fragile { BASE64_STANDARD.encode(path) } else { String::new() }
}

/// Reads a review.
///
/// # Errors
/// If it is no table with the columns that are needed; the mistakes say where and what to do.
pub fn read(name: &str, bytes: &[u8]) -> Result<Review, Refused> {
    refusing(name, || read_unguarded(name, bytes))
}

fn read_unguarded(name: &str, bytes: &[u8]) -> Result<Review, Refused> {
    let bytes = bytes.strip_prefix(b"\xef\xbb\xbf").unwrap_or(bytes);
    let text = match std::str::from_utf8(bytes) {
        Ok(text) => text,
        Err(error) => {
            let lossy = String::from_utf8_lossy(bytes).into_owned();
            let at = error.valid_up_to();
            let mut mistakes = Mistakes::new(&lossy);
            mistakes.add(at..at + 1, "it is no UTF-8", Some("save it as CSV in UTF-8".to_owned()));
            return Err(mistakes.into_refused(name));
        }
    };
    let mut mistakes = Mistakes::new(text);
    let head = text.lines().next().unwrap_or_default();
    let first = 0..head.len().max(1).min(text.len());
    // Spreadsheets write what is usual where they run.
    let delimiter = [b',', b';', b'\t']
        .into_iter()
        .max_by_key(|delimiter| head.bytes().filter(|byte| byte == delimiter).count())
        .unwrap_or(b',');
    let mut table =
        csv::ReaderBuilder::new().delimiter(delimiter).flexible(true).from_reader(text.as_bytes());
    let header = match table.headers() {
        Ok(header) => header.clone(),
        Err(error) => {
            mistakes.add(first, format!("it is no table: {error}"), Some(REMEDY.to_owned()));
            return Err(mistakes.into_refused(name));
        }
    };
    let columns: HashMap<String, usize> =
        header.iter().enumerate().map(|(n, name)| (name.trim().to_lowercase(), n)).collect();
    for needed in ["decision", "group", "path"] {
        if !columns.contains_key(needed) {
            let near = nearest(needed, header.iter())
                .map(|near| format!(" (is it {:?}?)", shown(near.as_bytes())))
                .unwrap_or_default();
            mistakes.add(
                first.clone(),
                format!("there is no column {needed}{near}"),
                Some(REMEDY.to_owned()),
            );
        }
    }
    if !mistakes.is_empty() {
        return Err(mistakes.into_refused(name));
    }
    let mut review = Review::default();
    let mut lines = Lines { text: text.as_bytes(), at: 0, line: 1 };
    for record in table.records() {
        let record = match record {
            Ok(record) => record,
            Err(error) => {
                let at = error
                    .position()
                    .map_or(0, |at| usize::try_from(at.byte()).unwrap_or(0))
                    .min(text.len());
                mistakes.add(
                    at..at,
                    format!("it is no table from here on: {error}"),
                    Some(REMEDY.to_owned()),
                );
                return Err(mistakes.into_refused(name));
            }
        };
        if record.iter().all(|cell| cell.trim().is_empty()) {
            continue;
        }
        let line = lines.of(record.position().map_or(0, csv::Position::byte));
        let cell = |name: &str| {
            columns.get(name).and_then(|n| record.get(*n)).map(bare).unwrap_or_default()
        };
        match row(line, &cell) {
            Ok(row) => review.rows.push(row),
            Err(why) => {
                review.bad.push(BadRow { line, path: cell("path").as_bytes().to_vec(), why })
            }
        }
    }
    Ok(review)
}

/// Counts the lines up to each record, in the order of the records.
struct Lines<'t> {
    text: &'t [u8],
    /// As far as they are counted.
    at: usize,
    line: u64,
}

impl Lines<'_> {
    /// The line of a record, from 1. The reader leaves the second half of a CRLF, and empty lines,
    /// to the record that follows, and counts lines as they are there.
    fn of(&mut self, record: u64) -> u64 {
        let record = usize::try_from(record).map_or(self.text.len(), |at| at.min(self.text.len()));
        let breaks =
            self.text[record..].iter().take_while(|byte| matches!(byte, b'\r' | b'\n')).count();
        let start = record + breaks;
        while self.at < start {
            let pair = self.text[self.at..].starts_with(b"\r\n");
            self.line += u64::from(matches!(self.text[self.at], b'\r' | b'\n'));
            self.at += if pair { 2 } else { 1 };
        }
        self.line
    }
}

const REMEDY: &str =
    "give a file that `tarvek waste --review FILE` wrote, with its first line as it was";

/// A cell without the sign by which spreadsheets know text.
fn bare(cell: &str) -> &str {
    cell.strip_prefix('\'').unwrap_or(cell)
}

fn row<'a>(line: u64, cell: &impl Fn(&str) -> &'a str) -> Result<Row, String> {
    let written = cell("decision").trim().to_lowercase();
    let decision = Decision::named(&written).ok_or_else(|| {
        let known = Decision::ALL.iter().map(|decision| decision.word());
        match nearest(&written, known) {
            Some(near) => {
                format!("{:?} is no decision; did you mean {near}?", shown(written.as_bytes()))
            }
            None => format!(
                "{:?} is no decision; write keep, drop, link or ignore",
                shown(written.as_bytes())
            ),
        }
    })?;
    let path = |text: &str, bytes: &str| -> Result<AbsPath, String> {
        let bytes = match bytes.trim() {
            "" => text.as_bytes().to_vec(),
            bytes => BASE64_STANDARD
                .decode(bytes)
                .map_err(|_| "its path_bytes are no base64".to_owned())?,
        };
        let path = AbsPath::new(&bytes).map_err(|fault| format!("its path {fault}"))?;
        // What goes up again or stays could leave the folder that was reviewed.
        match path.as_bytes() == bytes {
            true => Ok(path),
            false => Err("its path is not written plainly".to_owned()),
        }
    };
    let root = match (cell("root"), cell("root_bytes")) {
        ("", "") => None,
        (text, bytes) => Some(path(text, bytes)?),
    };
    let number = |name: &str| match cell(name).trim() {
        "" => Ok(None),
        text => text.parse::<u64>().map(Some).map_err(|_| format!("its {name} is no number")),
    };
    Ok(Row {
        line,
        decision,
        group: cell("group").trim().to_owned(),
        kind: cell("kind").trim().to_owned(),
        library: cell("library").to_owned(),
        host: cell("host").trim().to_owned(),
        path: path(cell("path"), cell("path_bytes"))?,
        root,
        bytes: number("bytes")?,
        filesystem: cell("filesystem").trim().to_owned(),
        device: number("device")?,
        inode: number("inode")?,
        modified: cell("mtime").trim().to_owned(),
        changed: cell("ctime").trim().to_owned(),
        digest: cell("digest").trim().to_lowercase(),
        seal: cell("seal").trim().to_owned(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_spreadsheet_may_write_it_in_its_own_way() {
        for text in [
            "decision,group,path\ndrop,copy-1,/a\n",
            "\u{feff}decision;group;path\r\nDrop;copy-1;/a\r\n;;\r\n",
            "path\tdecision\tmore\tgroup\n\"/a\"\t drop \t'=1\tcopy-1\n",
        ] {
            let review = read("r.csv", text.as_bytes()).unwrap();
            assert_eq!(review.bad, [], "{text}");
            let row = &review.rows[0];
            assert_eq!(
                (row.decision, row.group.as_str(), row.path.as_bytes()),
                (Decision::Drop, "copy-1", &b"/a"[..])
            );
        }
    }

    #[test]
    fn a_bad_line_is_named_and_the_others_are_read() {
        let text = "decision,group,path,path_bytes,inode\ndrp,g,/a,,\ndrop,g,a,,\n\
                    drop,g,/a/../b,,\ndrop,g,/a,!,\ndrop,g,/a,,1.2E+18\nkeep,g,/a,,7\n";
        let review = read("r.csv", text.as_bytes()).unwrap();
        let bad: Vec<(u64, &str)> =
            review.bad.iter().map(|bad| (bad.line, bad.why.as_str())).collect();
        assert_eq!(
            bad.iter().map(|(line, _)| *line).collect::<Vec<_>>(),
            [2, 3, 4, 5, 6],
            "{bad:?}"
        );
        assert!(bad[0].1.contains("did you mean drop?"), "{bad:?}");
        assert_eq!(review.rows.len(), 1);
    }

    #[test]
    fn lines_are_counted_as_an_editor_shows_them() {
        for end in ["\n", "\r\n", "\r"] {
            let rows = [
                "decision,group,path,why",
                "drop,g,/a,",
                "",
                "keep,g,/b,\"two\nlines\"",
                ",,,",
                "drp,g,/c,",
                "keep,g,/d,",
            ];
            let review =
                read("r.csv", rows.map(|row| row.replace('\n', end)).join(end).as_bytes()).unwrap();
            let lines: Vec<u64> = review.rows.iter().map(|row| row.line).collect();
            assert_eq!((lines, review.bad[0].line), (vec![2, 4, 8], 7), "{end:?}");
        }
    }

    #[test]
    fn what_is_no_review_is_refused() {
        for (text, says) in [
            (&b"a,b\n1,2\n"[..], "no column decision"),
            (b"decision,group,path\n\xff", "no UTF-8"),
            (b"", "no column decision"),
        ] {
            let refused = read("r.csv", text).unwrap_err();
            assert!(format!("{refused:?}").contains(says), "{refused:?}");
        }
    }

    #[test]
    fn times_and_devices_are_written_as_tools_print_them() {
        assert_eq!(moment(1_795_712_416_123_456_789), "2026-11-26 17:00:16.123456789 UTC");
        let mut meta = Meta::new(tarvek_core::kernel::entry::EntryKind::File, 0o644, 0, 0);
        meta.device = Some(8 << 32 | 1);
        assert_eq!(device(&meta), Some(0x801));
    }
}
