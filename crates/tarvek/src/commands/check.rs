//! `tarvek check`.

use tarvek_core::check::report::check;

use crate::cli::{CheckArgs, Format, Globals};
use crate::inputs;
use crate::outcome::{Failure, Outcome};
use crate::view::{Screen, board, json};

pub(super) fn run(
    globals: &Globals,
    args: &CheckArgs,
    screen: &Screen,
) -> Result<Outcome, Failure> {
    let (mut site, layout) = match args.here {
        true => inputs::here()?,
        false => inputs::site(globals)?,
    };
    site.max_age = args.max_age;
    let report = check(&site);
    let text = match args.format {
        Format::Text => board::text(&report, screen, &layout),
        Format::Json => json::text(&json::Check::new(&report, &layout)),
    };
    screen.say(&text)?;
    Ok(if report.any_from(args.fail_on) { Outcome::Found } else { Outcome::Fine })
}
