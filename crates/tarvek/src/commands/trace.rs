//! `tarvek trace`.

use tarvek_core::judge::access_check::judge;
use tarvek_core::judge::verdict::Need;
use tarvek_core::route::end::End;
use tarvek_core::route::follow_written;
use tarvek_core::route::known_as::known_as;
use tarvek_host::observe::Depth;

use crate::cli::{Format, Globals, TraceArgs};
use crate::inputs::{self, Reading};
use crate::outcome::{Failure, Outcome};
use crate::view::{Screen, json, trace};

pub(super) fn run(
    globals: &Globals,
    args: &TraceArgs,
    screen: &Screen,
) -> Result<Outcome, Failure> {
    let Some(path) = &args.path else { return backwards(globals, args, screen) };
    let mut asked =
        inputs::asked(globals, args.from.as_deref(), path, Depth::Names, Reading::InPart)?;
    let (text, outcome) = asked.settled(|asked| {
        let (subject, remark) = inputs::usual_subject(asked);
        let route = follow_written(&asked.site, &asked.view, &asked.written, &subject);
        let read = judge(&asked.site, &route, Need::Read);
        let text = match args.format {
            Format::Text => trace::text(&route, &read, remark.as_deref(), screen),
            Format::Json => json::text(
                &json::Trace::new(&asked.site, &route, &read).with_partial(asked.site.partial()),
            ),
        };
        let outcome = match route.end {
            _ if route.complete() => Outcome::Fine,
            End::Unseen { .. } => Outcome::Unanswered,
            _ => Outcome::Found,
        };
        Ok((text, outcome))
    })?;
    screen.say(&text)?;
    screen.tell_partial(asked.site.partial());
    Ok(outcome)
}

/// Every name of a folder.
fn backwards(globals: &Globals, args: &TraceArgs, screen: &Screen) -> Result<Outcome, Failure> {
    let (mut parted, place) = inputs::place(globals, args.to.as_deref().unwrap_or_default())?;
    let text = parted.settled(|site| {
        let names = known_as(site, &place);
        Ok(match args.format {
            Format::Text => trace::backwards(site, &place, &names, screen),
            Format::Json => {
                json::text(&json::TraceTo::new(&place, &names).with_partial(site.partial()))
            }
        })
    })?;
    screen.say(&text)?;
    screen.tell_partial(parted.site.partial());
    Ok(Outcome::Fine)
}
