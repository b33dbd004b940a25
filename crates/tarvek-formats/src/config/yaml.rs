//! YAML 1.2 as a tree with lines: anchors are shared, not copied, and merge keys are resolved where
//! they stand, so that a small file can't become a large tree.

use std::collections::HashMap;
use std::rc::Rc;

use saphyr_parser::{Event, Parser, ScalarStyle};
use tarvek_core::words::name::Name;
use tarvek_core::words::spot::Spot;

/// Nothing is nested as deep as this.
const DEEPEST: usize = 100;

/// All merge keys of a file together bring in no more entries than these.
const MOST_MERGED: usize = 100_000;

/// A value, and where it begins.
#[derive(Clone, Debug)]
pub(crate) struct Node {
    pub(crate) value: Rc<Value>,
    pub(crate) spot: Spot,
    pub(crate) mark: Mark,
}

/// A tag that says how a value is merged with one of an earlier file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Mark {
    None,
    /// `!reset`: as if it were not there.
    Reset,
    /// `!override`: it takes the place of the other.
    Override,
}

#[derive(Clone, Debug)]
pub(crate) enum Value {
    Null,
    /// A text, a number or a truth value, as it is written.
    Scalar(String),
    List(Vec<Node>),
    /// In the order of the file; a key stands once.
    Map(Vec<(Key, Node)>),
}

/// A key, and where it stands.
#[derive(Clone, Debug)]
pub(crate) struct Key {
    pub(crate) text: Rc<str>,
    pub(crate) spot: Spot,
}

/// Why a text is no such tree. Both count from 1, the column in characters.
#[derive(Debug)]
pub(crate) struct Broken {
    pub(crate) line: usize,
    pub(crate) column: usize,
    pub(crate) message: String,
}

impl Node {
    pub(crate) fn new(value: Value, spot: Spot) -> Self {
        Self { value: Rc::new(value), spot, mark: Mark::None }
    }

    pub(crate) fn text(&self) -> Option<&str> {
        match &*self.value {
            Value::Scalar(text) => Some(text),
            _ => None,
        }
    }

    pub(crate) fn list(&self) -> Option<&[Self]> {
        match &*self.value {
            Value::List(list) => Some(list),
            _ => None,
        }
    }

    pub(crate) fn map(&self) -> Option<&[(Key, Self)]> {
        match &*self.value {
            Value::Map(map) => Some(map),
            _ => None,
        }
    }

    pub(crate) fn is_null(&self) -> bool {
        matches!(&*self.value, Value::Null)
    }

    /// The value of a key of a map.
    pub(crate) fn get(&self, key: &str) -> Option<&Self> {
        let entry = self.map()?.iter().find(|(known, _)| &*known.text == key);
        entry.map(|(_, value)| value).filter(|value| !value.is_null())
    }

    pub(crate) fn truth(&self) -> Option<bool> {
        match self.text()?.to_ascii_lowercase().as_str() {
            "true" | "yes" | "on" | "y" | "1" => Some(true),
            "false" | "no" | "off" | "n" | "0" => Some(false),
            _ => None,
        }
    }
}

/// What is open while a text is read.
enum Open {
    List(Vec<Node>),
    Map {
        entries: Vec<(Key, Node)>,
        known: HashMap<Rc<str>, usize>,
        key: Option<Key>,
        merges: Vec<Node>,
    },
}

struct Building {
    open: Vec<(Open, Spot, usize, Mark)>,
    anchors: HashMap<usize, Node>,
    merged: usize,
    done: Option<Node>,
    /// Keys that stand twice, with their lines.
    twice: Vec<Key>,
}

/// Reads a text that is one document; also which keys stand twice in a map, of which the last
/// counts.
///
/// # Errors
/// Where it is none.
pub(crate) fn read(file: &Name, text: &str) -> Result<(Node, Vec<Key>), Broken> {
    let mut building = Building {
        open: Vec::new(),
        anchors: HashMap::new(),
        merged: 0,
        done: None,
        twice: Vec::new(),
    };
    let mut parser = Parser::new_from_str(text);
    let broken =
        |line: usize, column: usize, message: String| Broken { line, column: column + 1, message };
    while let Some(event) = parser.next_event() {
        let (event, span) = event.map_err(|error| {
            let at = error.marker();
            broken(at.line().max(1), at.col(), error.info().to_owned())
        })?;
        let (line, column) = (span.start.line(), span.start.col());
        let spot = Spot { file: file.clone(), line: u32::try_from(line).unwrap_or(u32::MAX) };
        let fault = building.take(event, spot);
        fault.map_err(|message| broken(line.max(1), column, message))?;
    }
    let start = Spot { file: file.clone(), line: 1 };
    let done = building.done.unwrap_or_else(|| Node::new(Value::Null, start));
    Ok((done, building.twice))
}

fn mark(tag: Option<&saphyr_parser::Tag>) -> Mark {
    match tag.map(|tag| tag.suffix.as_str()) {
        Some("reset") => Mark::Reset,
        Some("override") => Mark::Override,
        _ => Mark::None,
    }
}

impl Building {
    fn take(&mut self, event: Event<'_>, spot: Spot) -> Result<(), String> {
        match event {
            Event::DocumentStart(_) if self.done.is_some() => {
                return Err("a second document begins here; one file is one".into());
            }
            Event::Alias(anchor) => {
                // An anchor that is not closed yet would hold itself.
                let node = self.anchors.get(&anchor).cloned();
                return self.put(node.ok_or("an alias of what is not finished yet")?);
            }
            Event::Scalar(text, style, anchor, tag) => {
                let plain = style == ScalarStyle::Plain && tag.is_none();
                let null = plain && matches!(&*text, "" | "~" | "null" | "Null" | "NULL");
                let value = if null { Value::Null } else { Value::Scalar(text.into_owned()) };
                let node = Node { mark: mark(tag.as_deref()), ..Node::new(value, spot) };
                return self.finish(node, anchor);
            }
            Event::SequenceStart(anchor, tag) => {
                self.open.push((Open::List(Vec::new()), spot, anchor, mark(tag.as_deref())));
            }
            Event::MappingStart(anchor, tag) => {
                let map = Open::Map {
                    entries: Vec::new(),
                    known: HashMap::new(),
                    key: None,
                    merges: Vec::new(),
                };
                self.open.push((map, spot, anchor, mark(tag.as_deref())));
            }
            Event::SequenceEnd | Event::MappingEnd => {
                let (open, spot, anchor, mark) = self.open.pop().ok_or("an end without a start")?;
                let value = match open {
                    Open::List(list) => Value::List(list),
                    Open::Map { entries, known, merges, .. } => {
                        Value::Map(self.merged(entries, known, merges)?)
                    }
                };
                return self.finish(Node { mark, ..Node::new(value, spot) }, anchor);
            }
            _ => {}
        }
        if self.open.len() > DEEPEST {
            return Err(format!("it is nested deeper than {DEEPEST}"));
        }
        Ok(())
    }

    /// A map with what its merge keys bring in: what it says itself goes before, and of several the
    /// first.
    fn merged(
        &mut self,
        mut entries: Vec<(Key, Node)>,
        mut known: HashMap<Rc<str>, usize>,
        merges: Vec<Node>,
    ) -> Result<Vec<(Key, Node)>, String> {
        let lists = merges.iter().flat_map(|node| match &*node.value {
            Value::List(list) => list.as_slice(),
            _ => std::slice::from_ref(node),
        });
        for source in lists {
            let Some(map) = source.map() else {
                return Err("a merge key `<<` takes a map, or a list of maps".into());
            };
            self.merged = self.merged.saturating_add(map.len() + 1);
            if self.merged > MOST_MERGED {
                return Err(format!("merge keys bring in more than {MOST_MERGED} entries"));
            }
            for (key, value) in map {
                if !known.contains_key(&key.text) {
                    known.insert(key.text.clone(), entries.len());
                    entries.push((key.clone(), value.clone()));
                }
            }
        }
        Ok(entries)
    }

    fn finish(&mut self, node: Node, anchor: usize) -> Result<(), String> {
        if anchor != 0 {
            self.anchors.insert(anchor, node.clone());
        }
        self.put(node)
    }

    fn put(&mut self, node: Node) -> Result<(), String> {
        let Some((open, ..)) = self.open.last_mut() else {
            self.done = Some(node);
            return Ok(());
        };
        match open {
            Open::List(list) => list.push(node),
            Open::Map { entries, known, key, merges } => match key.take() {
                None => {
                    let text = match &*node.value {
                        Value::Scalar(text) => text.as_str(),
                        Value::Null => "",
                        _ => return Err("a key is a text here".into()),
                    };
                    *key = Some(Key { text: text.into(), spot: node.spot });
                }
                Some(key) if &*key.text == "<<" => merges.push(node),
                Some(key) => match known.get(&key.text) {
                    Some(&at) => {
                        self.twice.push(key.clone());
                        entries[at] = (key, node);
                    }
                    None => {
                        known.insert(key.text.clone(), entries.len());
                        entries.push((key, node));
                    }
                },
            },
        }
        Ok(())
    }
}
