//! What `getfacl -R` prints: folders and files with their owners and rights (`getfacl(1)`).

use tarvek_core::facts::configured::{Fact, FolderFact};
use tarvek_core::words::name::Name;
use tarvek_core::words::spot::Spot;

use super::collect::{Collect, number, spot};
use crate::escape::unescape_acl;

/// Reads the whole.
pub(super) fn read(file: &Name, text: &str, out: &mut Collect) {
    // `user:lantern:r-x` is an entry; of comments and entries there is nothing else.
    let is_entry = |line: &str| ["user:", "default:user:"].iter().any(|of| line.starts_with(of));
    out.open_but(file, text, "a list of ACLs", is_entry);
    let mut at: Option<(Spot, FolderFact)> = None;
    for (n, line) in text.lines().enumerate() {
        let here = spot(file, number(n));
        let line = line.trim_end();
        if let Some(path) = line.strip_prefix("# file: ") {
            tell(at.take(), out);
            let mut path = unescape_acl(path.as_bytes());
            // Without -p it leaves the first slash out.
            if !path.starts_with(b"/") {
                path.insert(0, b'/');
            }
            let fact = FolderFact {
                path,
                owner: Name::default(),
                group: Name::default(),
                mode: 0,
                entries: Vec::new(),
            };
            at = Some((here, fact));
            continue;
        }
        if line.is_empty() {
            continue;
        }
        let Some((_, fact)) = &mut at else {
            out.skip(&here, "it belongs to no file");
            continue;
        };
        let name = |text: &str| {
            Name::from(String::from_utf8_lossy(&unescape_acl(text.as_bytes())).as_ref())
        };
        if let Some(owner) = line.strip_prefix("# owner: ") {
            fact.owner = name(owner);
        } else if let Some(group) = line.strip_prefix("# group: ") {
            fact.group = name(group);
        } else if let Some(flags) = line.strip_prefix("# flags: ") {
            let bits = ['s', 's', 't'].iter().zip([0o4000, 0o2000, 0o1000]);
            let set = bits.zip(flags.chars()).filter(|((letter, _), flag)| *letter == flag);
            fact.mode |= set.map(|((_, bit), _)| bit).sum::<u16>();
        } else if let Err(why) = entry(line, fact) {
            out.skip(&here, why);
        }
    }
    tell(at, out);
}

fn tell(at: Option<(Spot, FolderFact)>, out: &mut Collect) {
    if let Some((spot, fact)) = at {
        out.fact(&spot, Fact::Folder(fact));
    }
}

fn entry(line: &str, fact: &mut FolderFact) -> Result<(), &'static str> {
    // What is behind a tab says what the mask leaves of it.
    let line = line.split(['\t', '#']).next().unwrap_or_default().trim_end();
    let (_, bits) = line.rsplit_once(':').ok_or("it is no entry of an ACL")?;
    let letters =
        bits.chars().zip("rwx".chars()).map(|(have, letter)| (have == letter, have == '-'));
    let (mut value, mut count) = (0, 0);
    for (set, unset) in letters {
        if !set && !unset {
            return Err("an entry's rights are r, w and x, or -");
        }
        value = value << 1 | u16::from(set);
        count += 1;
    }
    if count != 3 || bits.len() != 3 {
        return Err("an entry's rights are three letters");
    }
    match line.split(':').collect::<Vec<_>>()[..] {
        ["user", "", _] => fact.mode |= value << 6,
        ["group", "", _] if fact.mode & 0o70 == 0 => fact.mode |= value << 3,
        ["group", "", _] => fact.entries.push(line.to_owned()),
        ["mask", "", _] => {
            // With a mask, the bits of the group are those of the mask, and the entry of the group
            // is one of its own.
            let group = fact.mode >> 3 & 7;
            fact.mode = fact.mode & !0o70 | value << 3;
            if group != value {
                let mut text = String::from("group::");
                text.extend(
                    "rwx"
                        .chars()
                        .zip([4, 2, 1])
                        .map(|(c, bit)| if group & bit > 0 { c } else { '-' }),
                );
                fact.entries.push(text);
            }
        }
        ["other", "", _] => fact.mode |= value,
        ["user" | "group" | "default" | "mask", ..] => fact.entries.push(line.to_owned()),
        _ => return Err("it is no entry of an ACL"),
    }
    Ok(())
}
