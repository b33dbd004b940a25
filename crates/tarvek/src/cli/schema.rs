//! The command line of `schema`.

use clap::{Args, ValueEnum};

#[derive(Debug, Args)]
pub(crate) struct SchemaArgs {
    /// What to describe
    #[arg(value_enum, value_name = "WHAT")]
    pub(crate) what: SchemaOf,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum SchemaOf {
    /// The layout file
    Layout,
    /// The file that `draft` reads
    Brief,
    /// The output of check
    Check,
    /// The output of check --apply
    Apply,
    /// The output of trace
    Trace,
    /// The output of trace --to
    TraceTo,
    /// The output of access
    Access,
    /// The output of access --all
    AccessAll,
    /// The output of access --new-file
    NewFile,
    /// The output of adopt
    Adopt,
    /// The output of link
    Link,
    /// The output of forecast
    Forecast,
    /// The output of waste
    Waste,
    /// The output of reclaim
    Reclaim,
    /// The output of reclaim --total
    ReclaimTotal,
    /// The output of compare
    Compare,
}
