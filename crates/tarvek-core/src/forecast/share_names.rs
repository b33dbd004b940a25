//! Names that break somewhere: at SMB clients, on systems that fold case, in programs that compare
//! bytes.

use std::collections::BTreeSet;

use unicode_normalization::{UnicodeNormalization, is_nfc};

use crate::facts::tree::{NodeId, Tree};
use crate::words::text::is_unseen;

/// The most UTF-16 units of a whole path that Windows programs take (`MAX_PATH` counts the NUL as
/// well).
const LONGEST_PATH: usize = 259;

/// The most bytes of one name (`NAME_MAX`), and the most UTF-16 units over SMB.
const LONGEST_NAME: usize = 255;

/// What a drive letter takes in front: `Z:\`.
const DRIVE: usize = 3;

/// What is wrong with a name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NameFault {
    /// Another name in the folder differs in case only.
    CaseCollision(Vec<u8>),
    /// Another name in the folder differs only in how characters are composed (UAX #15).
    UnicodeTwin(Vec<u8>),
    /// SMB clients can't show it, or Windows can't open it: why.
    NotShareSafe(String),
    /// It, or its path, is over a limit: which.
    TooLong(String),
    NotUtf8,
    /// It holds characters that nobody sees: which.
    UnseenCharacters(String),
}

/// A name and what is wrong with it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Faulty {
    pub node: NodeId,
    pub fault: NameFault,
}

/// Every name below a folder that breaks somewhere. `before` is how many UTF-16 units of path a
/// client has in front of what lies in the folder, its drive letter left out.
pub fn faults(tree: &Tree, top: NodeId, before: usize) -> Vec<Faulty> {
    let mut all = Vec::new();
    let mut todo = vec![(top, DRIVE + before)];
    while let Some((folder, before)) = todo.pop() {
        collisions(tree, folder, &mut all);
        for child in tree.children(folder) {
            let name = tree.name(child);
            let units = of_name(child, name, &mut all);
            let whole = before + units;
            if whole > LONGEST_PATH {
                let why = format!(
                    "its path has {whole} UTF-16 units for clients; Windows programs take \
                     {LONGEST_PATH}"
                );
                all.push(Faulty { node: child, fault: NameFault::TooLong(why) });
            } else if tree.meta(child).is_folder() {
                // What lies below one that is too long is too long as well.
                todo.push((child, whole + 1));
            }
        }
    }
    all.sort_by_key(|faulty| faulty.node);
    all
}

/// What is wrong with one name by itself; its length in UTF-16 units.
fn of_name(node: NodeId, name: &[u8], all: &mut Vec<Faulty>) -> usize {
    let plain =
        |b: &u8| b.is_ascii_alphanumeric() || matches!(b, b' ' | b'-' | b'_' | b'(' | b')' | b'.');
    let ends = matches!(name.last(), Some(b'.' | b' '));
    let short = name.len() > 3 && name[3] != b'.' && name.get(4).is_none_or(|b| *b != b'.');
    if !ends && short && name.len() <= LONGEST_NAME && name.len() > 6 && name.iter().all(plain) {
        return name.len();
    }
    let mut tell = |fault| all.push(Faulty { node, fault });
    let Ok(text) = std::str::from_utf8(name) else {
        tell(NameFault::NotUtf8);
        return String::from_utf8_lossy(name).encode_utf16().count();
    };
    let unseen: Vec<String> =
        text.chars().filter(|c| is_unseen(*c)).map(|c| format!("U+{:04X}", u32::from(c))).collect();
    if !unseen.is_empty() {
        tell(NameFault::UnseenCharacters(unseen.join(" ")));
    }
    if let Some(why) = unshowable(text) {
        tell(NameFault::NotShareSafe(why));
    }
    let units = text.encode_utf16().count();
    if name.len() > LONGEST_NAME {
        tell(NameFault::TooLong(format!(
            "the name has {} bytes, and most filesystems take {LONGEST_NAME}",
            name.len()
        )));
    }
    units
}

/// Why SMB clients show another name (MS-FSCC 2.1.5; what Samba mangles by itself, `mangled names`
/// in smb.conf(5)), or show it and can't open it.
fn unshowable(name: &str) -> Option<String> {
    let why = |why: &str| Some(format!("{why}: SMB clients show it under another name"));
    let signs: BTreeSet<String> = name
        .chars()
        .filter(|c| matches!(c, '<' | '>' | ':' | '"' | '|' | '?' | '*' | '\\') || *c < ' ')
        .map(|c| if c < ' ' { "a control character".to_owned() } else { format!("'{c}'") })
        .collect();
    if !signs.is_empty() {
        let signs: Vec<String> = signs.into_iter().collect();
        return why(&format!("it has {}", signs.join(", ")));
    }
    if name.ends_with('.') {
        // Samba lets it stand behind characters that are all beyond ASCII.
        let beyond = !name.trim_end_matches('.').contains(|c: char| c.is_ascii());
        return match beyond {
            true => Some("it ends with a dot, and Windows can't open it".to_owned()),
            false => why("it ends with a dot"),
        };
    }
    if name.ends_with(' ') {
        return why("it ends with a blank");
    }
    match device(name)? {
        (device, true) => why(&format!("{device} is a device to Windows")),
        (device, false) => Some(format!("{device} is a device to Windows, which can't open it")),
    }
}

/// The device of Windows that a name stands for, whatever its ending, and whether servers know it
/// too.
fn device(name: &str) -> Option<(String, bool)> {
    let whole = name.split('.').next().unwrap_or_default();
    let stem = whole.trim_end().to_ascii_uppercase();
    let numbered = |digits: &str| {
        let digit = ["COM", "LPT"].iter().find_map(|port| stem.strip_prefix(port));
        digit.is_some_and(|digit| digit.chars().count() == 1 && digits.contains(digit))
    };
    let old = ["CON", "PRN", "AUX", "NUL"].contains(&stem.as_str()) || numbered("1234");
    let new = ["CONIN$", "CONOUT$"].contains(&stem.as_str()) || numbered("56789¹²³");
    let known = old && whole.len() == stem.len();
    (old || new).then_some((stem, known))
}

/// Names of one folder that are one name to somebody.
fn collisions(tree: &Tree, folder: NodeId, all: &mut Vec<Faulty>) {
    let mut folded: Vec<(u64, NodeId)> =
        tree.children(folder).map(|child| (fold_hash(tree.name(child)), child)).collect();
    if folded.len() < 2 {
        return;
    }
    folded.sort_unstable();
    for same in folded.chunk_by(|a, b| a.0 == b.0).filter(|same| same.len() > 1) {
        for (n, (_, node)) in same.iter().enumerate() {
            let name = tree.name(*node);
            // The first of the others that it is confused with.
            let other =
                same.iter().enumerate().filter(|(m, _)| *m != n).find_map(|(_, (_, other))| {
                    Some(tree.name(*other)).filter(|other| fold(other) == fold(name))
                });
            let Some(other) = other.map(<[u8]>::to_vec) else { continue };
            let twin = composed(name) == composed(&other);
            let fault =
                if twin { NameFault::UnicodeTwin(other) } else { NameFault::CaseCollision(other) };
            all.push(Faulty { node: *node, fault });
        }
    }
}

fn composed(name: &[u8]) -> Vec<u8> {
    match std::str::from_utf8(name) {
        Ok(text) if !text.is_ascii() => text.nfc().collect::<String>().into_bytes(),
        _ => name.to_vec(),
    }
}

/// A name without what systems that fold case and compose characters leave out.
fn fold(name: &[u8]) -> Vec<u8> {
    match std::str::from_utf8(name) {
        Ok(text) if !text.is_ascii() => {
            text.nfc().flat_map(char::to_lowercase).nfc().collect::<String>().into_bytes()
        }
        _ => name.to_ascii_lowercase(),
    }
}

/// The same as a number (FNV-1a), so that folders of a million names need no copies of them.
fn fold_hash(name: &[u8]) -> u64 {
    let hash = |bytes: &mut dyn Iterator<Item = u8>| {
        bytes.fold(0xcbf2_9ce4_8422_2325_u64, |hash, byte| {
            (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3)
        })
    };
    if name.is_ascii() {
        return hash(&mut name.iter().map(u8::to_ascii_lowercase));
    }
    hash(&mut fold(name).into_iter())
}

/// A name that every client shows, in place of one that some can't; `None` if only a person can
/// find one.
pub fn safe_name(name: &[u8]) -> Option<Vec<u8>> {
    // Bytes that are no UTF-8 are most often ISO 8859-1.
    let mut text = String::new();
    for chunk in name.utf8_chunks() {
        text += chunk.valid();
        text.extend(chunk.invalid().iter().map(|byte| match byte {
            0xa0..=0xff => char::from(*byte),
            _ => '_',
        }));
    }
    let mut safe = String::with_capacity(text.len());
    let mut chars = text.chars().peekable();
    while let Some(c) = chars.next() {
        match c {
            ':' if chars.peek() == Some(&' ') => safe.push_str(" -"),
            ':' | '|' | '\\' => safe.push('-'),
            '<' => safe.push('('),
            '>' => safe.push(')'),
            '"' => safe.push('\''),
            '?' => {}
            '*' => safe.push('_'),
            c if is_unseen(c) => {}
            c => safe.push(c),
        }
    }
    // What is left may come together by now.
    if !is_nfc(&safe) {
        safe = safe.nfc().collect();
    }
    safe.truncate(safe.trim_end_matches(['.', ' ']).len());
    if device(&safe).is_some() {
        safe = match safe.split_once('.') {
            Some((stem, rest)) => format!("{stem}_.{rest}"),
            None => format!("{safe}_"),
        };
    }
    let good = !safe.is_empty()
        && safe.len() <= LONGEST_NAME
        && !safe.starts_with('.') | name.starts_with(b".");
    (good && safe.as_bytes() != name && unshowable(&safe).is_none()).then(|| safe.into_bytes())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_that_clients_show_are_left_alone() {
        for (name, why) in [
            ("Low Water (2003).mkv", None),
            ("Low Water: Ebb.mkv", Some("it has ':': SMB clients show it under another name")),
            ("Why?.mkv", Some("it has '?': SMB clients show it under another name")),
            ("Vey...", Some("it ends with a dot: SMB clients show it under another name")),
            ("Vey ", Some("it ends with a blank: SMB clients show it under another name")),
            ("con.mkv", Some("CON is a device to Windows: SMB clients show it under another name")),
            ("COM5", Some("COM5 is a device to Windows, which can't open it")),
            ("COM10", None),
            ("Console", None),
            ("aux .txt", Some("AUX is a device to Windows, which can't open it")),
        ] {
            assert_eq!(unshowable(name).as_deref(), why, "{name}");
            let mut all = Vec::new();
            of_name(NodeId(0), name.as_bytes(), &mut all);
            assert_eq!(all.is_empty(), why.is_none(), "{name}");
        }
    }

    #[test]
    fn safe_names_are_safe() {
        for (name, safe) in [
            (&b"Low Water: Ebb.mkv"[..], Some("Low Water - Ebb.mkv")),
            (b"Why?.mkv", Some("Why.mkv")),
            (b"Vey ...", Some("Vey")),
            (b"con.mkv", Some("con_.mkv")),
            (b"Stra\xdfe.mkv", Some("Straße.mkv")),
            (b"a\xe2\x80\x8bb.mkv", Some("ab.mkv")),
            (b"Low Water.mkv", None),
            (b"e\0\xcc\x80.mkv", Some("è.mkv")),
            (b"???", None),
        ] {
            let safe = safe.map(|safe| safe.as_bytes().to_vec());
            assert_eq!(safe_name(name), safe, "{}", name.escape_ascii());
        }
    }
}
