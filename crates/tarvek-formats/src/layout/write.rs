//! From a [`Layout`] to its file, with a comment before each part that has one.

use serde::Serialize;
use tarvek_core::layout::host::Host;
use tarvek_core::layout::site::Layout;
use tarvek_core::words::part::Part;
use toml_edit::ser::ValueSerializer;
use toml_edit::{Array, ArrayOfTables, DocumentMut, InlineTable, Item, Table, TableLike, Value};

use super::document::push;
use super::raw::{
    RawAccount, RawFolder, RawHost, RawIntake, RawMount, RawRules, RawService, RawShare, RawWaste,
};

/// Lists that have a line for each of their items.
const IN_LINES: [&str; 5] = ["map", "datasets", "translate", "libraries", "silence"];

/// The comments for a part.
pub(super) type Notes<'a> = &'a dyn Fn(&Part) -> Vec<String>;

/// A layout as text.
pub fn write(layout: &Layout, notes: Notes) -> String {
    let mut document = DocumentMut::new();
    document.insert("tarvek", toml_edit::value(1));
    document.insert("site", toml_edit::value(layout.site.raw()));
    append_parts(&mut document, layout, notes);
    document.to_string()
}

/// A value of the file's types, as it stands in a line.
pub(super) fn value_of(raw: &impl Serialize) -> Value {
    raw.serialize(ValueSerializer::new()).expect("the file's types are values of TOML")
}

/// Adds the parts of a layout behind whatever stands in a file.
pub(super) fn append_parts(document: &mut DocumentMut, layout: &Layout, notes: Notes) {
    let last = last_position(document.as_table());
    let mut out = Writer { document, notes, next: last + 1 };
    layout.hosts.iter().for_each(|host| out.host(host));
    for share in &layout.shares {
        let part = Part::Share(share.name.clone());
        out.table(&["share", share.name.raw()], &part, &RawShare::from(share));
    }
    for folder in &layout.folders {
        let part = Part::folder(&folder.host, &folder.path);
        out.one_of_many("folder", &part, &RawFolder::from(folder));
    }
    for mount in &layout.mounts {
        let part = Part::mount(&mount.host, &mount.at);
        out.one_of_many("mount", &part, &RawMount::of(mount, layout));
    }
    for service in &layout.services {
        let part = Part::Service(service.name.clone());
        out.table(&["service", service.name.raw()], &part, &RawService::from(service));
    }
    for intake in &layout.intakes {
        let part = Part::Intake(intake.name.clone());
        out.table(&["intake", intake.name.raw()], &part, &RawIntake::from(intake));
    }
    let leftovers = &layout.waste.leftovers;
    if !leftovers.is_empty() {
        let leftovers = leftovers.iter().map(|pattern| pattern.clone().into()).collect();
        out.table(&["waste"], &Part::Site, &RawWaste { leftovers });
    }
    if !layout.rules.severity.is_empty() || !layout.rules.silence.is_empty() {
        out.table(&["rules"], &Part::Rules, &RawRules::from(&layout.rules));
    }
}

/// The position of the last table of a file (tables are written in the order of positions).
fn last_position(table: &dyn TableLike) -> isize {
    let of_table = |table: &Table| table.position().unwrap_or(0).max(last_position(table));
    let of_item = |(_, item): (&str, &Item)| match item {
        Item::Table(table) => of_table(table),
        Item::ArrayOfTables(tables) => tables.iter().map(of_table).max().unwrap_or(0),
        Item::Value(_) | Item::None => 0,
    };
    table.iter().map(of_item).max().unwrap_or(0)
}

struct Writer<'a> {
    document: &'a mut DocumentMut,
    notes: Notes<'a>,
    /// The position of the next table.
    next: isize,
}

impl Writer<'_> {
    /// A part as a table, under its comments.
    fn part(&mut self, about: &Part, raw: &impl Serialize) -> Table {
        let Value::InlineTable(keys) = value_of(raw) else { panic!("a part is a table") };
        let mut table = plain(keys.into_table());
        for name in IN_LINES {
            if let Some(list) = table.get_mut(name).and_then(Item::as_array_mut) {
                in_lines(list);
            }
        }
        let mut prefix = "\n".to_owned();
        for note in (self.notes)(about) {
            prefix.extend(wrapped(&note).iter().map(|line| format!("# {line}\n")));
        }
        table.decor_mut().set_prefix(prefix);
        self.placed(table)
    }

    fn placed(&mut self, mut table: Table) -> Table {
        table.set_position(Some(self.next));
        self.next += 1;
        table
    }

    /// Writes a part as the table at a path of keys.
    fn table(&mut self, path: &[&str], about: &Part, raw: &impl Serialize) {
        let table = self.part(about, raw);
        self.insert(path, table);
    }

    fn insert(&mut self, path: &[&str], table: Table) {
        let (last, above) = path.split_last().expect("a path has a key");
        let mut parent: &mut dyn TableLike = self.document.as_table_mut();
        for key in above {
            let inner = parent.entry(key).or_insert_with(|| {
                let mut table = Table::new();
                table.set_implicit(true);
                Item::Table(table)
            });
            parent = inner.as_table_like_mut().expect("a layout that was read has tables here");
        }
        parent.insert(last, Item::Table(table));
    }

    /// Writes a part as one of an array of tables.
    fn one_of_many(&mut self, name: &str, about: &Part, raw: &impl Serialize) {
        let table = self.part(about, raw);
        let many = self.document.entry(name).or_insert(Item::ArrayOfTables(ArrayOfTables::new()));
        match many {
            Item::ArrayOfTables(tables) => tables.push(table),
            other => {
                let list = other.as_array_mut().expect("a layout that was read has a list here");
                push(list, Value::InlineTable(table.into_inline_table()));
            }
        }
    }

    fn host(&mut self, host: &Host) {
        let part = Part::Host(host.name.clone());
        let mut table = self.part(&part, &RawHost::from(host));
        if let Some(datasets) = table.get_mut("datasets").and_then(Item::as_array_mut) {
            for (value, dataset) in datasets.iter_mut().zip(&host.datasets) {
                let part = Part::Dataset { host: host.name.clone(), name: dataset.name.clone() };
                let notes = (self.notes)(&part);
                let notes: String = notes.iter().map(|note| format!("\n  # {note}")).collect();
                value.decor_mut().set_prefix(notes + "\n  ");
            }
        }
        self.insert(&["host", host.name.raw()], table);
        if !host.accounts.is_empty() {
            let mut accounts = Table::new();
            for account in &host.accounts {
                let value = value_of(&RawAccount::from(account));
                accounts.insert(account.name.raw(), Item::Value(value));
            }
            let accounts = self.placed(accounts);
            self.insert(&["host", host.name.raw(), "accounts"], accounts);
        }
    }
}

/// A table whose keys have a line each.
fn plain(mut table: Table) -> Table {
    for (mut key, item) in table.iter_mut() {
        key.fmt();
        if let Some(value) = item.as_value_mut() {
            value.decor_mut().clear();
        }
    }
    table
}

/// Gives each item of a list a line of its own.
pub(super) fn in_lines(list: &mut Array) {
    if list.is_empty() {
        return;
    }
    for item in list.iter_mut() {
        item.decor_mut().set_prefix("\n  ");
    }
    list.set_trailing("\n");
    list.set_trailing_comma(true);
}

/// An empty table in a line.
pub(super) fn inline() -> Item {
    toml_edit::value(InlineTable::new())
}

/// A comment in lines of about a hundred columns.
fn wrapped(text: &str) -> Vec<String> {
    let mut lines = vec![String::new()];
    for word in text.split_whitespace() {
        let line = lines.last_mut().expect("there is one");
        if line.is_empty() {
            line.push_str(word);
        } else if line.chars().count() + word.chars().count() < 98 {
            line.push(' ');
            line.push_str(word);
        } else {
            lines.push(format!("  {word}"));
        }
    }
    lines
}
