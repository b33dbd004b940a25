//! The chores of this repository, one word each: `cargo xtask test`, `lint`, `oracle`, `bench`, `docs`, `screenshots`,
//! `dependencies`, `fuzz`, `ci`.
#![allow(clippy::print_stderr, clippy::print_stdout)] // a chore talks to the person who runs it

mod docs;

use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode};

use clap::{Parser, Subcommand};

#[derive(Parser)]
#[command(about = "The chores of this repository")]
struct Arguments {
    #[command(subcommand)]
    chore: Chore,
}

#[derive(Subcommand)]
enum Chore {
    /// The tests that need nothing but the toolchain
    Test,
    /// Formatting, clippy and rustdoc, warnings denied, and whether generated documentation is current
    Lint,
    /// The oracle lane: asks kernel, servers and standard tools; needs root and Debian packages
    Oracle {
        /// Only tests whose name has this in it
        #[arg(long)]
        area: Option<String>,
        /// How many random cases each area takes
        #[arg(long)]
        cases: Option<u64>,
        /// Repeat the run of this seed
        #[arg(long)]
        seed: Option<u64>,
    },
    /// The figures of docs/performance.md; takes minutes and two gigabytes in the temporary folder
    Bench,
    /// Write the generated documentation
    Docs,
    /// Make docs/screenshots anew; needs xterm, Xvfb and ImageMagick
    Screenshots,
    /// Licences, versions and sources of dependencies, and whether all are used; needs cargo-deny and cargo-machete
    Dependencies,
    /// Lets a fuzzer loose on a reader; needs a nightly toolchain, cargo-fuzz and a C++ compiler
    Fuzz {
        /// layout, brief, listing, survey, tables, secret, emit, compose, config, media, names or review
        target: String,
        /// For how long
        #[arg(long, default_value_t = 60)]
        seconds: u64,
    },
    /// Everything that has to pass: lint, test, oracle
    Ci,
}

fn main() -> ExitCode {
    let done = match Arguments::parse().chore {
        Chore::Test => test(),
        Chore::Lint => lint(),
        Chore::Oracle { area, cases, seed } => oracle(area.as_deref(), cases, seed),
        Chore::Bench => run(&mut cargo("bench --locked -p tarvek")),
        Chore::Docs => docs::write(&root()),
        Chore::Screenshots => screenshots(),
        Chore::Dependencies => dependencies(),
        Chore::Fuzz { target, seconds } => fuzz(&target, seconds),
        Chore::Ci => lint().and_then(|()| test()).and_then(|()| oracle(None, None, None)),
    };
    match done {
        Ok(()) => ExitCode::SUCCESS,
        Err(what) => {
            eprintln!("xtask: {what}");
            ExitCode::FAILURE
        }
    }
}

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).parent().expect("xtask lies in the workspace").to_owned()
}

fn run(command: &mut Command) -> Result<(), String> {
    command.current_dir(root());
    let status = command.status().map_err(|error| format!("{command:?}: {error}"))?;
    if status.success() { Ok(()) } else { Err(format!("{command:?} failed")) }
}

fn cargo(arguments: &str) -> Command {
    let mut command = Command::new(env!("CARGO"));
    command.args(arguments.split(' '));
    command
}

fn test() -> Result<(), String> {
    run(&mut cargo("test --workspace --locked"))
}

fn lint() -> Result<(), String> {
    run(&mut cargo("fmt --all --check"))?;
    run(&mut cargo("clippy --workspace --all-targets --all-features --locked -- -D warnings"))?;
    run(cargo("doc --workspace --no-deps --locked").env("RUSTDOCFLAGS", "-D warnings"))?;
    docs::check(&root())
}

fn dependencies() -> Result<(), String> {
    run(&mut cargo("deny --locked check licenses bans sources"))?;
    run(&mut Command::new("cargo-machete"))
}

/// Starts from what the demo and the examples have, and keeps what it learns in `fuzz/corpus`.
/// Short media files, from ffmpeg.
fn samples(folder: &Path) -> Result<(), String> {
    let kinds = [
        "h264.mkv", "h264.mp4", "vp9.webm", "a.mp3", "a.flac", "a.ogg", "a.opus", "a.wav", "a.m4a",
    ];
    for kind in kinds {
        let mut ffmpeg = Command::new("ffmpeg");
        ffmpeg.args(["-v", "error", "-y", "-f", "lavfi", "-i", "sine=duration=0.3"]);
        if kind.contains("h264") || kind.contains("vp9") {
            ffmpeg.args(["-f", "lavfi", "-i", "testsrc=size=64x64:duration=0.3"]);
        }
        run(ffmpeg.arg(folder.join(kind)))?;
    }
    Ok(())
}

fn fuzz(target: &str, seconds: u64) -> Result<(), String> {
    let corpus = root().join("fuzz/corpus").join(target);
    let seeds: &[&str] = match target {
        "layout" | "emit" => {
            &["crates/tarvek/src/demo/tarvek.toml", "crates/tarvek/tests/data/every-key.toml"]
        }
        "brief" => {
            &["examples/nfs.brief.toml", "examples/one-box.brief.toml", "examples/smb.brief.toml"]
        }
        "listing" => {
            &["crates/tarvek/src/demo/granary.listing", "crates/tarvek/src/demo/millrace.listing"]
        }
        "tables" => &["crates/tarvek/src/demo/granary.listing"],
        "secret" => &["crates/tarvek-core/tests/data/secrets.txt"],
        "compose" => &["crates/tarvek/src/demo/conf/millrace/compose.yaml"],
        "config" => &[
            "crates/tarvek/src/demo/conf/granary/exports",
            "crates/tarvek/src/demo/conf/granary/smb.conf",
            "crates/tarvek/src/demo/conf/millrace/fstab",
            "crates/tarvek/src/demo/conf/parlour/drives.txt",
        ],
        "names" => &["crates/tarvek-core/tests/data/names.tsv"],
        "survey" | "media" | "review" => &[],
        _ => {
            let known = "layout, brief, listing, survey, tables, secret, emit, compose, config, media, names, review";
            return Err(format!("there is no target {target}; there are {known}"));
        }
    };
    let failed = |error| format!("{}: {error}", corpus.display());
    std::fs::create_dir_all(&corpus).map_err(failed)?;
    for (n, seed) in seeds.iter().enumerate() {
        std::fs::copy(root().join(seed), corpus.join(format!("seed-{n}"))).map_err(failed)?;
    }
    if target == "survey" {
        let to = corpus.join("seed-0");
        let listing = root().join("crates/tarvek/src/demo/millrace.listing");
        let mut survey = cargo("run --quiet --locked -p tarvek -- survey --from");
        run(survey.arg(listing).arg("-o").arg(to))?;
    }
    if target == "media" {
        samples(&corpus)?;
    }
    let mut fuzz = Command::new("cargo");
    fuzz.args(["+nightly", "fuzz", "run", target, "--"]);
    run(fuzz.args([format!("-max_total_time={seconds}"), "-rss_limit_mb=1024".to_owned()]))
}

fn oracle(area: Option<&str>, cases: Option<u64>, seed: Option<u64>) -> Result<(), String> {
    let mut command = cargo("test --locked -p tarvek --features oracle --test oracle --");
    command.args(area).arg("--nocapture").arg("--test-threads=1");
    command.envs(cases.map(|cases| ("TARVEK_CASES", cases.to_string())));
    command.envs(seed.map(|seed| ("TARVEK_SEED", seed.to_string())));
    run(&mut command)
}

fn screenshots() -> Result<(), String> {
    run(&mut cargo("build --release --locked"))?;
    run(&mut Command::new("docs/screenshots/make"))
}
