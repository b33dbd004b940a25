//! `tarvek explain`.

use tarvek_core::rules::registry::{named, rules};
use tarvek_core::words::text::{nearest, shown};

use crate::cli::ExplainArgs;
use crate::outcome::{Failure, Outcome};
use crate::view::{Screen, explain};

pub(super) fn run(args: &ExplainArgs, screen: &Screen) -> Result<Outcome, Failure> {
    let Some(id) = &args.rule else {
        screen.say(&explain::all(screen))?;
        return Ok(Outcome::Fine);
    };
    let Some(rule) = named(id) else {
        let remedy = match nearest(id, rules().map(|rule| rule.id)) {
            Some(near) => format!("did you mean {near}?"),
            None => "`tarvek explain` lists them all".to_owned(),
        };
        return Err(Failure::with_remedy(
            format!("there is no rule {}", shown(id.as_bytes())),
            remedy,
        ));
    };
    screen.say(&explain::rule(rule, screen))?;
    Ok(Outcome::Fine)
}
