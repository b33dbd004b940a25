//! Tarvek: designs and audits media share layouts on network storage.

mod cli;
mod commands;
mod inputs;
mod outcome;
mod view;

use std::process::ExitCode;

use tarvek_formats::guard::guarded;

fn main() -> ExitCode {
    let arguments = cli::parse();
    let screen = view::Screen::new(&arguments.globals);
    let outcome = guarded(|| commands::run(arguments, &screen));
    match outcome.unwrap_or_else(|panicked| Err(outcome::Failure::by_a_fault(&panicked))) {
        Ok(outcome) => outcome.into(),
        Err(failure) => failure.report(&screen),
    }
}
