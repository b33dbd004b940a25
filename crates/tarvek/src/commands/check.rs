//! `tarvek check`.

use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;

use tarvek_core::check::report::{Report, check, of_names};

use crate::cli::{CheckArgs, Format, Globals};
use crate::inputs;
use crate::outcome::{Failure, Outcome};
use crate::view::{Screen, board, json, names};

pub(super) fn run(
    globals: &Globals,
    args: &CheckArgs,
    screen: &Screen,
) -> Result<Outcome, Failure> {
    let (report, layout) = match &args.names {
        Some(folder) => (names_below(folder)?, String::new()),
        None => {
            let (mut site, layout) = match args.here {
                true => inputs::here()?,
                false => inputs::site(globals)?,
            };
            site.max_age = args.max_age;
            (check(&site), layout)
        }
    };
    let text = match args.format {
        Format::Text => match &args.names {
            Some(folder) => names::text(&report, folder.as_bytes(), screen),
            None => board::text(&report, screen, &layout),
        },
        Format::Json => json::text(&json::Check::new(&report, &layout)),
    };
    screen.say(&text)?;
    Ok(if report.any_from(args.fail_on) { Outcome::Found } else { Outcome::Fine })
}

/// What is wrong with names below a folder of this machine.
fn names_below(folder: &OsStr) -> Result<Report, Failure> {
    let (site, place) = inputs::folder_here(folder)?;
    Ok(of_names(&site, &place))
}
