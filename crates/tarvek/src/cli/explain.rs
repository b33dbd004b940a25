//! The command line of `explain`.

use clap::Args;

#[derive(Debug, Args)]
pub(crate) struct ExplainArgs {
    /// The rule, for example path/missing
    #[arg(value_name = "RULE")]
    pub(crate) rule: Option<String>,
}
