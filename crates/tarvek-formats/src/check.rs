//! Checks a TOML table against the schema of its kind of file: every mistake is noted at its place,
//! and what is wrong is named, to be taken out.
//!
//! It knows the keywords that the schemas of layouts and briefs have; a test holds that they have
//! no others, and another that a JSON Schema validator accepts the same.

use std::collections::HashSet;
use std::ops::Range;

use serde_json::Value;
use tarvek_core::words::text::{nearest, shown};
use toml::Spanned;
use toml::de::{DeTable, DeValue};

use crate::mistake::Mistakes;
use crate::structure::{Form, Segment};

/// Notes everything in a table that its schema does not allow; what has to go for it comes into
/// `wrong`.
pub(crate) fn check(
    form: &Form,
    table: &DeTable,
    mistakes: &mut Mistakes,
    wrong: &mut HashSet<Vec<Segment>>,
) {
    let root = &(form.structure)().schema;
    Checker { form, mistakes, wrong, here: Vec::new() }.table(root, table, 0..0, None);
}

struct Checker<'a, 'm, 't> {
    form: &'a Form,
    mistakes: &'a mut Mistakes<'t>,
    wrong: &'m mut HashSet<Vec<Segment>>,
    here: Vec<Segment>,
}

impl Checker<'_, '_, '_> {
    /// A value that is in no table that has a key for it.
    fn wrong(&mut self, span: Range<usize>, message: String, remedy: Option<String>) {
        self.mistakes.add(span, message, remedy);
        self.wrong.insert(self.here.clone());
    }

    fn value(
        &mut self,
        schema: &'static Value,
        value: &Spanned<DeValue>,
        key: Option<Range<usize>>,
    ) {
        let schema = resolved(self.form, schema);
        let span = value.span();
        if let Some(shapes) = schema.get("anyOf").and_then(Value::as_array) {
            if !shapes.iter().any(|shape| fits(self.form, shape, value)) {
                self.one_or_many(shapes, value);
                self.wrong.insert(self.here.clone());
            }
            return;
        }
        let value = value.get_ref();
        if let Some(options) = schema.get("enum").and_then(Value::as_array) {
            let options: Vec<&str> = options.iter().filter_map(Value::as_str).collect();
            if value.as_str().is_none_or(|text| !options.contains(&text)) {
                not_among(value.as_str(), kind(value), &options, span, self.mistakes);
                self.wrong.insert(self.here.clone());
            }
            return;
        }
        if let Some(wanted) = schema.get("type").filter(|wanted| !is_of(wanted, value)) {
            let message = format!("expected {}, found {}", expected(wanted), kind(value));
            return self.wrong(span, message, None);
        }
        match value {
            DeValue::String(text) => self.text(schema, text, span),
            DeValue::Integer(_) => self.number(schema, value, span),
            DeValue::Array(items) => {
                let least = schema.get("minItems").and_then(Value::as_u64).unwrap_or(0);
                if (items.len() as u64) < least {
                    let message = "an empty list, where at least one is needed".to_owned();
                    return self.wrong(span, message, None);
                }
                let Some(of_items) = schema.get("items") else { return };
                for (index, item) in items.iter().enumerate() {
                    self.here.push(Segment::Index(index));
                    self.value(of_items, item, None);
                    self.here.pop();
                }
            }
            DeValue::Table(table) => self.table(schema, table, span, key),
            DeValue::Float(_) | DeValue::Boolean(_) | DeValue::Datetime(_) => {}
        }
    }

    fn table(
        &mut self,
        schema: &'static Value,
        table: &DeTable,
        span: Range<usize>,
        key: Option<Range<usize>>,
    ) {
        let schema = resolved(self.form, schema);
        let properties = schema.get("properties").and_then(Value::as_object);
        let others = schema.get("additionalProperties");
        for (name, value) in table {
            let text = name.get_ref().as_ref();
            self.here.push(Segment::Key(text.to_owned()));
            match (properties.and_then(|known| known.get(text)), others) {
                (Some(inner), _) => self.value(inner, value, Some(name.span())),
                (None, Some(Value::Bool(false))) => {
                    let known = || properties.into_iter().flatten().map(|(key, _)| key.as_str());
                    let remedy = || match nearest(text, known()) {
                        Some(near) => format!("did you mean {near:?}?"),
                        None => format!("known here: {}", known().collect::<Vec<_>>().join(", ")),
                    };
                    let place = place(&self.here[..self.here.len() - 1]);
                    let message = || format!("unknown key {:?}{place}", shown(text.as_bytes()));
                    self.mistakes.add_with(name.span(), message, || Some(remedy()));
                    self.wrong.insert(self.here.clone());
                }
                (None, Some(inner)) => self.value(inner, value, Some(name.span())),
                (None, None) => {}
            }
            self.here.pop();
        }
        let required = schema.get("required").and_then(Value::as_array);
        for name in required.into_iter().flatten().filter_map(Value::as_str) {
            if table.get(name).is_none() {
                let top = match self.here.first() {
                    Some(Segment::Key(name)) => Some(name.as_str()),
                    _ => None,
                };
                self.mistakes.add(
                    key.clone().unwrap_or_else(|| span.clone()),
                    format!("{name:?} is missing{}", place(&self.here)),
                    Some((self.form.missing)(name, top)),
                );
            }
        }
    }

    fn text(&mut self, schema: &'static Value, text: &str, span: Range<usize>) {
        let Some(pattern) = schema.get("pattern").and_then(Value::as_str) else { return };
        if (self.form.structure)().patterns[pattern].is_match(text) {
            return;
        }
        let example = schema.get("examples").and_then(|all| all.get(0)?.as_str());
        let remedy = example.map(|example| format!("for example {example:?}"));
        let message = format!("{:?} does not have the right form", shown(text.as_bytes()));
        self.wrong(span, message, remedy);
    }

    fn number(&mut self, schema: &'static Value, value: &DeValue, span: Range<usize>) {
        let Some(beyond) = beyond(schema, value) else { return };
        if self.here == [Segment::Key(self.form.version.into())] {
            let called = self.form.called;
            let remedy = format!("this Tarvek reads {called}s of version 1");
            return self.wrong(span, format!("a {called} of another version"), Some(remedy));
        }
        let message = match beyond {
            Beyond::Small(limit) => format!("this number is too small; the limit is {limit}"),
            Beyond::Large(limit) => format!("this number is too large; the limit is {limit}"),
        };
        self.wrong(span, message, None);
    }

    /// A value that may have one of several shapes: one word or a list of words, a number or a
    /// name.
    fn one_or_many(&mut self, shapes: &'static [Value], found: &Spanned<DeValue>) {
        let shapes: Vec<&Value> = shapes.iter().map(|shape| resolved(self.form, shape)).collect();
        let span = found.span();
        if shapes.iter().all(|shape| shape.get("enum").is_none() && shape.get("items").is_none()) {
            let limit = shapes.iter().find_map(|shape| shape.get("maximum"));
            let message = match (found.get_ref(), limit) {
                (DeValue::Integer(number), Some(_)) if number.as_str().starts_with('-') => {
                    "this number is too small; the limit is 0".to_owned()
                }
                (DeValue::Integer(_), Some(limit)) => {
                    format!("this number is too large; the limit is {limit}")
                }
                (value, _) => {
                    let types = shapes.iter().filter_map(|shape| shape.get("type")).map(expected);
                    let types: Vec<String> = types.collect();
                    format!("expected {}, found {}", types.join(" or "), kind(value))
                }
            };
            self.mistakes.add(span, message, None);
            return;
        }
        let options = shapes.first().and_then(|item| item.get("enum")?.as_array());
        let options: Vec<&str> = options.into_iter().flatten().filter_map(Value::as_str).collect();
        let mut judge = |value: &Spanned<DeValue>| {
            let of = value.get_ref();
            if of.as_str().is_none_or(|text| !options.contains(&text)) {
                not_among(of.as_str(), kind(of), &options, value.span(), self.mistakes);
            }
        };
        match found.get_ref() {
            DeValue::Array(items) if items.is_empty() => {
                let message = "an empty list, where at least one is needed";
                self.mistakes.add(span, message, None);
            }
            DeValue::Array(items) => items.iter().for_each(judge),
            _ => judge(found),
        }
    }
}

/// Whether nothing of a value is wrong by a schema.
fn fits(form: &Form, schema: &'static Value, value: &Spanned<DeValue>) -> bool {
    let mut mistakes = Mistakes::new("");
    let mut wrong = HashSet::new();
    let mut checker =
        Checker { form, mistakes: &mut mistakes, wrong: &mut wrong, here: Vec::new() };
    checker.value(schema, value, None);
    mistakes.is_empty()
}

/// The limit that a number goes beyond.
enum Beyond {
    Small(i64),
    Large(i64),
}

fn beyond(schema: &Value, value: &DeValue) -> Option<Beyond> {
    let DeValue::Integer(number) = value else { return None };
    let limit = |key: &str| schema.get(key).and_then(Value::as_i64);
    // What no key can hold is still a whole number, and too large or too small.
    let vast = if number.as_str().starts_with('-') { i128::MIN } else { i128::MAX };
    let exact = i128::from_str_radix(number.as_str(), number.radix()).unwrap_or(vast);
    let small = limit("minimum").filter(|least| exact < i128::from(*least));
    let large = || limit("maximum").filter(|most| exact > i128::from(*most));
    small.map(Beyond::Small).or_else(|| large().map(Beyond::Large))
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

/// Whether a value is of a type, or of one of several.
fn is_of(wanted: &Value, value: &DeValue) -> bool {
    let is = |name: &str| match value {
        DeValue::String(_) => name == "string",
        DeValue::Integer(_) => matches!(name, "integer" | "number"),
        DeValue::Float(_) => name == "number",
        DeValue::Boolean(_) => name == "boolean",
        DeValue::Array(_) => name == "array",
        DeValue::Table(_) => name == "object",
        // No key of a layout takes a date.
        DeValue::Datetime(_) => false,
    };
    match wanted {
        Value::String(name) => is(name),
        Value::Array(names) => names.iter().filter_map(Value::as_str).any(is),
        _ => true,
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

fn not_among(
    found: Option<&str>,
    what: &str,
    options: &[&str],
    span: Range<usize>,
    mistakes: &mut Mistakes,
) {
    let all = || options.join(", ");
    let Some(text) = found else {
        let message = format!("expected one of {}, found {what}", all());
        mistakes.add(span, message, None);
        return;
    };
    let remedy = || match nearest(text, options.iter().copied()) {
        Some(near) => format!("did you mean {near:?}? (known: {})", all()),
        None => format!("known: {}", all()),
    };
    let message = || format!("{:?} is not known here", shown(text.as_bytes()));
    mistakes.add_with(span, message, || Some(remedy()));
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

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use super::*;

    /// Every keyword that a schema has, tables of names aside.
    fn keywords(schema: &Value, found: &mut BTreeSet<String>) {
        match schema {
            Value::Object(object) => {
                for (key, inner) in object {
                    found.insert(key.clone());
                    match (key.as_str(), inner) {
                        ("properties" | "$defs", Value::Object(named)) => {
                            named.values().for_each(|inner| keywords(inner, found));
                        }
                        _ => keywords(inner, found),
                    }
                }
            }
            Value::Array(items) => items.iter().for_each(|inner| keywords(inner, found)),
            _ => {}
        }
    }

    #[test]
    fn the_schemas_have_no_keyword_that_is_not_checked() {
        let mut found = BTreeSet::new();
        keywords(&crate::layout::schema(), &mut found);
        keywords(&crate::brief::schema(), &mut found);
        let known = [
            "$defs",
            "$ref",
            "$schema",
            "additionalProperties",
            "anyOf",
            "default",
            "description",
            "enum",
            "examples",
            "format",
            "items",
            "maximum",
            "minItems",
            "minimum",
            "pattern",
            "properties",
            "required",
            "title",
            "type",
        ];
        let known = known.map(str::to_owned);
        assert_eq!(found.difference(&known.into()).collect::<Vec<_>>(), Vec::<&String>::new());
    }

    /// Somewhere in a document another value, or one key less, or one more.
    fn spoiled(value: &mut Value, next: &mut impl FnMut(usize) -> usize) {
        let others = [
            Value::Null,
            "ro".into(),
            "x\"".into(),
            "".into(),
            0.into(),
            (-1).into(),
            5_000_000_000_i64.into(),
            true.into(),
            serde_json::json!([]),
            serde_json::json!(["serve"]),
            serde_json::json!({}),
            1.5.into(),
        ];
        match value {
            Value::Object(object) if !object.is_empty() && next(8) > 0 => {
                let at = next(object.len());
                let key = object.keys().nth(at).unwrap().clone();
                match next(12) {
                    0 => drop(object.remove(&key)),
                    1 => drop(object.insert(format!("{key}s"), others[1 + next(11)].clone())),
                    _ => spoiled(&mut object[&key], next),
                }
            }
            Value::Array(items) if !items.is_empty() && next(8) > 0 => {
                let at = next(items.len());
                spoiled(&mut items[at], next);
            }
            value => *value = others[1 + next(11)].clone(),
        }
    }

    #[test]
    fn a_json_schema_validator_accepts_the_same() {
        let sound: toml::Table = include_str!("../../tarvek/src/demo/tarvek.toml").parse().unwrap();
        let sound = serde_json::to_value(sound).unwrap();
        let validator = jsonschema::validator_for(&crate::layout::schema()).unwrap();
        let mut state = 20_261_201_u64;
        let mut next = |below: usize| {
            state = state
                .wrapping_mul(6_364_136_223_846_793_005)
                .wrapping_add(1_442_695_040_888_963_407);
            (state >> 33) as usize % below
        };
        let (mut accepted, mut refused) = (0, 0);
        for _ in 0..4000 {
            let mut document = sound.clone();
            spoiled(&mut document, &mut next);
            if !document.is_object() {
                continue;
            }
            let text = toml::to_string(&document).unwrap();
            let mut mistakes = Mistakes::new(&text);
            let (table, errors) = DeTable::parse_recoverable(&text);
            assert!(errors.is_empty(), "{text}");
            check(&crate::layout::FORM, table.get_ref(), &mut mistakes, &mut HashSet::new());
            assert_eq!(mistakes.is_empty(), validator.is_valid(&document), "{text}");
            if mistakes.is_empty() { accepted += 1 } else { refused += 1 }
        }
        assert!(accepted > 200 && refused > 2000, "{accepted} {refused}");
    }
}
