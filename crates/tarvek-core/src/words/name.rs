//! Names of hosts, shares, services, accounts and the like, as a file gives them.

use std::borrow::Borrow;
use std::fmt;
use std::sync::Arc;

use crate::words::text::shown;

/// A name out of a file. Whoever wrote the file chose its characters, so that it is shown escaped
/// ([`shown`]) and only handed on as it is where the other side has a quoting of its own
/// ([`Name::raw`]).
#[derive(Clone, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Name(Arc<str>);

impl Name {
    /// As it was written, for comparing, and for writers that quote by themselves.
    pub fn raw(&self) -> &str {
        &self.0
    }
}

/// More of a name is not shown, in bytes. No system has one that is as long as that; a path as a
/// source may be (`PATH_MAX`).
const LONGEST: usize = 4096;

impl Name {
    fn shown(&self) -> String {
        let bytes = self.0.as_bytes();
        match bytes.get(..LONGEST) {
            Some(start) if bytes.len() > LONGEST => shown(start) + "…",
            _ => shown(bytes),
        }
    }
}

impl fmt::Display for Name {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.shown())
    }
}

impl fmt::Debug for Name {
    /// In quotation marks, as a message quotes it.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Debug::fmt(&self.shown(), f)
    }
}

impl From<&str> for Name {
    fn from(name: &str) -> Self {
        Self(name.into())
    }
}

impl From<String> for Name {
    fn from(name: String) -> Self {
        Self(name.into())
    }
}

impl From<&Name> for Name {
    fn from(name: &Name) -> Self {
        name.clone()
    }
}

impl Borrow<str> for Name {
    fn borrow(&self) -> &str {
        &self.0
    }
}

impl PartialEq<str> for Name {
    fn eq(&self, other: &str) -> bool {
        *self.0 == *other
    }
}

impl PartialEq<&str> for Name {
    fn eq(&self, other: &&str) -> bool {
        *self.0 == **other
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_is_shown_escaped_and_compared_as_it_is() {
        let name = Name::from("gran\u{1b}[2Jary");
        assert_eq!(name.to_string(), "gran\\u{1b}[2Jary");
        assert_eq!(format!("{:>7}|{:<3}|", Name::from("kelp"), Name::from("a")), "   kelp|a  |");
        assert_eq!(format!("{:?}", Name::from("a\"b")), "\"a\\\"b\"");
        let long = Name::from("x".repeat(1 << 20)).to_string();
        assert!(long.ends_with('…') && long.len() < 5000);
        assert!(name == "gran\u{1b}[2Jary" && name.raw().len() == 11);
    }
}
