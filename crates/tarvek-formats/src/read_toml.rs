//! From the text of a TOML file to the type that holds it as it is written. What is wrong is noted
//! and taken out, so that the rest can be judged all the same.

use std::collections::HashSet;
use std::ops::Range;

use serde::Deserialize;
use tarvek_core::words::grammar::{Text, text_fault};
use tarvek_core::words::text::shown;
use toml::Spanned;
use toml::de::{DeArray, DeTable, DeValue};

use crate::check::check;
use crate::mistake::Mistakes;
use crate::structure::{Form, Segment};

/// Reads the text as far as it is right, and notes everything that is not.
pub(crate) fn read_toml<T: Default + for<'de> Deserialize<'de>>(
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
    check(form, table.get_ref(), mistakes, &mut wrong);
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
