//! From a source to the sections of a listing, line by line, as far as it is one.

use std::collections::HashMap;
use std::io::Read;
use std::ops::Range;

use tarvek_core::words::text::shown;

use super::{AGAIN, FIRST_LINE, LONGEST_PATH, Unread};
use crate::escape::unescape;
use crate::mistake::{Refused, in_line};

/// A line with its number.
pub(super) type Line<'a> = (usize, &'a [u8]);

#[derive(Default)]
pub(super) struct Section {
    pub(super) columns: Vec<String>,
    pub(super) start: usize,
    /// The number of each line, and where its contents stand in the text.
    pub(super) lines: Vec<(usize, Range<usize>)>,
}

#[derive(Default)]
pub(super) struct Sections {
    pub(super) text: Vec<u8>,
    /// The line of each header, and its value.
    pub(super) headers: HashMap<String, (usize, String)>,
    pub(super) sections: HashMap<String, Section>,
}

/// How much is taken from a source at a time.
const CHUNK: usize = 1 << 16;

/// The longest line, in bytes: a path whose every byte is escaped, and what stands before it.
const LONGEST_LINE: usize = LONGEST_PATH * 4 + 4096;

impl Sections {
    pub(super) fn split(file: &str, mut source: impl Read, most: u64) -> Result<Self, Unread> {
        let mut splitter = Splitter { file, ..Splitter::default() };
        // Up to where the text has been split.
        let mut done = 0;
        loop {
            let text = &mut splitter.sections.text;
            let before = text.len();
            let taken = source.by_ref().take(CHUNK as u64).read_to_end(text);
            taken.map_err(Unread::Broken)?;
            let ends = text.len() == before;
            if text.len() as u64 > most {
                return Err(Unread::TooLong(most));
            }
            if before == 0 && text.starts_with(b"\xef\xbb\xbf") {
                done = 3;
            }
            while let Some(length) = splitter.sections.text[done..].iter().position(|&b| b == b'\n')
            {
                splitter.line(done..done + length)?;
                done += length + 1;
            }
            let waiting = splitter.sections.text.len() - done;
            if splitter.number == 0 && waiting > 4 * FIRST_LINE.len() {
                splitter.line(done..done + 4 * FIRST_LINE.len())?;
            }
            if waiting > LONGEST_LINE {
                splitter.number += 1;
                let message = format!("a line of more than {LONGEST_LINE} bytes");
                return Err(splitter.refuse(b"", message, AGAIN).into());
            }
            if ends {
                let end = splitter.sections.text.len();
                splitter.line(done..end)?;
                return Ok(splitter.end()?);
            }
        }
    }

    pub(super) fn lines(&self, name: &str) -> impl Iterator<Item = Line<'_>> {
        let lines = self.sections.get(name).into_iter().flat_map(|section| &section.lines);
        lines.map(|(n, range)| (*n, &self.text[range.clone()]))
    }
}

/// Takes a listing apart line by line.
#[derive(Default)]
struct Splitter<'a> {
    file: &'a str,
    sections: Sections,
    /// The number of the line at hand.
    number: usize,
    /// The section that is open.
    open: Option<String>,
    complete: bool,
    /// The last line that is not empty.
    last: (usize, Range<usize>),
}

impl Splitter<'_> {
    fn refuse(&self, line: &[u8], message: String, remedy: &str) -> Refused {
        in_line(self.file, self.number, 1, line, message, remedy)
    }

    fn line(&mut self, mut range: Range<usize>) -> Result<(), Refused> {
        self.number += 1;
        let n = self.number;
        // A copy through another system may have changed the line ends.
        if self.sections.text[range.clone()].ends_with(b"\r") {
            range.end -= 1;
        }
        let line = &self.sections.text[range.clone()];
        let refuse = |message: String, remedy: &str| Err(self.refuse(line, message, remedy));
        if n == 1 {
            if line == FIRST_LINE.as_bytes() {
                self.last = (1, range);
                return Ok(());
            }
            return match line.strip_prefix(b"tarvek-listing ") {
                Some(version) => {
                    let ends = |b: &u8| b.is_ascii_whitespace() || b.is_ascii_control();
                    let word =
                        &version[..version.iter().position(ends).unwrap_or(version.len()).min(20)];
                    let (message, remedy) = if word == b"1" {
                        // What follows may be the whole listing, which is no part of a message.
                        let message = "something follows the version in the first line";
                        (message.to_owned(), "copy it as text, so that its lines end as they did")
                    } else {
                        let message = format!(
                            "a listing of version {}; this Tarvek reads version 1",
                            shown(word)
                        );
                        (message, "collect it with this Tarvek's collector")
                    };
                    Err(self.refuse(b"", message, remedy))
                }
                None => {
                    refuse("this is no listing".into(), "a listing starts with: tarvek-listing 1")
                }
            };
        }
        if line.is_empty() {
            return Ok(());
        }
        if self.complete {
            return refuse(
                "there is more after the end of the listing".into(),
                "give one listing per file",
            );
        }
        if let Some(name) = &self.open {
            if line.starts_with(b"|") {
                let section = self.sections.sections.get_mut(name).expect("it was opened");
                section.lines.push((n, range.start + 1..range.end));
            } else if line == format!("end {name}").as_bytes() {
                self.open = None;
            } else {
                let name = shown(name.as_bytes());
                return refuse(
                    format!("a line that does not belong into the section {name}"),
                    AGAIN,
                );
            }
            self.last = (n, range);
            return Ok(());
        }
        let text = String::from_utf8_lossy(line);
        let mut words = text.split_ascii_whitespace();
        match words.next() {
            None => {}
            Some("complete") => self.complete = true,
            Some("section") => {
                let name = words.next().unwrap_or_default().to_owned();
                let columns = words.map(str::to_owned).collect();
                let section = Section { columns, start: n, lines: Vec::new() };
                if self.sections.sections.contains_key(&name) {
                    return refuse(
                        format!("a second section {}", shown(name.as_bytes())),
                        "give one listing per file",
                    );
                }
                self.sections.sections.insert(name.clone(), section);
                self.open = Some(name);
            }
            Some(key) if key.bytes().all(|b| b.is_ascii_lowercase() || b == b'_') => {
                // Other blanks are part of a name, and are shown there.
                let value = text[key.len()..].trim_ascii();
                let value = String::from_utf8_lossy(&unescape(value.as_bytes())).into_owned();
                if self.sections.headers.contains_key(key) {
                    return refuse(
                        format!("a second line {}", shown(key.as_bytes())),
                        "give one listing per file",
                    );
                }
                let key = key.to_owned();
                self.sections.headers.insert(key, (n, value));
            }
            Some(_) => return refuse("a line that is no part of a listing".into(), AGAIN),
        }
        self.last = (n, range);
        Ok(())
    }

    fn end(self) -> Result<Sections, Refused> {
        if self.complete {
            return Ok(self.sections);
        }
        let place = match &self.open {
            Some(name) => format!(" in the section {}", shown(name.as_bytes())),
            None => String::new(),
        };
        let (number, range) = self.last;
        let message = format!("the listing is cut off after this line{place}");
        Err(in_line(self.file, number, 1, &self.sections.text[range], message, AGAIN))
    }
}
