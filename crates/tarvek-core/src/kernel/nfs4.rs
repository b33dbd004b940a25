//! NFSv4 access control lists (RFC 8881, section 6.2): entries in order, each of which settles the
//! bits that it names.

use std::fmt;

use crate::kernel::entry::Meta;
use crate::kernel::subject::Subject;
use crate::words::name::Name;

/// READ_DATA, and LIST_DIRECTORY of a folder.
pub const READ: u32 = 0x1;
/// WRITE_DATA, and ADD_FILE of a folder.
pub const WRITE: u32 = 0x2;
/// APPEND_DATA, and ADD_SUBDIRECTORY of a folder.
pub const APPEND: u32 = 0x4;
/// EXECUTE, and search of a folder.
pub const EXECUTE: u32 = 0x20;
/// DELETE_CHILD: remove what is in this folder.
pub const DELETE_CHILD: u32 = 0x40;
/// DELETE: remove this object.
pub const DELETE: u32 = 0x1_0000;

/// The bits in the order in which tools write them, with their letters (`nfs4_acl(5)`).
const LETTERS: &[(u32, char)] = &[
    (READ, 'r'),
    (WRITE, 'w'),
    (APPEND, 'a'),
    (EXECUTE, 'x'),
    (DELETE, 'd'),
    (DELETE_CHILD, 'D'),
    (0x80, 't'),
    (0x100, 'T'),
    (0x8, 'n'),
    (0x10, 'N'),
    (0x2_0000, 'c'),
    (0x4_0000, 'C'),
    (0x8_0000, 'o'),
    (0x10_0000, 'y'),
];

/// New files inherit the entry.
pub const FILE_INHERIT: u32 = 0x1;
/// New folders inherit the entry.
pub const FOLDER_INHERIT: u32 = 0x2;
/// What inherits the entry does not hand it on.
pub const NO_PROPAGATE: u32 = 0x4;
/// The entry does not speak of the folder that it stands on.
pub const INHERIT_ONLY: u32 = 0x8;
/// The entry names a group.
pub const IDENTIFIER_GROUP: u32 = 0x40;
/// The entry was inherited.
pub const INHERITED: u32 = 0x80;

/// What an entry does. Audit and alarm entries decide nothing.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum AceType {
    /// Allows.
    Allow,
    /// Denies.
    Deny,
    /// Audits or raises an alarm.
    Other(u32),
}

/// Whom an entry speaks of.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Who {
    /// `OWNER@`.
    Owner,
    /// `GROUP@`: the owning group.
    Group,
    /// `EVERYONE@`, the owner and the group among them.
    Everyone,
    /// A user by number.
    Uid(u32),
    /// A group by number.
    Gid(u32),
    /// A user or group by a name that this host does not know: nobody, as far as it can tell.
    Named(Name),
}

/// One entry.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Ace {
    /// What it does.
    pub kind: AceType,
    /// Inheritance, and whether it names a group.
    pub flags: u32,
    /// The bits that it settles.
    pub mask: u32,
    /// Of whom.
    pub who: Who,
}

impl Ace {
    fn speaks_of(&self, meta: &Meta, subject: &Subject) -> bool {
        match self.who {
            Who::Owner => subject.uid == meta.uid,
            Who::Group => subject.is_in(meta.gid),
            Who::Everyone => true,
            Who::Uid(uid) => subject.uid == uid,
            Who::Gid(gid) => subject.is_in(gid),
            Who::Named(_) => false,
        }
    }
}

impl Ace {
    /// An entry as `nfs4_getfacl(1)` writes it, as the attribute of the kernel's NFS client has it:
    /// four words of four bytes, and a name. `None` if it is no such entry.
    fn encoded(text: &str) -> Option<Vec<u8>> {
        let fields: Vec<&str> = text.trim().splitn(4, ':').collect();
        let [kind, flags, rest @ ..] = fields.as_slice() else { return None };
        let (who, letters) =
            rest.join(":").rsplit_once(':').map(|(w, l)| (w.to_owned(), l.to_owned()))?;
        let kind: u32 = match *kind {
            "A" => 0,
            "D" => 1,
            "U" => 2,
            "L" => 3,
            _ => return None,
        };
        let flag = |letter| {
            Some(match letter {
                'f' => FILE_INHERIT,
                'd' => FOLDER_INHERIT,
                'n' => NO_PROPAGATE,
                'i' => INHERIT_ONLY,
                'S' => 0x10,
                'F' => 0x20,
                'g' => IDENTIFIER_GROUP,
                'I' => INHERITED,
                _ => return None,
            })
        };
        let mask = |letter| {
            let alias = match letter {
                'R' => "rntcy",
                'W' => "watTNcCy",
                'X' => "xtcy",
                _ => "",
            };
            let bit = |wanted: char| {
                LETTERS.iter().find(|(_, known)| *known == wanted).map(|(bit, _)| *bit)
            };
            match alias {
                "" => bit(letter),
                letters => Some(letters.chars().filter_map(bit).fold(0, |all, bit| all | bit)),
            }
        };
        let flags = flags.chars().map(flag).try_fold(0, |all, bit| Some(all | bit?))?;
        let mask = letters.chars().map(mask).try_fold(0, |all, bit| Some(all | bit?))?;
        let mut bytes: Vec<u8> = Vec::new();
        for word in [kind, flags, mask, who.len() as u32] {
            bytes.extend(word.to_be_bytes());
        }
        bytes.extend(who.as_bytes());
        bytes.resize(bytes.len().next_multiple_of(4), 0);
        Some(bytes)
    }
}

impl fmt::Display for Ace {
    /// As `nfs4_acl(5)` writes it: `A:fd:OWNER@:rwx`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let kind = match self.kind {
            AceType::Allow => "A",
            AceType::Deny => "D",
            AceType::Other(2) => "U",
            AceType::Other(_) => "L",
        };
        write!(f, "{kind}:")?;
        for (bit, letter) in
            [(FILE_INHERIT, 'f'), (FOLDER_INHERIT, 'd'), (NO_PROPAGATE, 'n'), (INHERIT_ONLY, 'i')]
        {
            if self.flags & bit != 0 {
                write!(f, "{letter}")?;
            }
        }
        let named_group = matches!(self.who, Who::Named(_)) && self.flags & IDENTIFIER_GROUP != 0;
        if named_group || matches!(self.who, Who::Group | Who::Gid(_)) {
            f.write_str("g")?;
        }
        match &self.who {
            Who::Owner => f.write_str(":OWNER@:")?,
            Who::Group => f.write_str(":GROUP@:")?,
            Who::Everyone => f.write_str(":EVERYONE@:")?,
            Who::Uid(id) | Who::Gid(id) => write!(f, ":{id}:")?,
            Who::Named(name) => write!(f, ":{name}:")?,
        }
        let letters = LETTERS.iter().filter(|(bit, _)| self.mask & bit != 0);
        letters.map(|(_, letter)| letter).try_for_each(|letter| write!(f, "{letter}"))
    }
}

/// How the entries settle what is asked.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Settled {
    /// Every bit is allowed, the last of them by this entry.
    Allowed(usize),
    /// This entry denies one of them.
    Denied(usize),
    /// No entry speaks of all of them, and what is not allowed is denied.
    Open,
}

/// An NFSv4 ACL, with the bytes that it was read from.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Nfs4Acl {
    bytes: Vec<u8>,
    entries: Vec<Ace>,
    understood: bool,
}

impl Nfs4Acl {
    /// From an extended attribute, as the kernel's NFS client hands it out (`system.nfs4_acl`:
    /// entries whose subjects are strings), or as a filesystem with numbers does
    /// (`system.nfs4_acl_xdr`). If it is neither, it says nothing that could be understood.
    pub fn read(bytes: &[u8]) -> Self {
        let entries = with_names(bytes).or_else(|| with_numbers(bytes));
        let understood = entries.is_some();
        Self { bytes: bytes.to_vec(), entries: entries.unwrap_or_default(), understood }
    }

    /// From the lines that `nfs4_getfacl(1)` prints of it; what is no entry makes it one that
    /// nobody understands.
    pub fn of_text<'a>(lines: impl IntoIterator<Item = &'a str>) -> Self {
        let entries: Option<Vec<Vec<u8>>> = lines.into_iter().map(Ace::encoded).collect();
        let bytes = entries.map(|entries| {
            [(entries.len() as u32).to_be_bytes().to_vec(), entries.concat()].concat()
        });
        Self::read(&bytes.unwrap_or_default())
    }

    /// From its entries; it has no bytes of its own.
    pub fn new(entries: Vec<Ace>) -> Self {
        Self { bytes: Vec::new(), entries, understood: true }
    }

    /// Whether its bytes made sense.
    pub fn is_understood(&self) -> bool {
        self.understood
    }

    /// The attribute that it was read from.
    pub fn bytes(&self) -> &[u8] {
        &self.bytes
    }

    /// The entries in their order.
    pub fn entries(&self) -> &[Ace] {
        &self.entries
    }

    /// Gives the names of entries their numbers.
    pub fn resolve(&mut self, number: impl Fn(&str, bool) -> Option<u32>) {
        for entry in &mut self.entries {
            let Who::Named(name) = &entry.who else { continue };
            let group = entry.flags & IDENTIFIER_GROUP != 0;
            // Behind the @ stands a domain; the name before it is what the host knows.
            let local = name.raw().split('@').next().unwrap_or_default();
            let id = local.parse().ok().or_else(|| number(local, group));
            match id {
                Some(id) if group => entry.who = Who::Gid(id),
                Some(id) => entry.who = Who::Uid(id),
                None => {}
            }
        }
    }

    /// Settles bits for a subject: each by the first entry that names it (RFC 8881, section 6.2.1).
    pub fn settle(&self, meta: &Meta, subject: &Subject, want: u32) -> Settled {
        let mut open = want;
        for (n, entry) in self.entries.iter().enumerate() {
            if entry.flags & INHERIT_ONLY != 0 || !entry.speaks_of(meta, subject) {
                continue;
            }
            match entry.kind {
                AceType::Allow => open &= !entry.mask,
                AceType::Deny if entry.mask & open != 0 => return Settled::Denied(n),
                AceType::Deny | AceType::Other(_) => {}
            }
            if open == 0 {
                return Settled::Allowed(n);
            }
        }
        Settled::Open
    }

    /// What a new entry in this folder inherits (RFC 8881, section 6.4.3); `None` if nothing is
    /// inheritable.
    pub fn inherited(&self, folder: bool) -> Option<Self> {
        let wanted = if folder { FOLDER_INHERIT } else { FILE_INHERIT };
        const INHERITANCE: u32 = FILE_INHERIT | FOLDER_INHERIT | NO_PROPAGATE | INHERIT_ONLY;
        let entries: Vec<Ace> = self
            .entries
            .iter()
            .filter_map(|entry| {
                let applies = entry.flags & wanted != 0;
                let stops = entry.flags & NO_PROPAGATE != 0;
                // A folder hands on what only files inherit, without being spoken of itself.
                let passes = folder && !stops && entry.flags & FILE_INHERIT != 0;
                if !applies && !passes {
                    return None;
                }
                let mut flags = (entry.flags & !INHERIT_ONLY) | INHERITED;
                if !folder || stops {
                    flags &= !INHERITANCE;
                } else if !applies {
                    flags |= INHERIT_ONLY;
                }
                Some(Ace { flags, ..entry.clone() })
            })
            .collect();
        (!entries.is_empty()).then(|| Self::new(entries))
    }

    /// With one more entry in front.
    pub fn with_first(&self, entry: Ace) -> Self {
        Self::new([entry].into_iter().chain(self.entries.iter().cloned()).collect())
    }
}

impl fmt::Display for Nfs4Acl {
    /// One line, entries separated by commas; what could not be understood as its bytes.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if !self.understood {
            return f.write_str(&crate::words::text::shown(&self.bytes));
        }
        for (n, entry) in self.entries.iter().enumerate() {
            write!(f, "{}{entry}", if n == 0 { "" } else { "," })?;
        }
        Ok(())
    }
}

struct Words<'a>(&'a [u8]);

impl<'a> Words<'a> {
    fn next(&mut self) -> Option<u32> {
        let (word, rest) = self.0.split_first_chunk::<4>()?;
        self.0 = rest;
        Some(u32::from_be_bytes(*word))
    }

    /// A counted string, filled up to a multiple of four (RFC 4506, section 4.11).
    fn string(&mut self) -> Option<&'a [u8]> {
        let length = self.next()? as usize;
        let filled = length.checked_next_multiple_of(4)?;
        let (text, rest) = self.0.split_at_checked(filled)?;
        self.0 = rest;
        Some(&text[..length])
    }

    fn end(&self) -> Option<()> {
        self.0.is_empty().then_some(())
    }
}

pub(crate) fn kind(number: u32) -> AceType {
    match number {
        0 => AceType::Allow,
        1 => AceType::Deny,
        other => AceType::Other(other),
    }
}

fn with_names(bytes: &[u8]) -> Option<Vec<Ace>> {
    let mut words = Words(bytes);
    let count = words.next()?;
    let mut entries = Vec::new();
    for _ in 0..count {
        let (kind, flags, mask) = (kind(words.next()?), words.next()?, words.next()?);
        let who = match words.string()? {
            b"OWNER@" => Who::Owner,
            b"GROUP@" => Who::Group,
            b"EVERYONE@" => Who::Everyone,
            name => Who::Named(String::from_utf8_lossy(name).into_owned().into()),
        };
        entries.push(Ace { kind, flags, mask, who });
    }
    words.end()?;
    Some(entries)
}

fn with_numbers(bytes: &[u8]) -> Option<Vec<Ace>> {
    let mut words = Words(bytes);
    let (_, count) = (words.next()?, words.next()?);
    let mut entries = Vec::new();
    for _ in 0..count {
        let (kind, flags) = (kind(words.next()?), words.next()?);
        let (special, mask, id) = (words.next()?, words.next()?, words.next()?);
        let who = match (special & 1 != 0, id) {
            (true, 1) => Who::Owner,
            (true, 2) => Who::Group,
            (true, 3) => Who::Everyone,
            (true, _) => return None,
            (false, id) if flags & IDENTIFIER_GROUP != 0 => Who::Gid(id),
            (false, id) => Who::Uid(id),
        };
        entries.push(Ace { kind, flags, mask, who });
    }
    words.end()?;
    Some(entries)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::kernel::entry::EntryKind;

    fn meta() -> Meta {
        Meta::new(EntryKind::Folder, 0o770, 1101, 2100)
    }

    /// An entry from its text.
    fn ace(text: &str) -> Ace {
        let parts: Vec<&str> = text.split(':').collect();
        let [kind, flags, who, letters] = parts[..] else { panic!("{text}") };
        let group = flags.contains('g');
        let flag = |letter, bit| if flags.contains(letter) { bit } else { 0 };
        Ace {
            kind: match kind {
                "A" => AceType::Allow,
                "D" => AceType::Deny,
                _ => AceType::Other(2),
            },
            flags: flag('f', FILE_INHERIT)
                | flag('d', FOLDER_INHERIT)
                | flag('n', NO_PROPAGATE)
                | flag('i', INHERIT_ONLY)
                | flag('g', IDENTIFIER_GROUP),
            mask: LETTERS.iter().filter(|(_, l)| letters.contains(*l)).map(|(bit, _)| bit).sum(),
            who: match who {
                "OWNER@" => Who::Owner,
                "GROUP@" => Who::Group,
                "EVERYONE@" => Who::Everyone,
                id if group => Who::Gid(id.parse().unwrap()),
                id => Who::Uid(id.parse().unwrap()),
            },
        }
    }

    /// RFC 8881, section 6.2.1: entries in order; a bit is settled by the first entry that names it
    /// for the requester; what nothing settles is denied.
    #[test]
    fn entries_are_taken_in_order() {
        use Settled::{Allowed, Denied, Open};
        let owner = Subject::new(1101, 1, []);
        let member = Subject::new(7, 2100, []);
        let other = Subject::new(9, 9, [5]);
        let cases: &[(&[&str], &Subject, u32, Settled)] = &[
            (&[], &owner, READ, Open),
            (&["A::EVERYONE@:r"], &other, READ, Allowed(0)),
            // Everyone includes the owner and the group.
            (&["A::EVERYONE@:r"], &owner, READ, Allowed(0)),
            (&["A::EVERYONE@:r"], &other, READ | WRITE, Open),
            // Bits may come from several entries.
            (&["A::EVERYONE@:r", "A:g:GROUP@:w"], &member, READ | WRITE, Allowed(1)),
            (&["D::9:w", "A::EVERYONE@:rw"], &other, WRITE, Denied(0)),
            (&["D::9:w", "A::EVERYONE@:rw"], &other, READ, Allowed(1)),
            (&["D::9:w", "A::EVERYONE@:rw"], &member, WRITE, Allowed(1)),
            // A bit that was allowed is not denied any more.
            (&["A::9:w", "D::EVERYONE@:w"], &other, WRITE, Allowed(0)),
            (&["A::9:r", "D::EVERYONE@:w"], &other, READ | WRITE, Denied(1)),
            (&["D:g:5:r", "A::9:r"], &other, READ, Denied(0)),
            (&["D:g:6:r", "A::9:r"], &other, READ, Allowed(1)),
            // The owner is no exception.
            (&["D::OWNER@:r", "A::EVERYONE@:r"], &owner, READ, Denied(0)),
            // Entries for those who come later only, and entries that decide nothing.
            (&["D:fdi:EVERYONE@:r", "A::EVERYONE@:r"], &other, READ, Allowed(1)),
            (&["U::EVERYONE@:r", "A::EVERYONE@:r"], &other, READ, Allowed(1)),
            // Adding a file and adding a folder are two bits.
            (&["A::EVERYONE@:w"], &other, APPEND, Open),
            (&["A::EVERYONE@:wD"], &other, WRITE | DELETE_CHILD, Allowed(0)),
        ];
        for (entries, subject, want, expected) in cases {
            let acl = Nfs4Acl::new(entries.iter().map(|text| ace(text)).collect());
            assert_eq!(acl.settle(&meta(), subject, *want), *expected, "{entries:?} {subject}");
        }
    }

    #[test]
    fn inheritance_follows_the_flags() {
        let acl = Nfs4Acl::new(
            ["A:fd:OWNER@:rw", "A:f:9:r", "A:dn:8:r", "A:fdi:7:r", "A::6:r"].map(ace).to_vec(),
        );
        let show = |folder| {
            let inherited = acl.inherited(folder).unwrap();
            inherited.entries().iter().map(ToString::to_string).collect::<Vec<_>>().join(" ")
        };
        assert_eq!(show(false), "A::OWNER@:rw A::9:r A::7:r");
        assert_eq!(show(true), "A:fd:OWNER@:rw A:fi:9:r A::8:r A:fd:7:r");
        assert_eq!(Nfs4Acl::new(vec![ace("A::6:r")]).inherited(true), None);
    }

    fn words(words: &[u32]) -> Vec<u8> {
        words.iter().flat_map(|word| word.to_be_bytes()).collect()
    }

    #[test]
    fn both_attributes_are_read() {
        let mut named = words(&[2, 0, 3, 0x21, 6]);
        named.extend(b"OWNER@\0\0");
        named.extend(words(&[1, 0x40, 2, 12]));
        named.extend(b"keepers@lan\0");
        // A length that is no multiple of four would be cut short, so this one is exact.
        let mut acl = Nfs4Acl::read(&named);
        assert!(acl.is_understood());
        acl.resolve(|name, group| (name == "keepers" && group).then_some(2100));
        assert_eq!(acl.entries()[0].to_string(), "A:fd:OWNER@:rx");
        assert_eq!(acl.entries()[1].to_string(), "D:g:2100:w");
        let numbered = words(&[0, 2, 0, 0, 1, 0x21, 3, 1, 0x40, 0, 2, 2100]);
        let acl = Nfs4Acl::read(&numbered);
        assert_eq!(acl.entries()[0].to_string(), "A::EVERYONE@:rx");
        assert_eq!(acl.entries()[1].to_string(), "D:g:2100:w");
        for bad in [&named[..named.len() - 4], b"abc", &words(&[u32::MAX])] {
            assert!(!Nfs4Acl::read(bad).is_understood());
        }
    }
}
