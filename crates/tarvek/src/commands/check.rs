//! `tarvek check`.

use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;

use tarvek_core::check::report::{check, goes_through, of_names};

use super::apply::{self, outcome};
use crate::cli::{CheckArgs, Format, Globals};
use crate::inputs::{self, LayoutFile};
use crate::outcome::{Failure, Outcome};
use crate::view::{Screen, board, json, names};

pub(super) fn run(
    globals: &Globals,
    args: &CheckArgs,
    screen: &Screen,
) -> Result<Outcome, Failure> {
    if let Some(folder) = &args.names {
        return names_below(args, folder, screen);
    }
    if args.apply {
        return apply::run(globals, args, screen);
    }
    let (mut site, layout) = match args.here {
        true => inputs::here()?,
        false => {
            let layout = inputs::find_layout(globals)?.ok_or_else(inputs::no_layout)?;
            inputs::site_in_part(globals, layout)?
        }
    };
    site.site.max_age = args.max_age;
    let report = site.settled_below(goes_through, check)?;
    let text = match args.format {
        Format::Text => board::text(&report, screen, &layout.name),
        Format::Json => {
            let edited = json::EditedLayout::new(&layout, &site.site.layout);
            json::text(&json::Check::new(&report, &edited))
        }
    };
    screen.say(&text)?;
    Ok(outcome(args, &report))
}

/// What is wrong with names below a folder of this machine.
fn names_below(args: &CheckArgs, folder: &OsStr, screen: &Screen) -> Result<Outcome, Failure> {
    let (site, place) = inputs::folder_here(folder)?;
    let report = of_names(&site, &place);
    let text = match args.format {
        Format::Text => names::text(&report, folder.as_bytes(), &place.path, screen),
        Format::Json => {
            let none = LayoutFile::default();
            let edited = json::EditedLayout::new(&none, &site.layout);
            json::text(&json::Check::new(&report, &edited))
        }
    };
    screen.say(&text)?;
    // There is no board that could be ready.
    Ok(if report.any_from(args.fail_on) { Outcome::Found } else { Outcome::Fine })
}
