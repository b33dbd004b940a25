//! Tables for spreadsheets (RFC 4180): the one quoting of this way out.

use tarvek_core::words::path::AbsPath;

use super::json::{exact, lossy};

/// One cell.
#[derive(Clone, Debug)]
pub(crate) enum Cell<'a> {
    Text(String),
    /// A whole number. Spreadsheets keep fifteen digits; what has more is text to them.
    Number(u64),
    /// A path as it is; what is no UTF-8 is replaced.
    Path(&'a AbsPath),
    /// The same in base64 where it is no UTF-8, else empty.
    Bytes(&'a AbsPath),
}

/// The least number of sixteen digits.
const MOST_EXACT: u64 = 1_000_000_000_000_000;

/// A table with its header, in UTF-8, lines ended as the RFC says. No cell is a formula to anybody,
/// and no number is rounded: what could be gets an apostrophe in front, which spreadsheets take for
/// a sign of text.
pub(crate) fn text<'a>(header: &[&str], rows: impl IntoIterator<Item = Vec<Cell<'a>>>) -> Vec<u8> {
    let mut table =
        csv::WriterBuilder::new().terminator(csv::Terminator::CRLF).from_writer(Vec::new());
    let all = "a table in memory takes every row";
    table.write_record(header).expect(all);
    for row in rows {
        table.write_record(row.into_iter().map(Cell::text)).expect(all);
    }
    table.into_inner().expect(all)
}

impl Cell<'_> {
    fn text(self) -> String {
        match self {
            Self::Text(text) if is_number(&text) => format!("'{text}"),
            Self::Text(text) => plain(text),
            Self::Number(number) if number >= MOST_EXACT => format!("'{number}"),
            Self::Number(number) => number.to_string(),
            Self::Path(path) => plain(lossy(path)),
            Self::Bytes(path) => exact(path).unwrap_or_default(),
        }
    }
}

fn plain(text: String) -> String {
    let formula = text.starts_with(['=', '+', '-', '@', '\t', '\r', '\'']);
    if formula { format!("'{text}") } else { text }
}

/// Text that a spreadsheet would read as a number, and write in its own way.
fn is_number(text: &str) -> bool {
    text.trim().parse::<f64>().is_ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_cell_is_a_formula_or_breaks_a_row() {
        let path = AbsPath::new(b"/a,b \"c\"\n/d").unwrap();
        let cells = vec![Cell::Text("=1+1".into()), Cell::Path(&path), Cell::Bytes(&path)];
        let text = text(&["a", "b", "c"], [cells]);
        let want = "a,b,c\r\n'=1+1,\"/a,b \"\"c\"\"\n/d\",\r\n";
        assert_eq!(String::from_utf8(text).unwrap(), want);
        let cells = ["12e5", "0012", "nan", "12 e5", "'x"].map(|text| Cell::Text(text.into()));
        let cells = cells.into_iter().chain([Cell::Number(12), Cell::Number(u64::MAX)]);
        let text = super::text(&["a"; 7], [cells.collect()]);
        let row = "'12e5,'0012,'nan,12 e5,''x,12,'18446744073709551615\r\n";
        assert_eq!(String::from_utf8(text).unwrap(), format!("a,a,a,a,a,a,a\r\n{row}"));
    }
}
