//! The command line, a file per command. Doc comments of options are the help text.

mod access;
mod check;
mod compare;
mod demo;
mod draft;
mod emit;
mod explain;
mod schema;
mod survey;
mod trace;
mod words;

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};

pub(crate) use access::{AccessArgs, AttemptArgs};
pub(crate) use check::CheckArgs;
pub(crate) use compare::CompareArgs;
pub(crate) use demo::DemoArgs;
pub(crate) use draft::{BriefOptions, DraftArgs, Member, Of};
pub(crate) use emit::{EmitArgs, Emitted};
pub(crate) use explain::ExplainArgs;
pub(crate) use schema::{SchemaArgs, SchemaOf};
pub(crate) use survey::SurveyArgs;
pub(crate) use trace::TraceArgs;

/// Designs and audits media share layouts on network storage, before a media server scans them.
#[derive(Debug, Parser)]
#[command(name = "tarvek", version, max_term_width = 100, disable_help_subcommand = true)]
pub(crate) struct Arguments {
    #[command(flatten)]
    pub(crate) globals: Globals,
    #[command(subcommand)]
    pub(crate) command: Command,
}

/// Options of every command.
#[derive(Clone, Debug, Args)]
pub(crate) struct Globals {
    /// The layout; tarvek.toml here or in a folder above unless given
    #[arg(long, global = true, value_name = "FILE")]
    pub(crate) layout: Option<PathBuf>,
    /// What was seen of a host: a survey or listing; may be given for several hosts. Without it, files named
    /// HOST.survey or HOST.listing beside the layout are used
    #[arg(long, global = true, value_name = "FILE")]
    pub(crate) survey: Vec<PathBuf>,
    /// The host of the layout that is this machine, if it goes by another name
    #[arg(long, global = true, value_name = "NAME")]
    pub(crate) this_host: Option<String>,
    /// Whether to use colour
    #[arg(long, global = true, value_enum, value_name = "WHEN", default_value = "auto")]
    pub(crate) color: When,
    /// Say only what matters most
    #[arg(short, long, global = true, conflicts_with = "verbose")]
    pub(crate) quiet: bool,
    /// Say more
    #[arg(short, long, global = true)]
    pub(crate) verbose: bool,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum When {
    Auto,
    Always,
    Never,
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub(crate) enum Format {
    #[default]
    Text,
    Json,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Write the demo site into a folder, and walk through the whole job on it
    Demo(DemoArgs),
    /// Make a layout from a brief: a file, options, or answers to questions
    Draft(Box<DraftArgs>),
    /// Write real configuration from a layout
    Emit(EmitArgs),
    /// The readiness board: what each library scan would find, and why not
    Check(CheckArgs),
    /// One path, hop by hop, as a service or host sees it
    Trace(TraceArgs),
    /// Who can do what at a path, and which entry decides
    Access(AccessArgs),
    /// Look at this host, or read a collected listing, into a survey file
    Survey(SurveyArgs),
    /// What changed between two surveys of a host
    Compare(CompareArgs),
    /// The long text of a rule; without a rule, all of them in a line each
    Explain(ExplainArgs),
    /// The JSON Schema of the layout file, or of an output
    Schema(SchemaArgs),
    /// Try access as somebody else; `access --prove` starts this in a process of its own
    #[command(hide = true)]
    Attempt(AttemptArgs),
}

/// Reads the command line; help, version and mistakes end the program here, mistakes with exit code 2.
pub(crate) fn parse() -> Arguments {
    Arguments::parse()
}
