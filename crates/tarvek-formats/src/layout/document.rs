//! The layout's file as a TOML document: where its parts stand, and edits of them that leave
//! everything else as it is.

use std::collections::BTreeMap;
use std::fmt;
use std::ops::Range;

use tarvek_core::layout::address::{Address, Segment};
use tarvek_core::layout::site::Layout;
use tarvek_core::words::name::Name;
use tarvek_core::words::part::{MappedInto, Part};
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::remedy::{Change, Edit};
use tarvek_core::words::secret;
use tarvek_core::words::value;
use toml_edit::{
    Array, ArrayOfTables, Decor, Document, DocumentMut, InlineTable, Item, Key, TableLike, Value,
};

use crate::lines::Lines;

/// A document of which every part is found by its place.
pub(super) struct Parts {
    /// Where each begins and ends; an outer one begins before those in it.
    by_start: BTreeMap<usize, (usize, Part)>,
}

impl Parts {
    /// Of a text that is TOML; of another there are none.
    pub(super) fn of(text: &str) -> Self {
        let mut parts = Self { by_start: BTreeMap::new() };
        let Ok(document) = Document::parse(text) else { return parts };
        for (host, key, item, table) in tables(document.get("host")) {
            parts.add_table(key, item, Part::Host(host.clone()));
            for (name, span) in items(table.get("datasets"), "name") {
                parts.add(span, Part::Dataset { host: host.clone(), name });
            }
            for (to, span) in items(table.get("map"), "to") {
                parts.add(span, Part::Mapping { of: MappedInto::Host(host.clone()), to });
            }
            for (name, span) in keys(table.get("accounts")) {
                parts.add(span, Part::Account { host: host.clone(), name });
            }
            for (name, span) in keys(table.get("groups")) {
                parts.add(span, Part::Group { host: host.clone(), name });
            }
        }
        for (share, key, item, table) in tables(document.get("share")) {
            parts.add_table(key, item, Part::Share(share.clone()));
            for (clients, span) in items(table.get("nfs"), "clients") {
                parts.add(span, Part::Export { share: share.clone(), clients });
            }
            if let Some(smb) = table.get("smb").and_then(Item::span) {
                parts.add(smb, Part::SmbOffer(share));
            }
        }
        for (service, key, item, table) in tables(document.get("service")) {
            parts.add_table(key, item, Part::Service(service.clone()));
            for (to, span) in items(table.get("map"), "to") {
                parts.add(span, Part::mapping(&service, &to));
            }
            let ports = table.get("ports").and_then(Item::as_array).into_iter().flatten();
            for port in ports {
                let written = port.as_str().unwrap_or_default().into();
                let part = Part::Port { service: service.clone(), port: written };
                port.span().into_iter().for_each(|span| parts.add(span, part.clone()));
            }
        }
        for (intake, key, item, _) in tables(document.get("intake")) {
            parts.add_table(key, item, Part::Intake(intake));
        }
        for (table, span) in array(document.get("mount")) {
            let host = text_of(table, "host");
            let at = text_of(table, "at");
            parts.add(span.start..usize::MAX, Part::mount(&host, &path_of(&at)));
        }
        for (table, span) in array(document.get("folder")) {
            let host = text_of(table, "host");
            let path = text_of(table, "path");
            parts.add(span.start..usize::MAX, Part::folder(&host, &path_of(&path)));
        }
        parts
    }

    fn add(&mut self, span: Range<usize>, part: Part) {
        self.by_start.insert(span.start, (span.end, part));
    }

    /// A table by its head, which goes on up to the next one, or by its key where it has no head of
    /// its own.
    fn add_table(&mut self, key: &Key, item: &Item, part: Part) {
        let head = item.span().map(|span| span.start);
        if let Some(start) = key.span().map(|span| span.start).into_iter().chain(head).min() {
            self.add(start..usize::MAX, part);
        }
    }

    /// The innermost part at a byte of the text.
    pub(super) fn at(&self, byte: usize) -> Option<&Part> {
        let before = self.by_start.range(..=byte).rev();
        before.map(|(_, found)| found).find(|(end, _)| byte < *end).map(|(_, part)| part)
    }
}

fn path_of(written: &Name) -> AbsPath {
    AbsPath::of_client(written.raw().as_bytes()).unwrap_or_else(|_| AbsPath::root())
}

fn text_of(table: &dyn TableLike, key: &str) -> Name {
    table.get(key).and_then(Item::as_str).unwrap_or_default().into()
}

/// The tables of a table, by name.
fn tables(item: Option<&Item>) -> impl Iterator<Item = (Name, &Key, &Item, &dyn TableLike)> {
    let all = item.and_then(Item::as_table_like);
    all.into_iter().flat_map(|all| {
        all.iter().filter_map(|(name, item)| {
            Some((name.into(), all.key(name)?, item, item.as_table_like()?))
        })
    })
}

/// The keys of a table, each with its span up to the end of its value.
fn keys(item: Option<&Item>) -> Vec<(Name, Range<usize>)> {
    let Some(all) = item.and_then(Item::as_table_like) else { return Vec::new() };
    let one = |(name, item): (&str, &Item)| {
        let start = all.key(name)?.span()?.start;
        Some((name.into(), start..item.span()?.end))
    };
    all.iter().filter_map(one).collect()
}

/// The tables of an array, each by what one of its keys says.
fn items(item: Option<&Item>, key: &str) -> Vec<(Name, Range<usize>)> {
    array(item).map(|(table, span)| (text_of(table, key), span)).collect()
}

/// The tables of an array, however it is written.
fn array(item: Option<&Item>) -> impl Iterator<Item = (&dyn TableLike, Range<usize>)> {
    let inline = item.and_then(Item::as_array).into_iter().flatten();
    let inline = inline
        .filter_map(|value| Some((value.as_inline_table()? as &dyn TableLike, value.span()?)));
    let headed = item.and_then(Item::as_array_of_tables).into_iter().flatten();
    inline.chain(headed.filter_map(|table| Some((table as &dyn TableLike, table.span()?))))
}

/// What a file says where an edit is to be made.
#[derive(Debug)]
pub struct Edited {
    /// The way through the document: `service.lantern.map[0].access`.
    pub path: String,
    /// The line of what is edited; of what is not there yet, that of what it is added to.
    pub line: u32,
    /// What stands there, if anything; without secrets.
    pub now: Option<serde_json::Value>,
}

/// The text of a layout, in which edits are looked up.
pub struct LayoutDocument<'a> {
    layout: &'a Layout,
    document: Option<Document<&'a str>>,
    lines: Lines<'a>,
}

impl<'a> LayoutDocument<'a> {
    /// Of a layout's text. In one that is no TOML nothing is found.
    pub fn new(text: &'a str, layout: &'a Layout) -> Self {
        Self { layout, document: Document::parse(text).ok(), lines: Lines::of(text) }
    }

    /// The layout that the text is.
    pub fn layout(&self) -> &Layout {
        self.layout
    }

    /// Looks up what an edit is about; `None` if the layout has no such part, or several.
    pub fn find_edited(&self, edit: &Edit) -> Option<Edited> {
        let address = address_of(self.layout, edit)?;
        let mut at = Some(self.document.as_ref()?.as_item());
        let mut line = address.line;
        for segment in &address.segments {
            let key = match segment {
                Segment::Key(key) => {
                    at.and_then(Item::as_table_like).and_then(|table| table.key(key)?.span())
                }
                Segment::Index(_) => None,
            };
            at = at.and_then(|item| step_into(item, segment));
            if let Some(span) = key.or_else(|| at.and_then(Item::span)) {
                line = self.lines.origin(&span).line;
            }
        }
        let now = at.map(|item| without_secrets(to_json(item)));
        Some(Edited { path: written(&address.segments), line, now })
    }
}

/// The address of what an edit changes: the key of its part.
fn address_of(layout: &Layout, edit: &Edit) -> Option<Address> {
    let mut address = layout.address(&edit.part)?;
    if !edit.key.is_empty() {
        address.segments.push(Segment::Key(edit.key.to_owned()));
    }
    Some(address)
}

/// A way through a document in the notation of TOML, with numbers in brackets.
fn written(segments: &[Segment]) -> String {
    let mut text = String::new();
    for segment in segments {
        match segment {
            Segment::Key(key) => {
                let dot = if text.is_empty() { "" } else { "." };
                text += &format!("{dot}{}", Key::new(key).display_repr());
            }
            Segment::Index(at) => text += &format!("[{at}]"),
        }
    }
    text
}

/// A value of an edit as JSON.
pub fn json_of(value: &value::Value) -> serde_json::Value {
    match value {
        value::Value::Text(text) => text.as_str().into(),
        value::Value::Number(number) => (*number).into(),
        value::Value::Flag(flag) => (*flag).into(),
        value::Value::List(items) => items.iter().map(json_of).collect(),
        value::Value::Table(keys) => {
            let keys = keys.iter().map(|(key, value)| (key.clone(), json_of(value)));
            serde_json::Value::Object(keys.collect())
        }
    }
}

/// A value as it may be shown.
fn without_secrets(value: serde_json::Value) -> serde_json::Value {
    use serde_json::Value;
    match value {
        Value::String(text) => secret::hide(&text).into(),
        Value::Array(items) => items.into_iter().map(without_secrets).collect(),
        Value::Object(keys) => {
            keys.into_iter().map(|(key, value)| (key, without_secrets(value))).collect()
        }
        other => other,
    }
}

fn to_json(item: &Item) -> serde_json::Value {
    let of_table = |table: &dyn TableLike| {
        let keys = table.iter().map(|(key, item)| (key.to_owned(), to_json(item)));
        serde_json::Value::Object(keys.collect())
    };
    match item {
        Item::None => serde_json::Value::Null,
        Item::Table(table) => of_table(table),
        Item::ArrayOfTables(all) => all.iter().map(|table| of_table(table)).collect(),
        Item::Value(Value::InlineTable(table)) => of_table(table),
        Item::Value(Value::Array(items)) => {
            items.iter().map(|value| to_json(&Item::Value(value.clone()))).collect()
        }
        Item::Value(Value::String(text)) => text.value().as_str().into(),
        Item::Value(Value::Integer(number)) => (*number.value()).into(),
        Item::Value(Value::Boolean(flag)) => (*flag.value()).into(),
        Item::Value(Value::Float(number)) => (*number.value()).into(),
        Item::Value(Value::Datetime(time)) => time.value().to_string().into(),
    }
}

fn step_into<'a>(item: &'a Item, segment: &Segment) -> Option<&'a Item> {
    match segment {
        Segment::Key(key) => item.as_table_like()?.get(key),
        Segment::Index(at) => item.get(at),
    }
}

impl fmt::Display for EditFault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::NoToml => "it is not TOML",
            Self::NoPart => "it has no such part, or several of that name",
            Self::Unfit => "what stands there can't hold that",
        })
    }
}

impl std::error::Error for EditFault {}

/// Why an edit of a file could not be made.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum EditFault {
    /// The text is no TOML.
    NoToml,
    /// There is no such part, or several.
    NoPart,
    /// What stands there can't hold that.
    Unfit,
}

/// The text of a layout with edits made. Comments, order and everything that is not edited stay as
/// they are. Addresses are taken before the first edit; what goes, goes last.
///
/// # Errors
/// Where an edit can't be made; nothing is made then.
pub fn edit(text: &str, layout: &Layout, edits: &[Edit]) -> Result<String, EditFault> {
    let mut document: DocumentMut = text.parse().map_err(|_| EditFault::NoToml)?;
    let mut gone = Vec::new();
    for edit in edits {
        let address = address_of(layout, edit).ok_or(EditFault::NoPart)?.segments;
        match &edit.change {
            Change::Remove => gone.push(address),
            Change::Set(to) => set(document.as_item_mut(), &address, to)?,
            Change::Add(item) => add(document.as_item_mut(), &address, item)?,
        }
    }
    // Of one list the last goes first, so that the numbers of the others stay.
    gone.sort_by_key(|address| match address.last() {
        Some(Segment::Index(at)) => std::cmp::Reverse(*at),
        _ => std::cmp::Reverse(usize::MAX),
    });
    for address in gone {
        remove(&mut document, &address)?;
    }
    Ok(as_before(text, document.to_string()))
}

/// A text that was written anew, with the mark at its start and the ends of lines that it had
/// before.
pub(super) fn as_before(before: &str, now: String) -> String {
    const MARK: char = '\u{feff}';
    let ends_in_two = before.contains("\r\n") && !before.replace("\r\n", "").contains('\n');
    let now = match ends_in_two {
        true => now.replace("\r\n", "\n").replace('\n', "\r\n"),
        false => now,
    };
    match before.starts_with(MARK) && !now.starts_with(MARK) {
        true => format!("{MARK}{now}"),
        false => now,
    }
}

/// What lies at an address; tables on the way are made.
fn reach<'a>(mut item: &'a mut Item, address: &[Segment]) -> Result<&'a mut Item, EditFault> {
    for segment in address {
        item = match segment {
            Segment::Key(key) => {
                let table = item.as_table_like_mut().ok_or(EditFault::Unfit)?;
                table.entry(key).or_insert_with(|| Item::Value(InlineTable::new().into()))
            }
            Segment::Index(at) => item.get_mut(at).ok_or(EditFault::NoPart)?,
        };
    }
    Ok(item)
}

fn set(root: &mut Item, address: &[Segment], to: &value::Value) -> Result<(), EditFault> {
    let (last, way) = address.split_last().ok_or(EditFault::NoPart)?;
    // An item of an array of values is no item of its own to the document.
    if let Segment::Index(at) = last {
        let array = reach(root, way)?.as_array_mut().ok_or(EditFault::Unfit)?;
        let old = array.get_mut(*at).ok_or(EditFault::NoPart)?;
        replace(old, to);
        return Ok(());
    }
    let Segment::Key(key) = last else { return Err(EditFault::NoPart) };
    let table = reach(root, way)?.as_table_like_mut().ok_or(EditFault::Unfit)?;
    match table.get_mut(key) {
        Some(Item::Value(old)) => replace(old, to),
        Some(Item::None) | None => {
            table.insert(key, Item::Value(value_to_toml(to)));
        }
        Some(_) => return Err(EditFault::Unfit),
    }
    Ok(())
}

/// Puts another value in the place of one, with the space and the comments around it; of lists what
/// stays the same stays as it is written.
fn replace(old: &mut Value, to: &value::Value) {
    if let (Value::Array(array), value::Value::List(items)) = (&mut *old, to) {
        let wanted: Vec<Value> = items.iter().map(value_to_toml).collect();
        let same = |a: &Value, b: &Value| {
            to_json(&Item::Value(a.clone())) == to_json(&Item::Value(b.clone()))
        };
        for at in (0..array.len()).rev() {
            if !wanted.iter().any(|item| array.get(at).is_some_and(|old| same(old, item))) {
                take_from(array, at);
            }
        }
        for item in wanted {
            if !array.iter().any(|old| same(old, &item)) {
                push(array, item);
            }
        }
        return;
    }
    let decor = old.decor().clone();
    *old = value_to_toml(to);
    *old.decor_mut() = decor;
}

fn add(root: &mut Item, address: &[Segment], item: &value::Value) -> Result<(), EditFault> {
    let (Some(Segment::Key(key)), way) =
        address.split_last().map(|(last, way)| (Some(last), way)).ok_or(EditFault::NoPart)?
    else {
        return Err(EditFault::Unfit);
    };
    let table = reach(root, way)?.as_table_like_mut().ok_or(EditFault::Unfit)?;
    let list = table.entry(key).or_insert_with(|| Item::Value(Array::new().into()));
    match list {
        Item::Value(Value::Array(array)) => push(array, value_to_toml(item)),
        Item::ArrayOfTables(all) => match value_to_toml(item) {
            Value::InlineTable(table) => all.push(table.into_table()),
            _ => return Err(EditFault::Unfit),
        },
        _ => return Err(EditFault::Unfit),
    }
    Ok(())
}

/// Adds an item as the others of its list are written: each in a line of its own, or one after
/// another.
pub(super) fn push(array: &mut Array, mut item: Value) {
    let first = array.get(0).and_then(|item| text_before(item.decor()).map(str::to_owned));
    match first.as_deref().and_then(|prefix| prefix.rfind('\n').map(|at| &prefix[at..])) {
        // What stands behind the last item, a comment of its line for one, is before the new one
        // from now on.
        Some(line) => {
            let trailing = array.trailing().as_str().unwrap_or_default().to_owned();
            let comments = trailing.rfind('\n').map_or("", |at| &trailing[..at]);
            item.decor_mut().set_prefix(format!("{comments}{line}"));
            array.push_formatted(item);
            array.set_trailing("\n");
            array.set_trailing_comma(true);
        }
        None => {
            let last = array.len().checked_sub(1).and_then(|last| array.get_mut(last));
            let space = last.and_then(|last| {
                let space = last.decor().suffix().cloned();
                last.decor_mut().set_suffix("");
                space
            });
            array.push(item);
            if let (Some(space), Some(item)) = (space, array.iter_mut().last()) {
                item.decor_mut().set_suffix(space);
            }
        }
    }
}

fn text_before(decor: &Decor) -> Option<&str> {
    decor.prefix()?.as_str()
}

fn remove(document: &mut DocumentMut, address: &[Segment]) -> Result<(), EditFault> {
    let (last, way) = address.split_last().ok_or(EditFault::NoPart)?;
    match last {
        Segment::Key(key) => {
            let table = reach(document.as_item_mut(), way)?.as_table_like_mut();
            table.ok_or(EditFault::Unfit)?.remove(key).map(drop).ok_or(EditFault::NoPart)
        }
        Segment::Index(at) => {
            let mut behind = None;
            match reach(document.as_item_mut(), way)? {
                Item::Value(Value::Array(array)) if *at < array.len() => take_from(array, *at),
                Item::ArrayOfTables(all) if *at < all.len() => behind = take_table(all, *at),
                _ => return Err(EditFault::NoPart),
            }
            if let Some(comments) = behind {
                let trailing = document.trailing().as_str().unwrap_or_default().to_owned();
                document.set_trailing(comments + &trailing);
            }
            Ok(())
        }
    }
}

/// Takes an item out of an array; comments before it and behind it stay.
fn take_from(array: &mut Array, at: usize) {
    let gone = array.remove(at);
    let before = text_before(gone.decor()).unwrap_or_default();
    let before = before.rfind('\n').filter(|_| before.contains('#')).map_or("", |at| &before[..at]);
    // What stood behind it in its line gets a line of its own.
    let joined = |own: &str| {
        let behind = own.trim_start_matches([' ', '\t']);
        match behind.starts_with('#') && !before.is_empty() {
            true => format!("{before}\n  {behind}"),
            false => format!("{before}{own}"),
        }
    };
    match array.get_mut(at) {
        Some(next) => {
            let own = joined(text_before(next.decor()).unwrap_or_default());
            next.decor_mut().set_prefix(own);
        }
        None => {
            let own = joined(array.trailing().as_str().unwrap_or_default());
            array.set_trailing(own);
        }
    }
}

/// Takes a table out of an array of them; its comments stay, before the next one or, handed back,
/// at the end.
fn take_table(all: &mut ArrayOfTables, at: usize) -> Option<String> {
    let gone = all.get(at)?.decor().clone();
    all.remove(at);
    let mut comments = text_before(&gone).unwrap_or_default().to_owned();
    let behind = gone.suffix().and_then(|suffix| suffix.as_str()).unwrap_or_default().trim();
    if behind.starts_with('#') {
        comments += &format!("{behind}\n");
    }
    let comments = Some(comments).filter(|text| text.contains('#'))?;
    match all.get_mut(at) {
        Some(next) => {
            let own = text_before(next.decor()).unwrap_or_default().to_owned();
            next.decor_mut().set_prefix(comments + &own);
            None
        }
        None => Some(comments),
    }
}

/// A value as the file has it.
fn value_to_toml(value: &value::Value) -> Value {
    match value {
        value::Value::Text(text) => text.as_str().into(),
        value::Value::Number(number) => i64::from(*number).into(),
        value::Value::Flag(flag) => (*flag).into(),
        value::Value::List(items) => items.iter().map(value_to_toml).collect(),
        value::Value::Table(keys) => {
            let mut table = InlineTable::new();
            for (key, value) in keys {
                table.insert(key, value_to_toml(value));
            }
            table.into()
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const START: &str = "# of us\ntarvek = 1\nsite = \"x\"\n[host.box]\nrole = \"apps\"\n\
                         [service.lantern]\nhost = \"box\"\nrole = \"serve\"\n";

    fn edited(text: &str, edits: &[Edit]) -> String {
        let layout = crate::layout::read("tarvek.toml", text.as_bytes()).unwrap();
        let now = edit(text, &layout, edits).unwrap();
        // What the core makes of the same edits is what the file says then.
        let mut by_core = layout;
        edits.iter().for_each(|edit| by_core.edit(edit).unwrap());
        let read = crate::layout::read("tarvek.toml", now.as_bytes()).unwrap();
        let maps = |layout: &Layout| {
            let maps = layout.services[0].maps().iter();
            maps.map(|map| (map.to.written.clone(), map.access, map.label)).collect::<Vec<_>>()
        };
        assert_eq!(maps(&read), maps(&by_core), "{now}");
        assert_eq!(read.services[0].umask, by_core.services[0].umask);
        now
    }

    fn change(part: Part, key: &'static str, change: Change) -> Edit {
        Edit { part, key, change, line: 0 }
    }

    #[test]
    fn comments_stay_and_lines_end_as_they_did() {
        let map = |to: &str| Part::mapping(&"lantern".into(), &to.into());
        let text = format!(
            "{START}umask = \"022\" # usual\nmap = [ # two\n  # the first\n  {{ from = \"/a\", to \
             = \"/x\" }}, # behind it\n  \
             # the last\n  {{ from = \"/b\", to = \"/y\", access = \"ro\" }}, # and behind that\n] \
             # done\n# end\n"
        );
        let edits = [
            change(Part::Service("lantern".into()), "umask", Change::Set("002".into())),
            change(map("/x"), "", Change::Remove),
            change(map("/y"), "access", Change::Set("rw".into())),
            change(map("/y"), "label", Change::Set("shared".into())),
        ];
        let now = edited(&text, &edits);
        let comments = |text: &str| {
            let found = text.lines().filter_map(|line| Some(line.split_once('#')?.1.to_owned()));
            found.collect::<Vec<_>>()
        };
        assert_eq!(comments(&now), comments(&text), "{now}");
        assert!(
            now.contains("umask = \"002\" # usual\n") && now.contains("access = \"rw\""),
            "{now}"
        );
        let windows = format!("\u{feff}{}", text.replace('\n', "\r\n"));
        assert_eq!(edited(&windows, &edits), format!("\u{feff}{}", now.replace('\n', "\r\n")));
    }

    #[test]
    fn arrays_of_tables_and_dotted_keys_are_edited_where_they_stand() {
        let map = |to: &str| Part::mapping(&"lantern".into(), &to.into());
        let text = format!(
            "{START}[[service.lantern.map]] # one\nfrom = \"/a\"\nto = \"/x\" # here\n# the other\n\
             [[service.lantern.map]] # two\nfrom = \"/b\"\nto = \"/y\"\n"
        );
        let item = value::Value::table([("from", "/c".into()), ("to", "/z".into())]);
        let lantern = || Part::Service("lantern".into());
        let edits = [
            change(map("/x"), "access", Change::Set("ro".into())),
            change(lantern(), "map", Change::Add(item)),
            change(map("/y"), "", Change::Remove),
        ];
        let now = edited(&text, &edits);
        for kept in ["# one", "# here", "# the other", "# two"] {
            assert!(now.contains(kept), "{kept}: {now}");
        }
        let dotted = START.replace(
            "[service.lantern]\nhost",
            "[service]\nlantern.umask = \"022\" # usual\nlantern.host",
        );
        let dotted = dotted.replace("\nrole = \"serve\"", "\nlantern.role = \"serve\"");
        let now = edited(&dotted, &[change(lantern(), "umask", Change::Set("002".into()))]);
        assert!(now.contains("lantern.umask = \"002\" # usual"), "{now}");
    }

    #[test]
    fn what_is_not_there_once_is_not_edited() {
        let text = format!(
            "{START}map = [{{ from = \"/a\", to = \"/x\" }}, {{ from = \"/b\", to = \"/y\" }}]\n"
        );
        let layout = crate::layout::read("tarvek.toml", text.as_bytes()).unwrap();
        let gone = Part::mapping(&"lantern".into(), &"/z".into());
        let edits = [change(gone, "access", Change::Set("ro".into()))];
        assert_eq!(edit(&text, &layout, &edits), Err(EditFault::NoPart));
        let unfit = [change(Part::Host("box".into()), "role", Change::Add("x".into()))];
        assert_eq!(edit(&text, &layout, &unfit), Err(EditFault::Unfit));
    }
}
