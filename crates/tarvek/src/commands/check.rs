//! `tarvek check`.

use tarvek_core::check::check;

use crate::cli::{CheckArgs, Format, Globals};
use crate::inputs;
use crate::outcome::{Failure, Outcome};
use crate::view::{Stage, board, json};

pub(super) fn run(globals: &Globals, args: &CheckArgs, stage: &Stage) -> Result<Outcome, Failure> {
    let (mut site, layout) = inputs::site(globals)?;
    site.max_age = args.max_age;
    let report = check(&site);
    let text = match args.format {
        Format::Text => board::text(&report, stage, &layout),
        Format::Json => json::text(&json::Check::from(&report)),
    };
    stage.say(&text)?;
    Ok(if report.any_from(args.fail_on.into()) { Outcome::Found } else { Outcome::Fine })
}
