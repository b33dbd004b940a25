//! One file per command. A command composes what the other crates do, and judges nothing itself.

mod access;
mod adopt;
mod apply;
mod attempt;
mod check;
mod compare;
mod demo;
mod draft;
mod emit;
mod explain;
mod forecast;
mod link;
mod progress;
mod prove_link;
mod reclaim;
mod renames;
mod schema;
mod survey;
mod trace;
mod waste;

use crate::cli::{Arguments, Command};
use crate::outcome::{Failure, Outcome};
use crate::view::Screen;

/// Runs the command that was asked for.
pub(crate) fn run(arguments: Arguments, screen: &Screen) -> Result<Outcome, Failure> {
    let globals = &arguments.globals;
    match &arguments.command {
        Command::Demo(args) => demo::run(globals, args, screen),
        Command::Draft(args) => draft::run(args, screen),
        Command::Adopt(args) => adopt::run(args, screen),
        Command::Emit(args) => emit::run(globals, args, screen),
        Command::Check(args) => check::run(globals, args, screen),
        Command::Trace(args) => trace::run(globals, args, screen),
        Command::Access(args) => access::run(globals, args, screen),
        Command::Link(args) => link::run(globals, args, screen),
        Command::Forecast(args) => forecast::run(globals, args, screen),
        Command::Waste(args) => waste::run(globals, args, screen),
        Command::Reclaim(args) => reclaim::run(globals, args, screen),
        Command::Survey(args) => survey::run(globals, args, screen),
        Command::Compare(args) => compare::run(args, screen),
        Command::Explain(args) => explain::run(args, screen),
        Command::Schema(args) => schema::run(args, screen),
        Command::Attempt(args) => attempt::run(args, screen),
    }
}
