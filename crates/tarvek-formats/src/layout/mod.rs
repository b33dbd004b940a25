//! The layout file: read with positions, checked against its schema, then validated into the core's
//! types.
//!
//! One definition, `raw.rs`, makes the schema, finds wrong keys and types through it, receives what
//! is left, and is what is written. That way a layout's mistakes are all reported at once, whatever
//! their sort.

pub mod document;
pub mod extend;
mod names;
mod ranges;
pub(crate) mod raw;
mod to_raw;
pub(crate) mod validate;
mod write;

use tarvek_core::layout::site::Layout;
use tarvek_core::words::grammar::Text;
use tarvek_core::words::text::shown;

use std::sync::OnceLock;

use crate::guard::refusing;
use crate::mistake::{Mistakes, Refused};
use crate::read_toml::read_toml;
use crate::structure::{Form, Structure};

pub use write::write;

/// A layout larger than this is some other file.
pub const MOST_BYTES: usize = 8 << 20;

/// The JSON Schema of the layout file.
pub fn schema() -> serde_json::Value {
    structure().schema.clone()
}

fn structure() -> &'static Structure {
    static STRUCTURE: OnceLock<Structure> = OnceLock::new();
    STRUCTURE.get_or_init(Structure::of::<raw::Raw>)
}

pub(crate) const FORM: Form =
    Form { structure, called: "layout", version: "tarvek", text: text_of_key, missing };

fn text_of_key(key: &str) -> Text {
    match key {
        "why" => Text::Lines,
        "from" | "to" | "at" | "path" | "roots" | "partial" | "done" | "reads" | "files_into"
        | "config" | "where" | "below" => Text::Path,
        _ => Text::Line,
    }
}

fn missing(name: &str, table: Option<&str>) -> String {
    match name {
        "tarvek" => "start the file with: tarvek = 1".to_owned(),
        "site" => "name the site: site = \"Kestrel Hollow\"".to_owned(),
        "roots" => "roots = [\"/folder/as/the/service/sees/it\"]".to_owned(),
        "role" if table == Some("host") => "add role; it may be storage, apps, client".to_owned(),
        "role" => "add role; it may be serve, fetch, sort".to_owned(),
        "kind" => "add kind; it may be films, series, music, photos, books, home-video".to_owned(),
        "protocol" => "add protocol; it may be nfs, smb, disk, bind".to_owned(),
        name => format!("add {name} = …"),
    }
}

/// Reads a layout.
///
/// # Errors
/// Everything that is wrong with it.
pub fn read(file: &str, bytes: &[u8]) -> Result<Layout, Refused> {
    refusing(file, || read_unguarded(file, bytes))
}

fn read_unguarded(file: &str, bytes: &[u8]) -> Result<Layout, Refused> {
    let text = text_of(file, "layout", bytes)?;
    let mut mistakes = Mistakes::new(text);
    let raw = read_toml(&FORM, text, &mut mistakes);
    let layout = validate::layout(text, raw, &mut mistakes);
    if mistakes.is_empty() { Ok(layout) } else { Err(mistakes.into_refused(file)) }
}

/// Every mistake in the text of a layout, however many there are: where it begins, and what it is.
pub(crate) fn mistakes_in(text: &str) -> Vec<(usize, String)> {
    let mut mistakes = Mistakes::all(text);
    let raw = read_toml(&FORM, text, &mut mistakes);
    validate::layout(text, raw, &mut mistakes);
    mistakes.into_places()
}

/// The text of a file that is a layout or a brief, if it can be one.
pub(crate) fn text_of<'a>(file: &str, called: &str, bytes: &'a [u8]) -> Result<&'a str, Refused> {
    let refuse = |upto: &str, message: String, remedy: &str| {
        let mut mistakes = Mistakes::new(upto);
        mistakes.add(upto.len()..upto.len(), message, Some(remedy.to_owned()));
        Err(mistakes.into_refused(file))
    };
    let (what, first) = match called {
        "layout" => ("the TOML file that describes the site", "tarvek = 1"),
        _ => ("the TOML file that says what is wanted", "brief = 1"),
    };
    let other = format!("give {what}; `tarvek schema {called}` says what it may hold");
    if bytes.len() > MOST_BYTES {
        let message = format!("{} MiB is too large for a {called}", bytes.len() >> 20);
        return refuse("", message, &other);
    }
    let bytes = bytes.strip_prefix(b"\xef\xbb\xbf").unwrap_or(bytes);
    if bytes.iter().all(u8::is_ascii_whitespace) {
        return refuse("", format!("the {called} is empty"), &format!("start with: {first}"));
    }
    let chunk = bytes.utf8_chunks().next().expect("not empty");
    if let Some(nul) = chunk.valid().find('\0') {
        return refuse(&chunk.valid()[..nul], "a NUL byte: this is no text file".into(), &other);
    }
    if !chunk.invalid().is_empty() {
        let message = format!("the bytes {} are no UTF-8", shown(chunk.invalid()));
        return refuse(chunk.valid(), message, &format!("save the {called} as UTF-8"));
    }
    Ok(chunk.valid())
}
