//! The command line, a file per command. Doc comments of options are the help text.

mod access;
mod adopt;
mod check;
mod compare;
mod demo;
mod draft;
mod emit;
mod explain;
mod forecast;
mod globals;
mod link;
mod schema;
mod survey;
mod trace;
mod waste;
mod words;

pub(crate) use globals::{Format, Globals, When};

use clap::{Parser, Subcommand};

pub(crate) use access::{AccessArgs, AttemptArgs};
pub(crate) use adopt::AdoptArgs;
pub(crate) use check::CheckArgs;
pub(crate) use compare::CompareArgs;
pub(crate) use demo::DemoArgs;
pub(crate) use draft::{BriefOptions, DraftArgs, Member, NamedOption};
pub(crate) use emit::{EmitArgs, Emitted};
pub(crate) use explain::ExplainArgs;
pub(crate) use forecast::ForecastArgs;
pub(crate) use link::LinkArgs;
pub(crate) use schema::{SchemaArgs, SchemaOf};
pub(crate) use survey::SurveyArgs;
pub(crate) use trace::TraceArgs;
pub(crate) use waste::{ReclaimArgs, TableFormat, WasteArgs};

/// Designs and audits media share layouts on network storage, before a media server scans them.
#[derive(Debug, Parser)]
#[command(name = "tarvek", version, max_term_width = 100, disable_help_subcommand = true)]
pub(crate) struct Arguments {
    #[command(flatten)]
    pub(crate) globals: Globals,
    #[command(subcommand)]
    pub(crate) command: Command,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Write the demo site into a folder, and walk through the whole job on it
    #[command(
        after_help = "Examples:\n  tarvek demo kestrel-hollow\n  tarvek --quiet demo elsewhere"
    )]
    Demo(DemoArgs),
    /// Make a layout from a brief: a file, options, or answers to questions
    #[command(
        after_help = "Examples:\n  tarvek draft --brief wished.brief.toml -o wished.toml\n  tarvek \
                      draft --storage granary --pool loft --filesystem zfs --kind films --serve \
                      lantern=840"
    )]
    Draft(Box<DraftArgs>),
    /// Make a layout from what exists: Compose files, fstab, exports, smb.conf, units, account
    /// files
    #[command(
        after_help = "Examples:\n  tarvek adopt granary:conf/granary/exports conf/millrace -o \
                      mine.toml\n  tarvek adopt conf/granary conf/millrace --format json"
    )]
    Adopt(AdoptArgs),
    /// Write real configuration from a layout
    #[command(
        after_help = "Examples:\n  tarvek emit exports --host granary\n  tarvek emit compose \
                      --host millrace -o out"
    )]
    Emit(EmitArgs),
    /// The readiness board: what each library scan would find, and why not
    #[command(
        after_help = "Examples:\n  tarvek check --fail-on risk\n  tarvek check --apply --only \
                      path/case"
    )]
    Check(CheckArgs),
    /// One path, hop by hop, as a service or host sees it
    #[command(
        after_help = "Examples:\n  tarvek trace /media/films --from service:lantern\n  tarvek \
                      trace --to granary:/loft/media/films"
    )]
    Trace(TraceArgs),
    /// Who can do what at a path, and which entry decides
    #[command(
        after_help = "Examples:\n  tarvek access /media/photos --from service:lantern --need read \
                      --below\n  tarvek access /loft/media/films --from host:granary --all"
    )]
    Access(AccessArgs),
    /// Will a file be hard-linked, renamed or copied? And why
    #[command(after_help = "Examples:\n  tarvek link archive/films archive/inbox\n  tarvek link \
                      /data/intake/done/films /data/films --from service:joiner --need link,rename")]
    Link(LinkArgs),
    /// What each library scan would find, miss or misread
    #[command(
        after_help = "Examples:\n  tarvek forecast --titles\n  tarvek forecast --kind music \
                      shelf/music --problems"
    )]
    Forecast(ForecastArgs),
    /// Duplicates, versions, leftovers, copies that should be links: what of it would come back
    #[command(
        after_help = "Examples:\n  tarvek waste shelf --cache waste.cache\n  tarvek waste --review \
                      waste.csv"
    )]
    Waste(WasteArgs),
    /// Carry out a reviewed list of waste, reversibly
    #[command(
        after_help = "Examples:\n  tarvek reclaim review.csv --yes\n  tarvek reclaim review.csv \
                      --purge --yes"
    )]
    Reclaim(ReclaimArgs),
    /// Look at this host, or read a collected listing, into a survey file
    #[command(after_help = "Examples:\n  tarvek survey -o shelf.survey shelf\n  tarvek survey \
                      --collector > collector.sh")]
    Survey(SurveyArgs),
    /// What changed between two surveys of a host
    #[command(
        after_help = "Examples:\n  tarvek compare granary.listing granary.mended.listing\n  tarvek \
                      compare granary.survey granary.listing --format json"
    )]
    Compare(CompareArgs),
    /// The long text of a rule; without a rule, all of them in a line each
    #[command(after_help = "Examples:\n  tarvek explain path/missing\n  tarvek explain")]
    Explain(ExplainArgs),
    /// The JSON Schema of the layout file, or of an output
    #[command(after_help = "Examples:\n  tarvek schema layout\n  tarvek schema check")]
    Schema(SchemaArgs),
    /// Try access as somebody else; `access --prove` starts this in a process of its own
    #[command(hide = true)]
    Attempt(AttemptArgs),
}

/// Reads the command line; help, version and mistakes end the program here, mistakes with exit code
/// 2.
pub(crate) fn parse() -> Arguments {
    Arguments::parse()
}
