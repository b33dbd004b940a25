//! `tarvek compare`.

use tarvek_core::facts::compare::compare;

use crate::cli::{CompareArgs, Format};
use crate::inputs;
use crate::outcome::{Failure, Outcome};
use crate::view::{Screen, compare as view, json};

pub(super) fn run(args: &CompareArgs, screen: &Screen) -> Result<Outcome, Failure> {
    let (old, new) = (inputs::survey(&args.old)?, inputs::survey(&args.new)?);
    if old.name != new.name {
        let message = format!("{} and {} are two hosts", old.name, new.name);
        return Err(Failure::with_remedy(message, "give two surveys of one host"));
    }
    let differences = compare(&old, &new);
    let partial = [&old, &new].into_iter().filter(|facts| !facts.complete).map(|facts| &facts.name);
    let text = match args.format {
        Format::Text => view::text(&differences, screen),
        Format::Json => {
            json::text(&json::Compare::from(&differences).with_partial(partial.clone()))
        }
    };
    screen.say(&text)?;
    screen.tell_partial(partial);
    Ok(if differences.is_empty() { Outcome::Fine } else { Outcome::Found })
}
