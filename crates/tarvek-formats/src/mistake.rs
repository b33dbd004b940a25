//! A mistake in a file that somebody wrote: where, what, and what would be right.

use std::collections::HashSet;
use std::fmt;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::ops::Range;

use tarvek_core::words::secret;

use crate::lines::Lines;

/// One mistake, with the line it is in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mistake {
    /// From 1.
    pub line: usize,
    /// From 1, in characters.
    pub column: usize,
    /// How many characters of the line are meant.
    pub width: usize,
    /// The line itself, secrets hidden.
    pub excerpt: String,
    /// What is wrong.
    pub message: String,
    /// What would be right.
    pub remedy: Option<String>,
}

/// A file that can't be used, with everything that is wrong with it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Refused {
    /// The file's name as it was given.
    pub file: String,
    /// In the order of the file; at least one.
    pub mistakes: Vec<Mistake>,
    /// How many more there are.
    pub more: usize,
}

impl Refused {
    /// A file at which a reader failed by a fault of its own.
    pub(crate) fn by_a_fault(file: &str, fault: &str) -> Self {
        let mut mistakes = Mistakes::new("");
        let message = format!("it can't be read, by a fault of Tarvek: {}", secret::hide(fault));
        mistakes.add(0..0, message, Some("report it, with the file if it may be seen".to_owned()));
        mistakes.into_refused(file)
    }
}

impl fmt::Display for Refused {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (n, m) in self.mistakes.iter().enumerate() {
            let end = if n + 1 < self.mistakes.len() { "\n" } else { "" };
            write!(f, "{}:{}:{}: {}{end}", self.file, m.line, m.column, m.message)?;
        }
        Ok(())
    }
}

impl std::error::Error for Refused {}

/// The longest part of a line that is kept, in characters.
const EXCERPT: usize = 400;

/// The longest message and remedy that are kept, in characters.
const MESSAGE: usize = 400;

/// More mistakes than these are counted only.
pub const MOST: usize = 1000;

/// Collects mistakes in a text.
#[derive(Debug)]
pub(crate) struct Mistakes<'a> {
    text: &'a str,
    found: Vec<Found>,
    known: HashSet<(usize, u64)>,
    /// More are counted only.
    most: usize,
    more: usize,
}

#[derive(Debug)]
struct Found {
    span: Range<usize>,
    message: String,
    remedy: Option<String>,
}

impl<'a> Mistakes<'a> {
    pub(crate) fn new(text: &'a str) -> Self {
        Self { text, found: Vec::new(), known: HashSet::new(), most: MOST, more: 0 }
    }

    /// As [`Mistakes::new`], for a program that goes through all of them.
    pub(crate) fn all(text: &'a str) -> Self {
        Self { most: usize::MAX, ..Self::new(text) }
    }

    /// Where each begins, and what it is, in the order of the file.
    pub(crate) fn into_places(mut self) -> Vec<(usize, String)> {
        self.found.sort_by_key(|found| found.span.start);
        self.found
            .into_iter()
            .map(|found| (found.span.start, shortened_message(&found.message)))
            .collect()
    }

    /// Notes a mistake at a byte range of the text.
    pub(crate) fn add(
        &mut self,
        span: Range<usize>,
        message: impl Into<String>,
        remedy: Option<String>,
    ) {
        self.add_with(span, || message.into(), || remedy);
    }

    /// Notes a mistake whose words take some search; of those that are only counted nobody asks.
    pub(crate) fn add_with(
        &mut self,
        span: Range<usize>,
        message: impl FnOnce() -> String,
        remedy: impl FnOnce() -> Option<String>,
    ) {
        if self.is_full() {
            self.more += 1;
            return;
        }
        let message = message();
        let mut hasher = DefaultHasher::new();
        message.hash(&mut hasher);
        if self.known.insert((span.start, hasher.finish())) {
            self.found.push(Found { span, message, remedy: remedy() });
        }
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.found.is_empty()
    }

    /// Whether what follows is counted only.
    pub(crate) fn is_full(&self) -> bool {
        self.found.len() >= self.most
    }

    /// The mistakes in the order of the file.
    pub(crate) fn into_refused(mut self, file: &str) -> Refused {
        self.found.sort_by_key(|found| found.span.start);
        let lines = Lines::of(self.text);
        // A secret may go over several lines; hidden or not, there are as many of them.
        let hidden = secret::hide(self.text);
        let hidden = Lines::of(&hidden);
        let mistakes = self.found.into_iter().map(|found| at(&lines, &hidden, found)).collect();
        Refused { file: file.to_owned(), mistakes, more: self.more }
    }
}

/// A mistake at a byte range of a text.
fn at(lines: &Lines, hidden: &Lines, Found { span, message, remedy }: Found) -> Mistake {
    let text = lines.text;
    let start = floor(text, span.start.min(text.len()));
    let line = lines.starts.partition_point(|first| *first <= start);
    let line_start = lines.starts[line - 1];
    let line_end = lines.starts.get(line).map_or(text.len(), |next| next - 1);
    let end = floor(text, span.end.clamp(start, line_end));
    let column = lines.characters(line_start..start) + 1;
    Mistake {
        line,
        column,
        width: lines.characters(start..end).max(1),
        excerpt: excerpt(hidden.line(line), column),
        message: shortened_message(&message),
        remedy: remedy.as_deref().map(shortened_message),
    }
}

/// A message quotes what somebody wrote: without secrets, and not at any length.
fn shortened_message(message: &str) -> String {
    let hidden = secret::hide(message);
    match hidden.char_indices().nth(MESSAGE) {
        None => hidden,
        Some((cut, _)) => format!("{}…", &hidden[..cut]),
    }
}

/// A very long line is cut after what matters; where that stands far to the right, the line is left
/// out.
fn excerpt(line: &str, column: usize) -> String {
    match line.char_indices().nth(EXCERPT) {
        None => line.to_owned(),
        Some((cut, _)) if column <= EXCERPT => format!("{}…", &line[..cut]),
        Some(_) => String::new(),
    }
}

fn floor(text: &str, mut at: usize) -> usize {
    while !text.is_char_boundary(at) {
        at -= 1;
    }
    at
}

/// A file with one mistake, in a line that may hold any bytes. `column` counts bytes, from 1.
pub(crate) fn in_line(
    file: &str,
    line: usize,
    column: usize,
    text: &[u8],
    message: String,
    remedy: &str,
) -> Refused {
    let shown = tarvek_core::words::text::shown(text);
    let mistake = Mistake {
        line,
        column,
        width: 1,
        excerpt: secret::hide(&excerpt(&shown, column)),
        message: shortened_message(&message),
        remedy: Some(remedy.to_owned()),
    };
    Refused { file: file.to_owned(), mistakes: vec![mistake], more: 0 }
}
