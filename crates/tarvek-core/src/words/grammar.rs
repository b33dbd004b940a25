//! The grammar of names in a layout. A name goes into file names, units, configuration of all sorts
//! and command lines, so that it keeps what has a meaning there out; each format still quotes what
//! is left in its own way, or refuses it.

use crate::words::text::is_unseen;

/// What a name names.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Naming {
    /// A host, share, service or intake.
    Thing,
    /// An account or group of a host.
    Account,
    /// Who stands in a list: an account or `@group`, either perhaps of a domain (`DOMAIN\name`,
    /// `smb.conf(5)`).
    Member,
    /// A library: it is shown, and no system knows it.
    Title,
    /// A dataset, as its filesystem names it: parts between slashes.
    Dataset,
}

impl Naming {
    /// What is allowed, in words.
    pub const fn rule(self) -> &'static str {
        match self {
            Self::Thing | Self::Account => {
                "a name starts with a letter, a digit or _, and has none of / \\ : \" , ; = + * ? \
                 < > | % [ ]"
            }
            Self::Member => {
                "write an account or @group, perhaps as DOMAIN\\name, with none of / : \" , ; = + \
                 * ? < > | % [ ]"
            }
            Self::Title => "a library's name is text in one line without / and \\",
            Self::Dataset => {
                "write it as its filesystem names it: parts between slashes, none of them .. and \
                 none starting with -, without \\ \" , ; = + * ? < > | % @ [ ]"
            }
        }
    }
}

/// What has a meaning in some format that a name goes into, or is no part of a name on some system.
const APART: &[char] =
    &['/', '\\', ':', '"', ',', ';', '=', '+', '*', '?', '<', '>', '|', '%', '[', ']'];

/// The longest name, in bytes (`NAME_MAX`, `limits.h(0p)`).
pub const LONGEST: usize = 255;

/// What keeps a text from being a name, in words that follow it: `has a control character
/// (U+001B)`.
pub fn fault(sort: Naming, text: &str) -> Option<String> {
    if text.is_empty() {
        return Some("is empty".to_owned());
    }
    if text.len() > LONGEST {
        return Some(format!("has {} bytes; the most is {LONGEST}", text.len()));
    }
    if let Some(c) = text.chars().find(|c| is_unseen(*c)) {
        return Some(format!("has a character that is not seen (U+{:04X})", u32::from(c)));
    }
    // Some servers make one space of several.
    if text.chars().any(|c| c.is_whitespace() && c != ' ')
        || text.trim() != text
        || text.contains("  ")
    {
        return Some("has a space where none can be told from nothing".to_owned());
    }
    match sort {
        Naming::Thing => plain(text),
        // Where a name or a number may stand, digits are a number.
        Naming::Account if text.bytes().all(|b| b.is_ascii_digit()) => {
            Some("is a number".to_owned())
        }
        Naming::Account => plain(text),
        Naming::Member => {
            let text = text.strip_prefix('@').unwrap_or(text);
            match text.split_once('\\') {
                Some((domain, name)) => plain(domain).or_else(|| plain(name)),
                None => plain(text),
            }
        }
        Naming::Title => {
            let odd = text.chars().find(|c| matches!(c, '/' | '\\'));
            odd.map(|c| format!("has a {c}")).or_else(|| dots(text))
        }
        Naming::Dataset => {
            let odd = |c: &char| *c != '/' && *c != ':' && APART.contains(c) || *c == '@';
            if let Some(c) = text.chars().find(odd) {
                return Some(format!("has a {c}"));
            }
            let text = text.strip_prefix('/').unwrap_or(text);
            text.split('/').find_map(|part| {
                if part.is_empty() || part.starts_with('-') {
                    return Some(format!("has the part {part:?}"));
                }
                dots(part)
            })
        }
    }
}

fn plain(text: &str) -> Option<String> {
    if let Some(c) = text.chars().find(|c| APART.contains(c)) {
        return Some(format!("has a {c}"));
    }
    match text.chars().next() {
        Some(c) if c.is_alphanumeric() || c == '_' => None,
        Some(c) => Some(format!("starts with {c}")),
        None => Some("is empty".to_owned()),
    }
}

fn dots(text: &str) -> Option<String> {
    matches!(text, "." | "..").then(|| format!("has the part {text:?}"))
}

/// The longest text of a layout or brief, in bytes (`PATH_MAX`).
pub const LONGEST_TEXT: usize = 4096;

/// What a text of a layout or brief is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Text {
    /// Anything in one line.
    Line,
    /// It may have several.
    Lines,
    /// A path may hold whatever a kernel lets stand in a name; who writes it out quotes or refuses
    /// it.
    Path,
}

/// What keeps a text out of a layout or brief: a control character, or its length.
pub fn text_fault(text: &str, what: Text) -> Option<String> {
    if text.len() > LONGEST_TEXT {
        return Some(format!("is {} bytes long; the limit is {LONGEST_TEXT}", text.len()));
    }
    let bad = |c: &char| {
        let control = c.is_control() || matches!(c, '\u{2028}' | '\u{2029}');
        match what {
            Text::Line => control,
            Text::Lines => control && !matches!(c, '\n' | '\t'),
            Text::Path => false,
        }
    };
    let c = text.chars().find(bad)?;
    Some(format!("has a control character (U+{:04X})", u32::from(c)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_the_trade_are_names_and_nothing_else_is() {
        for (sort, names) in [
            (
                Naming::Thing,
                "granary|media$|mill-race.lan|_lamp|Family Photos|größe|2nd|it's|a&b (c)",
            ),
            (Naming::Account, "mira|mira.q|svc-lantern$|mira@kestrel.lan"),
            (Naming::Member, "mira|@keepers|KESTREL\\mira|@KESTREL\\domain users"),
            (Naming::Title, "Films|Q: A?|Films + Series|100 % live|\"So\" [new]"),
            (Naming::Dataset, "loft|loft/media|/dev/sdb1|loft/a b|rpool/ROOT/x_1:2"),
        ] {
            for name in names.split('|') {
                assert_eq!(fault(sort, name), None, "{sort:?} {name:?}");
            }
        }
        let long = "x".repeat(256);
        for sort in [Naming::Thing, Naming::Account, Naming::Member, Naming::Title, Naming::Dataset]
        {
            for name in [
                "",
                " a",
                "a ",
                "a\nb",
                "a\u{1b}b",
                "a\u{202e}",
                "a\u{a0}b",
                "a\u{85}",
                "..",
                &long,
            ] {
                assert!(fault(sort, name).is_some(), "{sort:?} {name:?}");
            }
        }
        for name in [
            "../x", "/abs/x", "a/b", "a\\b", "a:b", "-x", ".x", "@x", "a,b", "a\"b", "a%b", "a]b",
            "x=1", "#x",
        ] {
            assert!(
                fault(Naming::Thing, name).is_some() && fault(Naming::Account, name).is_some(),
                "{name}"
            );
        }
        assert!(fault(Naming::Account, "840").is_some());
        for name in ["a\\b\\c", "@", "@\\x", "+x", "&x", "x,y"] {
            assert!(fault(Naming::Member, name).is_some(), "{name}");
        }
        for name in ["-o x", "a//b", "a/../b", "a/-x", "a/"] {
            assert!(fault(Naming::Dataset, name).is_some(), "{name}");
        }
    }
}
