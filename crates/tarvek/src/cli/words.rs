//! Words of the core on the command line.

use clap::builder::{PossibleValuesParser, TypedValueParser};
use tarvek_core::words::word::Word;

/// Reads one of the core's words.
pub(super) fn word<T: Word + Send + Sync>() -> impl TypedValueParser<Value = T> {
    let words = T::ALL.iter().map(|known| known.word());
    PossibleValuesParser::new(words).try_map(|written| T::named(&written).ok_or("no such word"))
}
