//! The chores of this repository, one word each: `cargo xtask test`, `lint`, `oracle`, `bench`,
//! `docs`, `screenshots`, `dependencies`, `fuzz`, `mutants`, `ci`.
#![allow(clippy::print_stderr, clippy::print_stdout)] // a chore talks to the person who runs it

mod docs;
mod mutants;

use std::hash::{DefaultHasher, Hash, Hasher};
use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode};

use clap::{Parser, Subcommand};
use mutants::MutantsArgs;

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
    /// Formatting, clippy and rustdoc, warnings denied, and whether generated documentation is
    /// current
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
    /// Licences, versions and sources of dependencies, and whether all are used; needs cargo-deny
    /// and cargo-machete
    Dependencies,
    /// Spoiled input for the readers, each for some time
    Fuzz {
        /// The targets; all of them unless some are named
        targets: Vec<String>,
        /// For how long each
        #[arg(long, default_value_t = 60)]
        seconds: u64,
        /// What the changes follow from
        #[arg(long)]
        seed: Option<u64>,
    },
    /// Small faults put into the core, which its own tests have to notice; needs cargo-mutants
    Mutants(MutantsArgs),
    /// Everything that has to pass, in the order in which it fails fastest; `.ci/run` installs what
    /// it needs
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
        Chore::Fuzz { targets, seconds, seed } => fuzz(targets, seconds, seed),
        Chore::Mutants(args) => mutants::run_sample(&args, None),
        Chore::Ci => ci(),
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

/// Everything that has to pass. There is no other list of it.
fn ci() -> Result<(), String> {
    lint()?;
    test()?;
    let seed = seed_of_sources()?;
    println!("xtask: the seed is {seed}");
    // The oracle lane keeps one processor busy; the other one makes what the last steps take.
    let tools = root().join("target/tools");
    let making = std::thread::spawn({
        let tools = tools.clone();
        move || make_for_last_steps(&tools)
    });
    let answered = oracle(None, None, Some(seed));
    let made = making.join().map_err(|_| "what the last steps take was not made")?;
    answered?;
    made?;
    // Enough to meet a target that fails at once; longer runs are a chore.
    fuzz(Vec::new(), 5, Some(seed))?;
    oldest_toolchain()?;
    let path = std::env::var_os("PATH").unwrap_or_default();
    let path = std::iter::once(tools.join("bin")).chain(std::env::split_paths(&path));
    let path = std::env::join_paths(path).map_err(|error| error.to_string())?;
    run(cargo("deny --locked check licenses bans sources").env("PATH", &path))?;
    run(Command::new("cargo-machete").env("PATH", &path))?;
    mutants::run_sample(&MutantsArgs::of_recent_changes(seed), Some(&path))?;
    demo()?;
    println!("all of it passed");
    Ok(())
}

/// The tools of the last steps and what the fuzz targets are built of, by one processor and behind
/// everything else.
fn make_for_last_steps(tools: &Path) -> Result<(), String> {
    let nice = |arguments: &str| {
        let mut command = Command::new("nice");
        command.arg(env!("CARGO")).args(arguments.split(' '));
        command
    };
    let mut install = nice("install --quiet --debug --locked --jobs 1 --root");
    install.arg(tools);
    install.args(["cargo-machete@0.9.2", "cargo-deny@0.20.2", "cargo-mutants@27.1.0"]);
    run(&mut install)?;
    run(&mut nice("build --quiet --locked --release --jobs 1 -p tarvek-fuzz"))
}

/// What passed once passes again: the cases follow from the sources, and are others after each
/// change.
fn seed_of_sources() -> Result<u64, String> {
    let mut files = Vec::new();
    let mut todo = vec![root().join("crates")];
    while let Some(folder) = todo.pop() {
        for entry in std::fs::read_dir(&folder).map_err(|error| error.to_string())? {
            let path = entry.map_err(|error| error.to_string())?.path();
            if path.is_dir() {
                todo.push(path);
            } else if path.extension().is_some_and(|end| end == "rs") {
                files.push(path);
            }
        }
    }
    files.sort();
    let mut hasher = DefaultHasher::new();
    for file in files {
        std::fs::read(&file)
            .map_err(|error| format!("{}: {error}", file.display()))?
            .hash(&mut hasher);
    }
    // A seed that is short enough to be typed.
    Ok(hasher.finish() >> 16)
}

/// Whether the oldest toolchain that `rust-version` promises compiles it.
fn oldest_toolchain() -> Result<(), String> {
    let manifest = root().join("Cargo.toml");
    let text = std::fs::read_to_string(&manifest).map_err(|error| error.to_string())?;
    let line = text.lines().find_map(|line| line.strip_prefix("rust-version = \""));
    let version = line.and_then(|line| line.split('"').next()).ok_or("no rust-version")?;
    let install = ["toolchain", "install", "--profile", "minimal", version];
    if let Err(why) = run(Command::new("rustup").args(install)) {
        println!("xtask: Rust {version} can't be had here, and is not tried: {why}");
        return Ok(());
    }
    run(Command::new("rustup")
        .args(["run", version, "cargo", "check", "--locked", "-p", "tarvek", "--target-dir"])
        .arg(root().join("target/oldest"))
        .env_remove("RUSTC")
        .env_remove("RUSTUP_TOOLCHAIN")
        .env_remove("CARGO"))
}

/// The README's first command, in a folder of its own.
fn demo() -> Result<(), String> {
    let folder = std::env::temp_dir().join(format!("tarvek-demo-{}", std::process::id()));
    let mut command = cargo("run --quiet --locked --release -- demo");
    let output = command.arg(&folder).output().map_err(|error| error.to_string())?;
    let removed = std::fs::remove_dir_all(&folder);
    let text = String::from_utf8_lossy(&output.stdout);
    if !output.status.success() || !text.contains("2 of 7 libraries ready") {
        return Err(format!("the demo says something else: {text}"));
    }
    removed.map_err(|error| error.to_string())
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

/// As many targets at a time as there are processors.
fn fuzz(mut targets: Vec<String>, seconds: u64, seed: Option<u64>) -> Result<(), String> {
    run(&mut cargo("build --quiet --locked --release -p tarvek-fuzz"))?;
    let program = root().join("target/release/tarvek-fuzz");
    if targets.is_empty() {
        let list =
            Command::new(&program).arg("list").output().map_err(|error| error.to_string())?;
        targets = String::from_utf8_lossy(&list.stdout).lines().map(str::to_owned).collect();
    }
    let at_once = std::thread::available_parallelism().map_or(1, usize::from);
    for some in targets.chunks(at_once) {
        let start = |target: &String| {
            let mut command = Command::new(&program);
            command.args([target, &seconds.to_string()]);
            command.args(seed.map(|seed| seed.to_string()));
            command.spawn().map_err(|error| error.to_string())
        };
        let running: Vec<_> = some.iter().map(start).collect::<Result<_, _>>()?;
        for (mut child, target) in running.into_iter().zip(some) {
            let status = child.wait().map_err(|error| error.to_string())?;
            if !status.success() {
                return Err(format!("{target} failed"));
            }
        }
    }
    Ok(())
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
