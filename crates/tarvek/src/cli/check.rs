//! The command line of `check`.

use std::ffi::OsString;

use clap::Args;
use tarvek_core::words::rule::Severity;

use crate::cli::globals::Format;
use crate::cli::words::word;

#[derive(Debug, Args)]
pub(crate) struct CheckArgs {
    /// How to print the answer
    #[arg(long, value_enum, default_value = "text")]
    pub(crate) format: Format,
    /// Exit with 1 from this severity on
    #[arg(long, value_parser = word::<Severity>(), value_name = "SEVERITY", default_value = "blocker")]
    pub(crate) fail_on: Severity,
    /// Exit with 0 although libraries or intakes are not ready: only --fail-on counts
    #[arg(long)]
    pub(crate) allow_unready: bool,
    /// Judge this machine without a layout: by its own fstab, exports, smb.conf, units, accounts,
    /// mounts and running processes
    #[arg(long, conflicts_with_all = ["layout", "survey", "this_host"])]
    pub(crate) here: bool,
    /// Judge only the names below a folder of this machine, without a layout: what SMB clients,
    /// other systems or people can't tell, show or open
    #[arg(long, value_name = "DIR", conflicts_with_all = ["layout", "survey", "this_host", "here"])]
    pub(crate) names: Option<OsString>,
    /// Show which edits of the layout the remedies come to, as a diff; with --yes, write them and
    /// check again
    #[arg(long, conflicts_with_all = ["here", "names"])]
    pub(crate) apply: bool,
    /// With --apply: only the edits of this rule, or of the finding of this id
    #[arg(long, value_name = "RULE|ID", requires = "apply")]
    pub(crate) only: Vec<String>,
    /// With --apply: write the layout
    #[arg(long, requires = "apply")]
    pub(crate) yes: bool,
    /// How old a survey may be before it is a finding: 12h, 7d
    #[arg(long, value_name = "AGE", value_parser = age)]
    pub(crate) max_age: Option<i64>,
}

/// An age in seconds.
fn age(written: &str) -> Result<i64, String> {
    let say = || "write a number and a unit: 30m, 12h, 7d".to_owned();
    let digits = written.trim_end_matches(|c: char| !c.is_ascii_digit());
    let factor = match &written[digits.len()..] {
        "s" => 1,
        "m" => 60,
        "h" => 3600,
        "d" => 86_400,
        _ => return Err(say()),
    };
    digits.parse::<i64>().ok().and_then(|n| n.checked_mul(factor)).ok_or_else(say)
}
