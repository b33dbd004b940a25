//! `tarvek explain`.

use tarvek_core::rules::{ALL, named};
use tarvek_core::text::{nearest, shown};

use crate::cli::ExplainArgs;
use crate::outcome::{Failure, Outcome};
use crate::view::{Stage, explain};

pub(super) fn run(args: &ExplainArgs, stage: &Stage) -> Result<Outcome, Failure> {
    let Some(id) = &args.rule else {
        stage.say(&explain::all())?;
        return Ok(Outcome::Fine);
    };
    let Some(rule) = named(id) else {
        let remedy = match nearest(id, ALL.iter().map(|rule| rule.id)) {
            Some(near) => format!("did you mean {near}?"),
            None => "`tarvek explain` lists them all".to_owned(),
        };
        return Err(Failure::with_remedy(
            format!("there is no rule {}", shown(id.as_bytes())),
            remedy,
        ));
    };
    stage.say(&explain::rule(rule, stage))?;
    Ok(Outcome::Fine)
}
