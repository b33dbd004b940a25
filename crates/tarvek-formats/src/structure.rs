//! From the text of a TOML file to the type that holds it as it is written: syntax, keys and types, checked against the
//! type's schema with the place of each mistake. What is wrong is taken out, so that the rest can be judged all the same.

use std::borrow::Cow;
use std::collections::HashSet;
use std::fmt;
use std::ops::Range;

use jsonschema::Validator;
use jsonschema::error::ValidationErrorKind;
use jsonschema::paths::LocationSegment;
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::Deserialize;
use serde::de::{Deserializer, IntoDeserializer, SeqAccess, Visitor};
use serde_json::{Map, Value};
use toml::Spanned;
use toml::de::{DeArray, DeTable, DeValue};

use crate::mistake::Mistakes;
use tarvek_core::words::grammar::{Text, text_fault};
use tarvek_core::words::terms::{LARGEST_ID, Origin};
use tarvek_core::words::text::{nearest, shown};

/// A value with its place in the file.
#[derive(Clone, Debug)]
pub(crate) struct At<T> {
    pub(crate) value: T,
    pub(crate) span: Range<usize>,
}

impl<'de, T: Deserialize<'de>> Deserialize<'de> for At<T> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let spanned = toml::Spanned::<T>::deserialize(deserializer)?;
        Ok(Self { span: spanned.span(), value: spanned.into_inner() })
    }
}

impl<T: PartialEq> PartialEq for At<T> {
    fn eq(&self, other: &Self) -> bool {
        self.value == other.value
    }
}
impl<T: Eq> Eq for At<T> {}
impl<T: PartialOrd> PartialOrd for At<T> {
    fn partial_cmp(&self, other: &Self) -> Option<std::cmp::Ordering> {
        self.value.partial_cmp(&other.value)
    }
}
impl<T: Ord> Ord for At<T> {
    fn cmp(&self, other: &Self) -> std::cmp::Ordering {
        self.value.cmp(&other.value)
    }
}

impl<T: JsonSchema> JsonSchema for At<T> {
    fn schema_name() -> Cow<'static, str> {
        T::schema_name()
    }
    fn inline_schema() -> bool {
        T::inline_schema()
    }
    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        T::json_schema(generator)
    }
}

/// One value, or a list of them.
#[derive(Clone, Debug, Default)]
pub(crate) struct OneOrMany<T>(pub(crate) Vec<T>);

impl<'de, T: Deserialize<'de>> Deserialize<'de> for OneOrMany<T> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Both<T>(std::marker::PhantomData<T>);
        impl<'de, T: Deserialize<'de>> Visitor<'de> for Both<T> {
            type Value = OneOrMany<T>;
            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a string or a list of strings")
            }
            fn visit_str<E: serde::de::Error>(self, text: &str) -> Result<Self::Value, E> {
                T::deserialize(text.into_deserializer()).map(|one| OneOrMany(vec![one]))
            }
            fn visit_seq<A: SeqAccess<'de>>(self, mut seq: A) -> Result<Self::Value, A::Error> {
                let mut all = Vec::new();
                while let Some(one) = seq.next_element()? {
                    all.push(one);
                }
                Ok(OneOrMany(all))
            }
        }
        deserializer.deserialize_any(Both(std::marker::PhantomData))
    }
}

impl<T: JsonSchema> JsonSchema for OneOrMany<T> {
    fn schema_name() -> Cow<'static, str> {
        format!("OneOrMany_{}", T::schema_name()).into()
    }
    fn inline_schema() -> bool {
        true
    }
    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        let one = generator.subschema_for::<T>();
        json_schema!({ "anyOf": [one, { "type": "array", "items": one, "minItems": 1 }] })
    }
}

/// Line and column of byte offsets.
pub(crate) struct Lines<'a> {
    pub(crate) text: &'a str,
    pub(crate) starts: Vec<usize>,
    /// How many characters begin before each block of [`BLOCK`] bytes, so that a long line is not counted again for each place.
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

/// A kind of file.
pub(crate) struct Form {
    /// What its files have to be, made once.
    pub(crate) structure: fn() -> &'static Structure,
    /// What it is called in a message.
    pub(crate) called: &'static str,
    /// The key of its version.
    pub(crate) version: &'static str,
    /// What the text of a key is.
    pub(crate) text: fn(&str) -> Text,
    /// What to add where a key is missing, by the key and the table it is missing in.
    pub(crate) missing: fn(&str, Option<&str>) -> String,
}

/// What the files of a kind have to be.
pub(crate) struct Structure {
    pub(crate) schema: Value,
    validator: Validator,
}

impl Structure {
    /// That of a type, as a reader of TOML needs it.
    pub(crate) fn of<T: JsonSchema>() -> Self {
        let mut schema = schemars::schema_for!(T).to_value();
        tidied(&mut schema);
        let validator = jsonschema::validator_for(&schema).expect("the schema is sound");
        Self { schema, validator }
    }
}

/// Marks a key that has to be there. The fields behind such keys are optional all the same, so that what is right of a
/// wrong table can still be judged; the schema's maker would take that for a key that may be left out.
const REQUIRED: &str = "x-required";

/// What the schema's maker writes for Rust, said for TOML: there is no null, so an optional key is one that may be left out, never one that may be null.
fn tidied(schema: &mut Value) {
    match schema {
        Value::Object(object) => {
            if let Some(Value::Array(types)) = object.get_mut("type") {
                types.retain(|kind| kind != "null");
                if let [only] = types.as_slice() {
                    let only = only.clone();
                    object.insert("type".into(), only);
                }
            }
            if let Some(Value::Array(options)) = object.get_mut("anyOf") {
                options.retain(|option| option.get("type").is_none_or(|kind| kind != "null"));
                if let [Value::Object(only)] = options.as_slice() {
                    let only = only.clone();
                    object.remove("anyOf");
                    object.extend(only);
                }
            }
            if let Some(Value::Array(options)) = object.get_mut("enum") {
                options.retain(|option| !option.is_null());
            }
            object.retain(|key, value| !(key == "default" && value.is_null()));
            let marked = |property: &Value| property.get(REQUIRED).is_some();
            let properties = object.get_mut("properties").and_then(Value::as_object_mut);
            let required: Vec<Value> = properties
                .into_iter()
                .flatten()
                .filter_map(|(name, property)| {
                    let is_marked = marked(property);
                    property.as_object_mut()?.remove(REQUIRED);
                    is_marked.then(|| name.as_str().into())
                })
                .collect();
            if !required.is_empty() {
                object.insert("required".into(), required.into());
            }
            // A width that only the schema's maker knows becomes a limit that every reader knows; most such numbers are ids.
            if object.get("format").is_some_and(|format| format == "uint32") {
                object.remove("format");
                object.entry("maximum").or_insert_with(|| LARGEST_ID.into());
            }
            object.values_mut().for_each(tidied);
        }
        Value::Array(items) => items.iter_mut().for_each(tidied),
        _ => {}
    }
}

/// Reads the text as far as it is right, and notes everything that is not.
pub(crate) fn read<T: Default + for<'de> Deserialize<'de>>(
    form: &Form,
    text: &str,
    mistakes: &mut Mistakes,
) -> T {
    let (mut table, errors) = DeTable::parse_recoverable(text);
    let mut second: Option<Range<usize>> = None;
    for error in errors {
        let span = error.span().unwrap_or(0..0);
        let line = error.message().lines().next().unwrap_or("no TOML").to_owned();
        if line != "duplicate key" {
            mistakes.add(span, line, None);
            continue;
        }
        // Of a table that stands twice every key is reported as well; the table is what matters.
        if second.as_ref().is_some_and(|table| table.contains(&span.start)) {
            continue;
        }
        let start = text[..span.start].rfind('\n').map_or(0, |end| end + 1);
        let message = match header(&text[start..]) {
            Some(name) => {
                let end = text[span.end..].find("\n[").map_or(text.len(), |at| span.end + at);
                second = Some(span.start..end);
                format!("[{name}] is declared twice")
            }
            None => format!("the key {:?} is written twice", shown(text[span.clone()].as_bytes())),
        };
        mistakes.add(span, message, Some("join the two, or give one another name".to_owned()));
    }
    let mut wrong: HashSet<Vec<Segment>> = HashSet::new();
    texts(form, table.get_ref(), &mut Vec::new(), mistakes, &mut wrong);
    if !wrong.is_empty() {
        let sound = without(std::mem::take(table.get_mut()), &wrong, &mut Vec::new());
        *table.get_mut() = sound;
        wrong.clear();
    }
    let json = json_table(table.get_ref());
    for error in (form.structure)().validator.iter_errors(&json) {
        note(form, &error, &table, mistakes, &mut wrong);
    }
    let sound = without(std::mem::take(table.get_mut()), &wrong, &mut Vec::new());
    *table.get_mut() = sound;
    T::deserialize(toml::Deserializer::from(table)).unwrap_or_else(|error| {
        let line = error.message().lines().next().unwrap_or_default().to_owned();
        mistakes.add(error.span().unwrap_or(0..0), line, None);
        T::default()
    })
}

/// The name of the table whose header a line is.
fn header(line: &str) -> Option<String> {
    let line = line.lines().next()?.trim_start();
    let name = line.strip_prefix('[')?.split(']').next()?;
    Some(shown(name.trim().as_bytes()))
}

/// One step down into the document.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
enum Segment {
    Key(String),
    Index(usize),
}

/// Notes every text that no key may hold.
fn texts(
    form: &Form,
    table: &DeTable,
    here: &mut Vec<Segment>,
    mistakes: &mut Mistakes,
    wrong: &mut HashSet<Vec<Segment>>,
) {
    for (key, value) in table {
        here.push(Segment::Key(key.get_ref().to_string()));
        match text_fault(key.get_ref(), Text::Line) {
            Some(fault) => {
                let message = format!("the key {:?} {fault}", shown(key.get_ref().as_bytes()));
                mistakes.add(key.span(), message, Some(PLAIN.to_owned()));
                wrong.insert(here.clone());
            }
            None => text(form, value, here, mistakes, wrong),
        }
        here.pop();
    }
}

const PLAIN: &str = "write it in one line, with characters that are seen";

fn text(
    form: &Form,
    value: &Spanned<DeValue>,
    here: &mut Vec<Segment>,
    mistakes: &mut Mistakes,
    wrong: &mut HashSet<Vec<Segment>>,
) {
    match value.get_ref() {
        DeValue::String(text) => {
            let key = here.iter().rev().find_map(|step| match step {
                Segment::Key(key) => Some(key.as_str()),
                Segment::Index(_) => None,
            });
            let what = key.map_or(Text::Line, form.text);
            if let Some(fault) = text_fault(text, what) {
                let message = format!("the text {:?} {fault}", shown(text.as_bytes()));
                mistakes.add(value.span(), message, Some(PLAIN.to_owned()));
                wrong.insert(here.clone());
            }
        }
        DeValue::Array(items) => {
            for (index, item) in items.iter().enumerate() {
                here.push(Segment::Index(index));
                self::text(form, item, here, mistakes, wrong);
                here.pop();
            }
        }
        DeValue::Table(table) => texts(form, table, here, mistakes, wrong),
        _ => {}
    }
}

fn json_table(table: &DeTable) -> Value {
    let entries =
        table.iter().map(|(key, value)| (key.get_ref().to_string(), json(value.get_ref())));
    Value::Object(entries.collect::<Map<_, _>>())
}

fn json(value: &DeValue) -> Value {
    match value {
        DeValue::String(text) => Value::String(text.to_string()),
        DeValue::Integer(number) => {
            let exact = i128::from_str_radix(number.as_str(), number.radix()).ok();
            let exact = exact.and_then(serde_json::Number::from_i128);
            // What no key can hold is still a whole number, and too large or too small.
            let negative = number.as_str().starts_with('-');
            let vast = || serde_json::Number::from_f64(if negative { -1e300 } else { 1e300 });
            exact.or_else(vast).map_or(Value::Null, Value::Number)
        }
        DeValue::Float(number) => {
            let parsed = number.as_str().parse::<f64>().ok();
            parsed.and_then(serde_json::Number::from_f64).map_or(Value::Null, Value::Number)
        }
        DeValue::Boolean(flag) => Value::Bool(*flag),
        // No key of a layout takes a date; null is refused everywhere.
        DeValue::Datetime(_) => Value::Null,
        DeValue::Array(items) => items.iter().map(|item| json(item.get_ref())).collect(),
        DeValue::Table(table) => json_table(table),
    }
}

fn kind(value: &DeValue) -> &'static str {
    match value {
        DeValue::String(_) => "a string",
        DeValue::Integer(_) => "a whole number",
        DeValue::Float(_) => "a number",
        DeValue::Boolean(_) => "true or false",
        DeValue::Datetime(_) => "a date",
        DeValue::Array(_) => "a list",
        DeValue::Table(_) => "a table",
    }
}

fn expected(schema: &Value) -> String {
    let of = |kind: &str| match kind {
        "string" => "a string",
        "integer" => "a whole number",
        "number" => "a number",
        "boolean" => "true or false",
        "array" => "a list",
        "object" => "a table",
        _ => "another type",
    };
    match schema {
        Value::String(kind) => of(kind).to_owned(),
        Value::Array(kinds) => {
            kinds.iter().filter_map(Value::as_str).map(of).collect::<Vec<_>>().join(" or ")
        }
        _ => "another type".to_owned(),
    }
}

/// What stands at a path, with the key that leads to it.
struct Found<'t> {
    value: &'t DeValue<'t>,
    span: Range<usize>,
    key: Option<Range<usize>>,
}

fn find<'t>(table: &'t Spanned<DeTable<'t>>, path: &[Segment]) -> Option<Found<'t>> {
    let mut here: Option<Found<'t>> = None;
    let mut inside: Option<&'t DeTable<'t>> = Some(table.get_ref());
    for step in path {
        let (value, key) = match step {
            Segment::Key(name) => {
                let (key, value) = inside?.get_key_value(name.as_str())?;
                (value, Some(key.span()))
            }
            Segment::Index(index) => (here?.value.as_array()?.get(*index)?, None),
        };
        inside = value.get_ref().as_table();
        here = Some(Found { value: value.get_ref(), span: value.span(), key });
    }
    here
}

/// The table without what is wrong in it.
fn without<'t>(
    table: DeTable<'t>,
    wrong: &HashSet<Vec<Segment>>,
    here: &mut Vec<Segment>,
) -> DeTable<'t> {
    let mut kept = DeTable::new();
    for (key, value) in table {
        here.push(Segment::Key(key.get_ref().to_string()));
        if !wrong.contains(here) {
            kept.insert(key, sound(value, wrong, here));
        }
        here.pop();
    }
    kept
}

fn sound<'t>(
    value: Spanned<DeValue<'t>>,
    wrong: &HashSet<Vec<Segment>>,
    here: &mut Vec<Segment>,
) -> Spanned<DeValue<'t>> {
    let span = value.span();
    let value = match value.into_inner() {
        DeValue::Table(table) => DeValue::Table(without(table, wrong, here)),
        DeValue::Array(items) => {
            let mut kept = DeArray::new();
            for (index, item) in items.into_iter().enumerate() {
                here.push(Segment::Index(index));
                if !wrong.contains(here) {
                    kept.push(sound(item, wrong, here));
                }
                here.pop();
            }
            DeValue::Array(kept)
        }
        other => other,
    };
    Spanned::new(span, value)
}

/// Says what one violation of the schema means, and what to take out because of it.
fn note(
    form: &Form,
    error: &jsonschema::ValidationError,
    table: &Spanned<DeTable>,
    mistakes: &mut Mistakes,
    wrong: &mut HashSet<Vec<Segment>>,
) {
    let path: Vec<Segment> = error
        .instance_path()
        .into_iter()
        .map(|segment| match segment {
            LocationSegment::Property(name) => Segment::Key(name.to_string()),
            LocationSegment::Index(index) => Segment::Index(index),
        })
        .collect();
    if mistakes.is_full() {
        // It is counted, and taken out; nobody asks what it is.
        mistakes.add_with(0..0, String::new, || None);
        match error.kind() {
            ValidationErrorKind::AdditionalProperties { unexpected } => {
                let inner = |key: &String| [&path[..], &[Segment::Key(key.clone())]].concat();
                wrong.extend(unexpected.iter().map(inner));
            }
            ValidationErrorKind::Required { .. } => {}
            _ => drop(wrong.insert(path)),
        }
        return;
    }
    let found = find(table, &path);
    let span = found.as_ref().map_or(0..0, |found| found.span.clone());
    let what = found.as_ref().map_or("nothing", |found| kind(found.value));
    let place = place(&path);
    let top = match path.first() {
        Some(Segment::Key(name)) => Some(name.clone()),
        _ => None,
    };
    let top = top.as_deref();
    let rule = rule_at(form, error.schema_path().as_str());
    match error.kind() {
        ValidationErrorKind::AdditionalProperties { unexpected } => {
            let known = rule.and_then(|rule| rule.get("properties")?.as_object());
            let known: Vec<&str> =
                known.into_iter().flatten().map(|(key, _)| key.as_str()).collect();
            for key in unexpected {
                let mut inner = path.clone();
                inner.push(Segment::Key(key.clone()));
                let at = find(table, &inner).and_then(|found| found.key).unwrap_or(span.clone());
                let remedy = match nearest(key, known.iter().copied()) {
                    Some(near) => format!("did you mean {near:?}?"),
                    None => format!("known here: {}", known.join(", ")),
                };
                mistakes.add(
                    at,
                    format!("unknown key {:?}{place}", shown(key.as_bytes())),
                    Some(remedy),
                );
                wrong.insert(inner);
            }
        }
        ValidationErrorKind::Required { property } => {
            let name = property.as_str().unwrap_or_default();
            let at = match found.as_ref().and_then(|found| found.key.clone()) {
                Some(key) => key,
                None => span,
            };
            mistakes.add(
                at,
                format!("{name:?} is missing{place}"),
                Some((form.missing)(name, top)),
            );
        }
        ValidationErrorKind::Enum { options } => {
            let options: Vec<&str> =
                options.as_array().into_iter().flatten().filter_map(Value::as_str).collect();
            not_among(error.instance().as_str(), what, &options, span, mistakes);
            wrong.insert(path);
        }
        ValidationErrorKind::AnyOf { .. } | ValidationErrorKind::OneOfNotValid { .. } => {
            one_or_many(form, table, &path, rule, mistakes);
            wrong.insert(path);
        }
        ValidationErrorKind::Type { .. } => {
            let wanted = rule.and_then(|rule| rule.get("type")).map(expected).unwrap_or_default();
            mistakes.add(span, format!("expected {wanted}, found {what}"), None);
            wrong.insert(path);
        }
        ValidationErrorKind::Pattern { .. } => {
            let example =
                rule.and_then(|rule| rule.get("examples")?.get(0)?.as_str().map(str::to_owned));
            let remedy = example.map(|example| format!("for example {example:?}"));
            let text = error.instance().as_str().unwrap_or_default();
            mistakes.add(
                span,
                format!("{:?} does not have the right form", shown(text.as_bytes())),
                remedy,
            );
            wrong.insert(path);
        }
        ValidationErrorKind::Minimum { limit } | ValidationErrorKind::Maximum { limit } => {
            if path == [Segment::Key(form.version.into())] {
                let remedy = format!("this Tarvek reads {}s of version 1", form.called);
                mistakes.add(span, format!("a {} of another version", form.called), Some(remedy));
            } else {
                let word = if matches!(error.kind(), ValidationErrorKind::Minimum { .. }) {
                    "small"
                } else {
                    "large"
                };
                mistakes.add(
                    span,
                    format!("this number is too {word}; the limit is {limit}"),
                    None,
                );
            }
            wrong.insert(path);
        }
        ValidationErrorKind::MinItems { .. } => {
            mistakes.add(span, "an empty list, where at least one is needed", None);
            wrong.insert(path);
        }
        _ => {
            mistakes.add(span, shown(error.to_string().as_bytes()), None);
            wrong.insert(path);
        }
    }
}

fn not_among(
    found: Option<&str>,
    what: &str,
    options: &[&str],
    span: Range<usize>,
    mistakes: &mut Mistakes,
) {
    let all = options.join(", ");
    let Some(text) = found else {
        mistakes.add(span, format!("expected one of {all}, found {what}"), None);
        return;
    };
    let remedy = match nearest(text, options.iter().copied()) {
        Some(near) => format!("did you mean {near:?}? (known: {all})"),
        None => format!("known: {all}"),
    };
    mistakes.add(span, format!("{:?} is not known here", shown(text.as_bytes())), Some(remedy));
}

/// A value that may have one of several shapes: one word or a list of words, a number or a name.
fn one_or_many(
    form: &Form,
    table: &Spanned<DeTable>,
    path: &[Segment],
    rule: Option<&'static Value>,
    mistakes: &mut Mistakes,
) {
    let Some(found) = find(table, path) else { return };
    let shapes = rule.and_then(|rule| rule.get("anyOf")?.as_array()).into_iter().flatten();
    let shapes: Vec<&Value> = shapes.map(|shape| resolved(form, shape)).collect();
    if shapes.iter().all(|shape| shape.get("enum").is_none() && shape.get("items").is_none()) {
        let limit = shapes.iter().find_map(|shape| shape.get("maximum"));
        let message = match (found.value, limit) {
            (DeValue::Integer(number), Some(_)) if number.as_str().starts_with('-') => {
                "this number is too small; the limit is 0".to_owned()
            }
            (DeValue::Integer(_), Some(limit)) => {
                format!("this number is too large; the limit is {limit}")
            }
            (value, _) => {
                let types = shapes.iter().filter_map(|shape| shape.get("type")).map(expected);
                let types: Vec<String> = types.map(|text| text.to_string()).collect();
                format!("expected {}, found {}", types.join(" or "), kind(value))
            }
        };
        mistakes.add(found.span, message, None);
        return;
    }
    let item = rule.and_then(|rule| rule.get("anyOf")?.get(0)).map(|item| resolved(form, item));
    let options: Vec<&str> = item
        .and_then(|item| item.get("enum")?.as_array())
        .into_iter()
        .flatten()
        .filter_map(Value::as_str)
        .collect();
    let judge = |value: &DeValue, span: Range<usize>, mistakes: &mut Mistakes| {
        if value.as_str().is_none_or(|text| !options.contains(&text)) {
            not_among(value.as_str(), kind(value), &options, span, mistakes);
        }
    };
    match found.value {
        DeValue::Array(items) if items.is_empty() => {
            mistakes.add(found.span, "an empty list, where at least one is needed", None);
        }
        DeValue::Array(items) => {
            items.iter().for_each(|item| judge(item.get_ref(), item.span(), mistakes));
        }
        value => judge(value, found.span, mistakes),
    }
}

/// The part of the schema that holds the keyword of a violation.
fn rule_at(form: &Form, schema_path: &str) -> Option<&'static Value> {
    let mut here = resolved(form, &(form.structure)().schema);
    let segments: Vec<&str> = schema_path.trim_start_matches(['#', '/']).split('/').collect();
    let (_, above) = segments.split_last()?;
    for segment in above.iter().filter(|segment| **segment != "$ref") {
        let name = segment.replace("~1", "/").replace("~0", "~");
        let next = match here {
            Value::Array(items) => items.get(name.parse::<usize>().ok()?)?,
            value => value.get(&name)?,
        };
        here = resolved(form, next);
    }
    Some(here)
}

fn resolved(form: &Form, value: &'static Value) -> &'static Value {
    value
        .get("$ref")
        .and_then(Value::as_str)
        .and_then(|reference| (form.structure)().schema.pointer(reference.trim_start_matches('#')))
        .unwrap_or(value)
}

/// ` in [service.lantern]`, for the end of a message.
fn place(path: &[Segment]) -> String {
    if path.is_empty() {
        return String::new();
    }
    let mut text = String::new();
    for step in path {
        match step {
            Segment::Key(name) if text.is_empty() => text = shown(name.as_bytes()),
            Segment::Key(name) => text += &format!(".{}", shown(name.as_bytes())),
            Segment::Index(_) => {}
        }
    }
    format!(" in [{text}]")
}
