//! What TOML files of a kind have to be: types that read them, with places, and their schema.

use std::borrow::Cow;
use std::collections::{BTreeMap, HashMap};
use std::fmt;
use std::ops::Range;

use regex_lite::Regex;
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::de::{Deserializer, IntoDeserializer, SeqAccess, Visitor};
use serde::{Deserialize, Serialize, Serializer};
use serde_json::Value;

use tarvek_core::words::grammar::Text;
use tarvek_core::words::terms::LARGEST_ID;

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

/// A value that was made and not read is at no place.
impl<T> From<T> for At<T> {
    fn from(value: T) -> Self {
        Self { value, span: 0..0 }
    }
}

impl<T: Serialize> Serialize for At<T> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        self.value.serialize(serializer)
    }
}

/// Whether a value is what is meant where it is left out.
pub(crate) fn is_default<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
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

/// The keys of a table with their values, in the order in which they are written.
#[derive(Debug)]
pub(crate) struct Keys<T>(Vec<(At<String>, T)>);

impl<T> Keys<T> {
    pub(crate) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    pub(crate) fn iter(&self) -> impl Iterator<Item = (&At<String>, &T)> {
        self.0.iter().map(|(key, value)| (key, value))
    }

    /// The keys alone.
    pub(crate) fn names(&self) -> impl Iterator<Item = &str> {
        self.0.iter().map(|(key, _)| key.value.as_str())
    }
}

impl<T> Default for Keys<T> {
    fn default() -> Self {
        Self(Vec::new())
    }
}

impl<T> FromIterator<(At<String>, T)> for Keys<T> {
    fn from_iter<I: IntoIterator<Item = (At<String>, T)>>(keys: I) -> Self {
        Self(keys.into_iter().collect())
    }
}

impl<T> IntoIterator for Keys<T> {
    type Item = (At<String>, T);
    type IntoIter = std::vec::IntoIter<Self::Item>;
    fn into_iter(self) -> Self::IntoIter {
        self.0.into_iter()
    }
}

impl<'de, T: Deserialize<'de>> Deserialize<'de> for Keys<T> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let keys = BTreeMap::<At<String>, T>::deserialize(deserializer)?;
        let mut keys: Vec<_> = keys.into_iter().collect();
        keys.sort_by_key(|(key, _)| key.span.start);
        Ok(Self(keys))
    }
}

impl<T: Serialize> Serialize for Keys<T> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_map(self.iter())
    }
}

impl<T: JsonSchema> JsonSchema for Keys<T> {
    fn schema_name() -> Cow<'static, str> {
        format!("Keys_{}", T::schema_name()).into()
    }
    fn inline_schema() -> bool {
        true
    }
    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        BTreeMap::<String, T>::json_schema(generator)
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

impl<T: Serialize> Serialize for OneOrMany<T> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self.0.as_slice() {
            [one] => one.serialize(serializer),
            all => all.serialize(serializer),
        }
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
    /// The forms of texts, compiled, by their patterns.
    pub(super) patterns: HashMap<String, Regex>,
}

impl Structure {
    /// That of a type, as a reader of TOML needs it.
    pub(crate) fn of<T: JsonSchema>() -> Self {
        let mut schema = schemars::schema_for!(T).to_value();
        tidied(&mut schema);
        let mut patterns = HashMap::new();
        collect_patterns(&schema, &mut patterns);
        Self { schema, patterns }
    }
}

fn collect_patterns(schema: &Value, patterns: &mut HashMap<String, Regex>) {
    match schema {
        Value::Object(object) => {
            if let Some(pattern) = object.get("pattern").and_then(Value::as_str) {
                let compiled = Regex::new(pattern).expect("the forms are sound");
                patterns.insert(pattern.to_owned(), compiled);
            }
            object.values().for_each(|inner| collect_patterns(inner, patterns));
        }
        Value::Array(items) => items.iter().for_each(|inner| collect_patterns(inner, patterns)),
        _ => {}
    }
}

/// Marks a key that has to be there. The fields behind such keys are optional all the same, so that
/// what is right of a wrong table can still be judged; the schema's maker would take that for a key
/// that may be left out.
const REQUIRED: &str = "x-required";

/// What the schema's maker writes for Rust, said for TOML: there is no null, so an optional key is
/// one that may be left out, never one that may be null.
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
            let says_nothing = |value: &Value| {
                value.is_null() || value.as_object().is_some_and(serde_json::Map::is_empty)
            };
            object.retain(|key, value| !(key == "default" && says_nothing(value)));
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
            // A width that only the schema's maker knows becomes a limit that every reader knows;
            // most such numbers are ids.
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

/// One step down into the document.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) enum Segment {
    Key(String),
    Index(usize),
}
