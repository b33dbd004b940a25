//! The entries of a folder as they stand in a survey: a line of JSON each (`docs/survey.md`).

use std::borrow::Cow;
use std::fmt;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use serde::de::{Deserializer, Error, IgnoredAny, MapAccess, SeqAccess, Visitor};
use serde::ser::{SerializeMap, SerializeSeq};
use serde::{Deserialize, Serialize, Serializer};
use tarvek_core::facts::classes::Classes;
use tarvek_core::kernel::entry::{EntryKind, Meta};
use tarvek_core::words::file_name;

use super::connection::{StoreError, damaged};
use crate::sink::{ABOVE, Earlier, Number, OwnOf};

/// Appends an entry to a list that is being written.
pub(super) fn write(list: &mut Vec<u8>, name: &[u8], meta: &Meta, class: u32, own: OwnOf) {
    list.push(if list.is_empty() { b'[' } else { b',' });
    list.extend_from_slice(if list.len() > 1 { b"\n" } else { b"" });
    let line = Line { name: Text(Cow::Borrowed(name)), meta, class, own };
    serde_json::to_writer(list, &line).expect("memory takes it");
}

/// Ends the list.
pub(super) fn end(list: &mut Vec<u8>) {
    list.extend_from_slice(if list.is_empty() { b"[]" } else { b"]" });
}

/// Reads the entries of one part of a folder behind those that are there.
///
/// # Errors
/// If they are none, or do not stand in the order of their names.
pub(super) fn read(
    text: &str,
    folder: Number,
    classes: &Classes,
    into: &mut Earlier,
) -> Result<(), StoreError> {
    let list = List { folder, classes, into };
    let mut json = serde_json::Deserializer::from_str(text);
    json.deserialize_seq(list).and_then(|()| json.end()).map_err(|_| damaged())
}

struct Line<'a> {
    name: Text<'a>,
    meta: &'a Meta,
    class: u32,
    own: OwnOf<'a>,
}

impl Serialize for Line<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        // Numbers as SQLite takes them.
        let signed = |number: Option<u64>| number.map(u64::cast_signed);
        let meta = self.meta;
        let mut line = serializer.serialize_seq(None)?;
        line.serialize_element(&self.name)?;
        line.serialize_element(&self.class)?;
        line.serialize_element(&meta.size.cast_signed())?;
        line.serialize_element(&signed(meta.allocated))?;
        line.serialize_element(&signed(meta.inode))?;
        line.serialize_element(&meta.links)?;
        line.serialize_element(&meta.modified)?;
        // Mostly the same: the difference is short.
        let later = meta.changed.map(|changed| changed.wrapping_sub(meta.modified));
        line.serialize_element(&later)?;
        match self.own {
            OwnOf::Nothing => {}
            OwnOf::Folder(number) => line.serialize_element(&number)?,
            OwnOf::Target(target) => line.serialize_element(&Text(Cow::Borrowed(target)))?,
        }
        line.end()
    }
}

/// A name or target: text where it is UTF-8, else `{"bytes":"…"}` in base64.
struct Text<'a>(Cow<'a, [u8]>);

impl Serialize for Text<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match std::str::from_utf8(&self.0) {
            Ok(text) => serializer.serialize_str(text),
            Err(_) => {
                let mut map = serializer.serialize_map(Some(1))?;
                map.serialize_entry("bytes", &STANDARD.encode(&self.0))?;
                map.end()
            }
        }
    }
}

/// The last field of a line.
enum Own<'a> {
    Folder(Number),
    Target(Text<'a>),
}

struct TextVisitor;

impl<'de> Visitor<'de> for TextVisitor {
    type Value = Text<'de>;

    fn expecting(&self, f: &mut fmt::Formatter) -> fmt::Result {
        f.write_str("a name")
    }

    fn visit_borrowed_str<E: Error>(self, text: &'de str) -> Result<Text<'de>, E> {
        Ok(Text(Cow::Borrowed(text.as_bytes())))
    }

    fn visit_str<E: Error>(self, text: &str) -> Result<Text<'de>, E> {
        Ok(Text(Cow::Owned(text.as_bytes().to_vec())))
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Text<'de>, A::Error> {
        let (key, text): (&str, &str) =
            map.next_entry()?.ok_or_else(|| A::Error::custom("no bytes"))?;
        let bytes = STANDARD.decode(text).ok().filter(|_| key == "bytes");
        if map.next_key::<IgnoredAny>()?.is_some() {
            return Err(A::Error::custom("more than bytes"));
        }
        bytes.map(|bytes| Text(Cow::Owned(bytes))).ok_or_else(|| A::Error::custom("no base64"))
    }
}

impl<'de> Deserialize<'de> for Text<'de> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        deserializer.deserialize_any(TextVisitor)
    }
}

struct OwnVisitor;

impl<'de> Visitor<'de> for OwnVisitor {
    type Value = Own<'de>;

    fn expecting(&self, f: &mut fmt::Formatter) -> fmt::Result {
        f.write_str("a folder's number, or a target")
    }

    fn visit_u64<E: Error>(self, number: u64) -> Result<Own<'de>, E> {
        Number::try_from(number).map(Own::Folder).map_err(E::custom)
    }

    fn visit_borrowed_str<E: Error>(self, text: &'de str) -> Result<Own<'de>, E> {
        TextVisitor.visit_borrowed_str(text).map(Own::Target)
    }

    fn visit_str<E: Error>(self, text: &str) -> Result<Own<'de>, E> {
        TextVisitor.visit_str(text).map(Own::Target)
    }

    fn visit_map<A: MapAccess<'de>>(self, map: A) -> Result<Own<'de>, A::Error> {
        TextVisitor.visit_map(map).map(Own::Target)
    }
}

impl<'de> Deserialize<'de> for Own<'de> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        deserializer.deserialize_any(OwnVisitor)
    }
}

/// All lines of a part.
struct List<'a> {
    folder: Number,
    classes: &'a Classes,
    into: &'a mut Earlier,
}

impl<'de> Visitor<'de> for List<'_> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter) -> fmt::Result {
        f.write_str("the entries of a folder")
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut lines: A) -> Result<(), A::Error> {
        let Self { folder, classes, into } = self;
        while lines.next_element_seed(LineSeed { folder, classes, into: &mut *into })?.is_some() {}
        Ok(())
    }
}

struct LineSeed<'a> {
    folder: Number,
    classes: &'a Classes,
    into: &'a mut Earlier,
}

impl<'de> serde::de::DeserializeSeed<'de> for LineSeed<'_> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<(), D::Error> {
        deserializer.deserialize_seq(self)
    }
}

impl<'de> Visitor<'de> for LineSeed<'_> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter) -> fmt::Result {
        f.write_str("an entry")
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut line: A) -> Result<(), A::Error> {
        fn next<'de, T: Deserialize<'de>, A: SeqAccess<'de>>(line: &mut A) -> Result<T, A::Error> {
            line.next_element()?.ok_or_else(|| A::Error::custom("a field is lacking"))
        }
        let unsigned = |number: Option<i64>| number.map(i64::cast_unsigned);
        let name: Text = next(&mut line)?;
        let number: u32 = next(&mut line)?;
        let known = self.classes.classes().get(number as usize);
        let class = known.ok_or_else(|| A::Error::custom("no class"))?;
        let mut meta = Meta {
            kind: class.kind,
            mode: class.mode,
            uid: class.uid,
            gid: class.gid,
            device: class.device,
            flags: class.flags,
            size: next::<i64, A>(&mut line)?.cast_unsigned(),
            allocated: unsigned(next(&mut line)?),
            inode: unsigned(next(&mut line)?),
            links: next(&mut line)?,
            modified: next(&mut line)?,
            changed: next(&mut line)?,
        };
        meta.changed = meta.changed.map(|later: i64| meta.modified.wrapping_add(later));
        let own: Option<Own> = line.next_element()?;
        let own = match (meta.kind, &own) {
            (EntryKind::Folder, Some(Own::Folder(below))) if *below > self.folder => {
                OwnOf::Folder(*below)
            }
            (EntryKind::Symlink, Some(Own::Target(target))) => OwnOf::Target(&target.0),
            (EntryKind::Folder, _) | (_, Some(_)) => return Err(A::Error::custom("not its own")),
            (_, None) => OwnOf::Nothing,
        };
        let named =
            if self.folder == ABOVE { name.0.is_empty() } else { file_name::is_one(&name.0) };
        let over = line.next_element::<IgnoredAny>()?.is_some();
        if !named || over || !self.into.push(&name.0, meta, number, own) {
            return Err(A::Error::custom("no entry of a folder"));
        }
        Ok(())
    }
}
