//! `tarvek schema`.

use crate::cli::{SchemaArgs, SchemaOf};
use crate::outcome::{Failure, Outcome};
use crate::view::{Screen, json};

pub(super) fn run(args: &SchemaArgs, screen: &Screen) -> Result<Outcome, Failure> {
    let schema = match args.what {
        SchemaOf::Layout => tarvek_formats::layout::schema(),
        SchemaOf::Brief => tarvek_formats::brief::schema(),
        SchemaOf::Check => schemars::schema_for!(json::Check).to_value(),
        SchemaOf::Apply => schemars::schema_for!(json::Apply).to_value(),
        SchemaOf::Trace => schemars::schema_for!(json::Trace).to_value(),
        SchemaOf::TraceTo => schemars::schema_for!(json::TraceTo).to_value(),
        SchemaOf::Access => schemars::schema_for!(json::Access).to_value(),
        SchemaOf::AccessAll => schemars::schema_for!(json::AccessAll).to_value(),
        SchemaOf::NewFile => schemars::schema_for!(json::NewEntries).to_value(),
        SchemaOf::Adopt => schemars::schema_for!(json::Adopt).to_value(),
        SchemaOf::Link => schemars::schema_for!(json::Link).to_value(),
        SchemaOf::Forecast => schemars::schema_for!(json::Forecast).to_value(),
        SchemaOf::Waste => schemars::schema_for!(json::Waste).to_value(),
        SchemaOf::Reclaim => schemars::schema_for!(json::Reclaim).to_value(),
        SchemaOf::ReclaimTotal => schemars::schema_for!(json::ReclaimTotal).to_value(),
        SchemaOf::Compare => schemars::schema_for!(json::Compare).to_value(),
    };
    screen.say(&json::text(&schema))?;
    Ok(Outcome::Fine)
}
