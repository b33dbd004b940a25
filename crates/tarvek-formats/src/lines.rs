//! Line and column of byte offsets.

use std::ops::Range;

use tarvek_core::words::terms::Origin;

/// Line and column of byte offsets.
pub(crate) struct Lines<'a> {
    pub(crate) text: &'a str,
    pub(crate) starts: Vec<usize>,
    /// How many characters begin before each block of [`BLOCK`] bytes, so that a long line is not
    /// counted again for each place.
    blocks: Vec<usize>,
}

const BLOCK: usize = 4096;

impl<'a> Lines<'a> {
    pub(crate) fn of(text: &'a str) -> Self {
        let starts =
            std::iter::once(0).chain(text.match_indices('\n').map(|(at, _)| at + 1)).collect();
        let mut blocks = Vec::with_capacity(text.len() / BLOCK + 1);
        let mut count = 0;
        for block in text.as_bytes().chunks(BLOCK) {
            blocks.push(count);
            count += characters(block);
        }
        blocks.push(count);
        Self { text, starts, blocks }
    }

    /// A line by its number from 1, without its end.
    pub(crate) fn line(&self, number: usize) -> &'a str {
        let start = self.starts.get(number - 1).copied().unwrap_or(self.text.len());
        let end = self.starts.get(number).map_or(self.text.len(), |next| next - 1);
        self.text[start..end].trim_end_matches('\r')
    }

    /// How many characters begin before a byte.
    fn before(&self, at: usize) -> usize {
        let block = at / BLOCK;
        self.blocks[block] + characters(&self.text.as_bytes()[block * BLOCK..at])
    }

    /// How many characters there are between two bytes.
    pub(crate) fn characters(&self, span: Range<usize>) -> usize {
        self.before(span.end) - self.before(span.start)
    }

    /// The byte where a place begins.
    pub(crate) fn offset(&self, origin: Origin) -> usize {
        let start = self.starts.get((origin.line.max(1) - 1) as usize).copied().unwrap_or(0);
        let line = &self.text[start..];
        let skip = (origin.column.max(1) - 1) as usize;
        start + line.char_indices().nth(skip).map_or(0, |(at, _)| at)
    }

    pub(crate) fn origin(&self, span: &Range<usize>) -> Origin {
        let at = span.start.min(self.text.len());
        let line = self.starts.partition_point(|start| *start <= at);
        let column = self.characters(self.starts[line - 1]..at) + 1;
        Origin { line: line as u32, column: column as u32 }
    }
}

/// How many characters of UTF-8 begin in some bytes.
fn characters(bytes: &[u8]) -> usize {
    bytes.iter().filter(|&&byte| byte & 0xc0 != 0x80).count()
}
