//! One file per command. A command composes what the other crates do, and judges nothing itself.

mod access;
mod attempt;
mod check;
mod compare;
mod demo;
mod draft;
mod emit;
mod explain;
mod schema;
mod survey;
mod trace;

use crate::cli::{Arguments, Command};
use crate::outcome::{Failure, Outcome};
use crate::view::Stage;

/// Runs the command that was asked for.
pub(crate) fn run(arguments: Arguments, stage: &Stage) -> Result<Outcome, Failure> {
    let globals = &arguments.globals;
    match &arguments.command {
        Command::Demo(args) => demo::run(globals, args, stage),
        Command::Draft(args) => draft::run(args, stage),
        Command::Emit(args) => emit::run(globals, args, stage),
        Command::Check(args) => check::run(globals, args, stage),
        Command::Trace(args) => trace::run(globals, args, stage),
        Command::Access(args) => access::run(globals, args, stage),
        Command::Survey(args) => survey::run(globals, args, stage),
        Command::Compare(args) => compare::run(args, stage),
        Command::Explain(args) => explain::run(args, stage),
        Command::Schema(args) => schema::run(args, stage),
        Command::Attempt(args) => attempt::run(args, stage),
    }
}
