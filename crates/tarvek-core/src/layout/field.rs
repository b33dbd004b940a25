//! How a value of the layout file becomes a field of the layout, for edits.

use crate::layout::host::Dataset;
use crate::layout::intake::InView;
use crate::layout::mapping::{Declared, MapSource, Mapping};
use crate::layout::mount::MountSource;
use crate::layout::service::{GroupRef, RunAs, Translation};
use crate::words::name::Name;
use crate::words::offer::NfsExport;
use crate::words::options::MountOptions;
use crate::words::path::AbsPath;
use crate::words::terms::{Access, Account, Label, Origin, id};
use crate::words::value::Value;
use crate::words::word::Word;

/// A field that an edit may change. `None`: it can't hold that.
pub(super) trait Field {
    fn set(&mut self, to: &Value) -> Option<()>;

    /// Puts it back to what it is where the file says nothing.
    fn unset(&mut self) -> Option<()> {
        None
    }

    /// Adds an item to a list.
    fn add(&mut self, _item: &Value) -> Option<()> {
        None
    }
}

/// What can be made of a value.
pub(super) trait FromValue: Sized {
    fn from_value(value: &Value) -> Option<Self>;
}

/// Fields of types that a value makes by itself.
macro_rules! fields {
    ($($type:ty),*) => {$(
        impl Field for $type {
            fn set(&mut self, to: &Value) -> Option<()> {
                *self = Self::from_value(to)?;
                Some(())
            }
        }
    )*};
}

fields!(Name, String, bool, u32, AbsPath, RunAs, MountSource);

impl Field for Declared {
    fn set(&mut self, to: &Value) -> Option<()> {
        *self = Self { origin: self.origin, ..Self::from_value(to)? };
        Some(())
    }
}

impl Field for InView {
    fn set(&mut self, to: &Value) -> Option<()> {
        self.path = AbsPath::from_value(to)?;
        Some(())
    }
}

/// Options go one by one, and all of them with their key.
impl Field for MountOptions {
    fn set(&mut self, to: &Value) -> Option<()> {
        *self = Self::from_value(to)?;
        Some(())
    }

    fn unset(&mut self) -> Option<()> {
        *self = Self::default();
        Some(())
    }
}

impl<T: Word> Field for T {
    fn set(&mut self, to: &Value) -> Option<()> {
        *self = T::from_value(to)?;
        Some(())
    }
}

impl<T: FromValue> Field for Option<T> {
    fn set(&mut self, to: &Value) -> Option<()> {
        *self = Some(T::from_value(to)?);
        Some(())
    }

    fn unset(&mut self) -> Option<()> {
        *self = None;
        Some(())
    }
}

impl<T: FromValue> Field for Vec<T> {
    fn set(&mut self, to: &Value) -> Option<()> {
        let Value::List(items) = to else { return None };
        *self = items.iter().map(T::from_value).collect::<Option<_>>()?;
        Some(())
    }

    fn unset(&mut self) -> Option<()> {
        self.clear();
        Some(())
    }

    fn add(&mut self, item: &Value) -> Option<()> {
        self.push(T::from_value(item)?);
        Some(())
    }
}

impl<T: Word> FromValue for T {
    fn from_value(value: &Value) -> Option<Self> {
        T::named(value.text()?)
    }
}

impl FromValue for Name {
    fn from_value(value: &Value) -> Option<Self> {
        value.text().map(Self::from)
    }
}

impl FromValue for String {
    fn from_value(value: &Value) -> Option<Self> {
        value.text().map(str::to_owned)
    }
}

impl FromValue for bool {
    fn from_value(value: &Value) -> Option<Self> {
        match value {
            Value::Flag(flag) => Some(*flag),
            _ => None,
        }
    }
}

impl FromValue for u32 {
    fn from_value(value: &Value) -> Option<Self> {
        match value {
            Value::Number(number) => Some(*number),
            _ => None,
        }
    }
}

/// Permission bits.
impl FromValue for u16 {
    fn from_value(value: &Value) -> Option<Self> {
        Self::from_str_radix(value.text()?, 8).ok().filter(|bits| *bits <= 0o7777)
    }
}

impl FromValue for AbsPath {
    fn from_value(value: &Value) -> Option<Self> {
        Self::of_client(value.text()?.as_bytes()).ok()
    }
}

impl FromValue for Declared {
    fn from_value(value: &Value) -> Option<Self> {
        let written = value.text()?;
        let path = AbsPath::of_client(written.as_bytes());
        Some(Self { written: written.into(), path, origin: Origin::default() })
    }
}

impl FromValue for InView {
    fn from_value(value: &Value) -> Option<Self> {
        AbsPath::from_value(value).map(Self::of)
    }
}

impl FromValue for RunAs {
    fn from_value(value: &Value) -> Option<Self> {
        let text = value.text()?;
        let (user, group) = text.split_once(':').map_or((text, None), |(u, g)| (u, Some(g)));
        match (id(user), group) {
            (None, None) => Some(Self::Account(text.into())),
            (None, Some(_)) => None,
            (Some(user), None) => Some(Self::Numbers(user, None)),
            (Some(user), Some(group)) => Some(Self::Numbers(user, Some(id(group)?))),
        }
    }
}

impl FromValue for GroupRef {
    fn from_value(value: &Value) -> Option<Self> {
        match value {
            Value::Number(number) => Some(Self::Gid(*number)),
            Value::Text(text) => Some(id(text).map_or(Self::Name(text.as_str().into()), Self::Gid)),
            _ => None,
        }
    }
}

impl FromValue for MountOptions {
    fn from_value(value: &Value) -> Option<Self> {
        value.text().map(Self::read)
    }
}

impl FromValue for MountSource {
    fn from_value(value: &Value) -> Option<Self> {
        value.text().map(|source| Self::Literal(source.into()))
    }
}

/// The keys of a table, each taken once. What nobody took keeps the table from being understood.
struct Keys<'a>(Vec<&'a (String, Value)>);

impl<'a> Keys<'a> {
    fn of(value: &'a Value) -> Option<Self> {
        match value {
            Value::Table(keys) => Some(Self(keys.iter().collect())),
            _ => None,
        }
    }

    fn value(&mut self, key: &str) -> Option<&'a Value> {
        let at = self.0.iter().position(|(name, _)| name == key)?;
        Some(&self.0.swap_remove(at).1)
    }

    /// What a key says, which has to be there.
    fn take<T: FromValue>(&mut self, key: &str) -> Option<T> {
        T::from_value(self.value(key)?)
    }

    /// What a key says, if it is there. `None`: it says something else.
    fn maybe<T: FromValue>(&mut self, key: &str) -> Option<Option<T>> {
        self.value(key).map_or(Some(None), |value| T::from_value(value).map(Some))
    }

    fn done<T>(self, made: T) -> Option<T> {
        self.0.is_empty().then_some(made)
    }
}

impl FromValue for Mapping {
    fn from_value(value: &Value) -> Option<Self> {
        let mut keys = Keys::of(value)?;
        let map = Self {
            source: MapSource::Folder(keys.take("from")?),
            to: keys.take("to")?,
            access: keys.maybe("access")?.unwrap_or(Access::ReadWrite),
            label: keys.maybe::<Label>("label")?,
            propagation: None,
            nested: None,
            idmap: false,
            origin: Origin::default(),
        };
        keys.done(map)
    }
}

impl FromValue for Translation {
    fn from_value(value: &Value) -> Option<Self> {
        let mut keys = Keys::of(value)?;
        let made =
            Self { service: keys.take("service")?, from: keys.take("from")?, to: keys.take("to")? };
        keys.done(made)
    }
}

impl FromValue for NfsExport {
    fn from_value(value: &Value) -> Option<Self> {
        let mut keys = Keys::of(value)?;
        let made = Self {
            clients: keys.take("clients")?,
            access: keys.maybe("access")?.unwrap_or(Access::ReadOnly),
            squash: keys.maybe("squash")?.unwrap_or_default(),
            anonuid: keys.maybe("anonuid")?,
            anongid: keys.maybe("anongid")?,
            crossmnt: keys.maybe("crossmnt")?.unwrap_or_default(),
            options: match keys.maybe::<String>("options")? {
                Some(options) => options.split(',').map(str::to_owned).collect(),
                None => Vec::new(),
            },
        };
        keys.done(made)
    }
}

impl FromValue for Dataset {
    fn from_value(value: &Value) -> Option<Self> {
        let mut keys = Keys::of(value)?;
        let made = Self {
            name: keys.take("name")?,
            at: keys.take("at")?,
            filesystem: keys.maybe("filesystem")?,
            quota: None,
            properties: Vec::new(),
            origin: Origin::default(),
        };
        keys.done(made)
    }
}

/// An account without its name, which is the key of its table.
pub(super) fn account(name: &Name, value: &Value) -> Option<Account> {
    let mut keys = Keys::of(value)?;
    let made = Account {
        name: name.clone(),
        uid: keys.take("uid")?,
        gid: keys.maybe("gid")?,
        groups: match keys.value("groups") {
            Some(Value::List(names)) => {
                names.iter().map(Name::from_value).collect::<Option<_>>()?
            }
            Some(_) => return None,
            None => Vec::new(),
        },
    };
    keys.done(made)
}
