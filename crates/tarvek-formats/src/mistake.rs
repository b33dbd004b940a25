//! A mistake in a file that somebody wrote: where, what, and what would be right.

use std::fmt;
use std::ops::Range;

use tarvek_core::words::secret;

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

/// The longest part of a line that is kept.
const EXCERPT: usize = 400;

/// Collects mistakes in a text.
#[derive(Debug)]
pub(crate) struct Mistakes<'a> {
    text: &'a str,
    found: Vec<(usize, Mistake)>,
}

impl<'a> Mistakes<'a> {
    pub(crate) fn new(text: &'a str) -> Self {
        Self { text, found: Vec::new() }
    }

    /// Notes a mistake at a byte range of the text.
    pub(crate) fn add(
        &mut self,
        span: Range<usize>,
        message: impl Into<String>,
        remedy: Option<String>,
    ) {
        let mistake = at(self.text, span.clone(), message.into(), remedy);
        if !self.found.iter().any(|(_, known)| *known == mistake) {
            self.found.push((span.start, mistake));
        }
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.found.is_empty()
    }

    /// The mistakes in the order of the file.
    pub(crate) fn into_refused(mut self, file: &str) -> Refused {
        self.found.sort_by_key(|(start, _)| *start);
        let mistakes = self.found.into_iter().map(|(_, mistake)| mistake).collect();
        Refused { file: file.to_owned(), mistakes }
    }
}

/// A mistake at a byte range of a text.
pub(crate) fn at(
    text: &str,
    span: Range<usize>,
    message: String,
    remedy: Option<String>,
) -> Mistake {
    let start = floor(text, span.start.min(text.len()));
    let line_start = text[..start].rfind('\n').map_or(0, |end| end + 1);
    let line_end = text[start..].find('\n').map_or(text.len(), |length| start + length);
    let end = floor(text, span.end.clamp(start, line_end));
    let line = text[line_start..line_end].trim_end_matches('\r');
    let column = text[line_start..start].chars().count() + 1;
    Mistake {
        line: text[..line_start].matches('\n').count() + 1,
        column,
        width: text[start..end].chars().count().max(1),
        excerpt: secret::hide(&excerpt(line, column)),
        message,
        remedy,
    }
}

/// A very long line is cut after what matters; where that stands far to the right, the line is left out.
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
        message,
        remedy: Some(remedy.to_owned()),
    };
    Refused { file: file.to_owned(), mistakes: vec![mistake] }
}
