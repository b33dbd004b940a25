//! From a source to the sections of a listing, line by line, as far as it is one.

use std::borrow::Cow;
use std::collections::HashMap;
use std::io::Read;

use tarvek_core::words::text::shown;

use super::unread::{AGAIN, FIRST_LINE, LONGEST_PATH, Unread};
use crate::escape::unescape;
use crate::mistake::{Refused, in_line};

/// A line with its number.
pub(super) type Line<'a> = (usize, Cow<'a, [u8]>);

/// The lines of a section. Of one whose lines end with paths, the folder of lines that follow each
/// other stands once: it is most of what they say.
#[derive(Default)]
pub(super) struct Section {
    pub(super) columns: Vec<String>,
    pub(super) start: usize,
    /// What the lines have for themselves.
    text: Vec<u8>,
    lines: Vec<Stored>,
    /// Folders up to their last slash, and where each ends.
    folders: Vec<u8>,
    folder_ends: Vec<u32>,
}

struct Stored {
    number: u32,
    /// Where its own text ends.
    end: u32,
    /// How much of that stands before the folder, and which one that is; `u32::MAX` of none.
    before: u32,
    folder: u32,
}

impl Section {
    fn push(&mut self, number: usize, line: &[u8], ends_with_path: bool) -> Option<()> {
        let slash = line.iter().rposition(|&b| b == b'/');
        let (mut before, mut folder) = (0, u32::MAX);
        let path = slash.filter(|_| ends_with_path).zip(line.windows(2).position(|w| w == b" /"));
        if let Some((slash, blank)) = path {
            let (head, rest) = line.split_at(blank + 1);
            let (own, name) = rest.split_at(slash - blank);
            let count = self.folder_ends.len();
            if count == 0 || self.folder(count - 1) != own {
                self.folders.extend_from_slice(own);
                self.folder_ends.push(u32::try_from(self.folders.len()).ok()?);
            }
            folder = u32::try_from(self.folder_ends.len() - 1).ok()?;
            before = u32::try_from(head.len()).ok()?;
            self.text.extend_from_slice(head);
            self.text.extend_from_slice(name);
        } else {
            self.text.extend_from_slice(line);
        }
        let (number, end) = (u32::try_from(number).ok()?, u32::try_from(self.text.len()).ok()?);
        self.lines.push(Stored { number, end, before, folder });
        Some(())
    }

    fn folder(&self, index: usize) -> &[u8] {
        let start = index.checked_sub(1).map_or(0, |before| self.folder_ends[before] as usize);
        &self.folders[start..self.folder_ends[index] as usize]
    }

    /// How many lines it has.
    pub(super) fn len(&self) -> usize {
        self.lines.len()
    }

    fn own(&self, index: usize) -> &[u8] {
        let start = index.checked_sub(1).map_or(0, |before| self.lines[before].end as usize);
        &self.text[start..self.lines[index].end as usize]
    }

    /// Whether a line begins with a mark that has no path in it.
    pub(super) fn begins_with(&self, index: usize, mark: &[u8]) -> bool {
        self.own(index).starts_with(mark)
    }

    /// A line that ends with a path, in its parts: which folder that is in, what stands before it,
    /// and the name.
    pub(super) fn split(&self, index: usize) -> Option<(u32, &[u8], &[u8])> {
        let Stored { before, folder, .. } = self.lines[index];
        let (head, name) = self.own(index).split_at(before as usize);
        (folder != u32::MAX).then_some((folder, head, name))
    }

    /// One of its lines, as it was written.
    pub(super) fn line(&self, index: usize) -> Line<'_> {
        let Stored { number, before, folder, .. } = self.lines[index];
        let own = self.own(index);
        let text = match folder {
            u32::MAX => Cow::Borrowed(own),
            folder => {
                let (head, name) = own.split_at(before as usize);
                Cow::Owned([head, self.folder(folder as usize), name].concat())
            }
        };
        (number as usize, text)
    }
}

#[derive(Default)]
pub(super) struct Sections {
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
        // What was taken and not split yet.
        let (mut waiting, mut taken) = (Vec::new(), 0);
        loop {
            let count = source.by_ref().take(CHUNK as u64).read_to_end(&mut waiting);
            let count = count.map_err(Unread::Broken)?;
            let begins = taken == 0;
            taken += count as u64;
            if taken > most.min(u64::from(u32::MAX)) {
                return Err(Unread::TooLong(most.min(u64::from(u32::MAX))));
            }
            let mut done = 0;
            if begins && waiting.starts_with(b"\xef\xbb\xbf") {
                done = 3;
            }
            while let Some(length) = waiting[done..].iter().position(|&b| b == b'\n') {
                splitter.line(&waiting[done..done + length])?;
                done += length + 1;
            }
            waiting.drain(..done);
            if splitter.number == 0 && waiting.len() > 4 * FIRST_LINE.len() {
                splitter.line(&waiting[..4 * FIRST_LINE.len()])?;
            }
            if waiting.len() > LONGEST_LINE {
                splitter.number += 1;
                let message = format!("a line of more than {LONGEST_LINE} bytes");
                return Err(splitter.refuse(b"", message, AGAIN).into());
            }
            if count == 0 {
                splitter.line(&waiting)?;
                return Ok(splitter.end()?);
            }
        }
    }

    pub(super) fn lines(&self, name: &str) -> impl Iterator<Item = Line<'_>> {
        let section = self.sections.get(name).into_iter();
        section.flat_map(|section| (0..section.len()).map(|index| section.line(index)))
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
    last: (usize, Vec<u8>),
}

impl Splitter<'_> {
    fn refuse(&self, line: &[u8], message: String, remedy: &str) -> Refused {
        in_line(self.file, self.number, 1, line, message, remedy)
    }

    fn line(&mut self, line: &[u8]) -> Result<(), Refused> {
        self.number += 1;
        let n = self.number;
        // A copy through another system may have changed the line ends.
        let line = line.strip_suffix(b"\r").unwrap_or(line);
        let refuse = |message: String, remedy: &str| Err(self.refuse(line, message, remedy));
        if n == 1 {
            if line == FIRST_LINE.as_bytes() {
                self.note(line);
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
                let pushed = section.push(n, &line[1..], name == "tree");
                pushed.expect("there are less than 2^32 bytes of it");
            } else if line == format!("end {name}").as_bytes() {
                self.open = None;
            } else {
                let name = shown(name.as_bytes());
                return refuse(
                    format!("a line that does not belong into the section {name}"),
                    AGAIN,
                );
            }
            self.note(line);
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
                let section = Section { columns, start: n, ..Section::default() };
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
        self.note(line);
        Ok(())
    }

    /// Notes the line at hand as the last one.
    fn note(&mut self, line: &[u8]) {
        self.last.0 = self.number;
        self.last.1.clear();
        self.last.1.extend_from_slice(line);
    }

    fn end(self) -> Result<Sections, Refused> {
        if self.complete {
            return Ok(self.sections);
        }
        let place = match &self.open {
            Some(name) => format!(" in the section {}", shown(name.as_bytes())),
            None => String::new(),
        };
        let (number, last) = self.last;
        let message = format!("the listing is cut off after this line{place}");
        Err(in_line(self.file, number, 1, &last, message, AGAIN))
    }
}
