//! Tarvek: designs and audits media share layouts on network storage.

mod cli;
mod commands;
mod inputs;
mod outcome;
mod view;

use std::process::ExitCode;

fn main() -> ExitCode {
    let arguments = cli::parse();
    let screen = view::Screen::new(&arguments.globals);
    match commands::run(arguments, &screen) {
        Ok(outcome) => outcome.into(),
        Err(failure) => failure.report(&screen),
    }
}
