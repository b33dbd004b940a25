//! The core's word enums as they stand in files: serde and a schema for all of them.

use std::borrow::Cow;
use std::fmt;

use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Deserializer, Serialize, Serializer, de};
use tarvek_core::words::word::Word;

/// A word of a file that stands for a value of the core.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Keyword<T>(pub T);

impl<T: Word> Serialize for Keyword<T> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.0.word())
    }
}

impl<'de, T: Word> Deserialize<'de> for Keyword<T> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Reader<T>(std::marker::PhantomData<T>);

        impl<T: Word> de::Visitor<'_> for Reader<T> {
            type Value = Keyword<T>;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str(&words::<T>().join(", "))
            }

            fn visit_str<E: de::Error>(self, word: &str) -> Result<Self::Value, E> {
                let unknown = || E::invalid_value(de::Unexpected::Str(word), &self);
                T::named(word).map(Keyword).ok_or_else(unknown)
            }
        }

        deserializer.deserialize_str(Reader(std::marker::PhantomData))
    }
}

fn words<T: Word>() -> Vec<&'static str> {
    T::ALL.iter().map(|known| known.word()).collect()
}

impl<T: Word> JsonSchema for Keyword<T> {
    fn schema_name() -> Cow<'static, str> {
        T::NAME.into()
    }

    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({ "type": "string", "enum": words::<T>() })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use tarvek_core::words::terms::Kind;

    #[test]
    fn a_word_is_read_written_and_described() {
        let kind: Keyword<Kind> = serde_json::from_str("\"home-video\"").unwrap();
        assert_eq!(kind, Keyword(Kind::HomeVideo));
        assert_eq!(serde_json::to_string(&kind).unwrap(), "\"home-video\"");
        let error = serde_json::from_str::<Keyword<Kind>>("\"video\"").unwrap_err().to_string();
        assert!(error.contains("expected films, series"), "{error}");
        let schema = schemars::schema_for!(Keyword<Kind>).to_value();
        assert_eq!(schema["enum"].as_array().unwrap().len(), 6);
    }
}
