//! Tarvek: designs and audits media share layouts on network storage.

mod cli;
mod commands;
mod inputs;
mod outcome;
mod view;

use std::process::ExitCode;

fn main() -> ExitCode {
    let arguments = cli::parse();
    let stage = view::Stage::new(&arguments.globals);
    match commands::run(arguments, &stage) {
        Ok(outcome) => outcome.into(),
        Err(failure) => failure.report(&stage),
    }
}
