//! What a key of a layout may hold.

use std::fmt;

use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::text::shown;

/// A value as a layout has it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Value {
    Text(String),
    Number(u32),
    Flag(bool),
    List(Vec<Value>),
    /// Keys in their order.
    Table(Vec<(String, Value)>),
}

impl Value {
    /// A table with texts.
    pub fn table<'a>(keys: impl IntoIterator<Item = (&'a str, Value)>) -> Self {
        Self::Table(keys.into_iter().map(|(key, value)| (key.to_owned(), value)).collect())
    }

    /// Permission bits, as four octal digits.
    pub fn octal(bits: u16) -> Self {
        Self::Text(format!("{bits:04o}"))
    }

    /// A path as its client writes it; `None` if it is no text.
    pub fn path(path: &AbsPath) -> Option<Self> {
        let written = path.as_client_writes();
        let bytes = written.as_deref().unwrap_or(path.as_bytes());
        Some(Self::Text(std::str::from_utf8(bytes).ok()?.to_owned()))
    }

    /// The text, if it is one.
    pub fn text(&self) -> Option<&str> {
        match self {
            Self::Text(text) => Some(text),
            _ => None,
        }
    }
}

impl From<&str> for Value {
    fn from(text: &str) -> Self {
        Self::Text(text.to_owned())
    }
}

impl From<String> for Value {
    fn from(text: String) -> Self {
        Self::Text(text)
    }
}

impl From<&Name> for Value {
    fn from(name: &Name) -> Self {
        name.raw().into()
    }
}

impl From<bool> for Value {
    fn from(flag: bool) -> Self {
        Self::Flag(flag)
    }
}

impl From<u32> for Value {
    fn from(number: u32) -> Self {
        Self::Number(number)
    }
}

impl<T: Into<Value>> FromIterator<T> for Value {
    fn from_iter<I: IntoIterator<Item = T>>(items: I) -> Self {
        Self::List(items.into_iter().map(Into::into).collect())
    }
}

impl fmt::Display for Value {
    /// As a sentence quotes it, escaped. The file is written by another quoting.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let listed = |items: Vec<String>| items.join(", ");
        match self {
            Self::Text(text) => write!(f, "\"{}\"", shown(text.as_bytes())),
            Self::Number(number) => number.fmt(f),
            Self::Flag(flag) => flag.fmt(f),
            Self::List(items) => {
                write!(f, "[{}]", listed(items.iter().map(ToString::to_string).collect()))
            }
            Self::Table(keys) => {
                let one =
                    |(key, value): &(String, Value)| format!("{} = {value}", shown(key.as_bytes()));
                write!(f, "{{ {} }}", listed(keys.iter().map(one).collect()))
            }
        }
    }
}
