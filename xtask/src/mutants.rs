//! Small faults in the core (`cargo mutants`), and whether its own tests notice them: without root,
//! without the built program, in seconds each.

use std::ffi::OsStr;
use std::path::{Path, PathBuf};
use std::process::Command;

use clap::Args;

use crate::{root, run};

const CORE: &str = "crates/tarvek-core/src";

#[derive(Args)]
pub(crate) struct MutantsArgs {
    /// Only in this file or folder of the core, such as check/board.rs; may be given several times
    #[arg(long, value_name = "PATH")]
    file: Vec<String>,
    /// Only in lines that changed since this commit
    #[arg(long, value_name = "COMMIT")]
    since: Option<String>,
    /// At most about so many, spread evenly over all there are
    #[arg(long, value_name = "COUNT")]
    sample: Option<usize>,
    /// Which of the samples of that size
    #[arg(long, default_value_t = 0)]
    seed: usize,
    /// Fail if fewer than so many of a hundred are noticed
    #[arg(long, value_name = "PERCENT", default_value_t = 0)]
    at_least: usize,
}

impl MutantsArgs {
    /// A small sample of what the last commits changed, or of everything where there is no history
    /// of so many. Of so few most may be missed by chance, but not all.
    pub(crate) fn of_recent_changes(seed: u64) -> Self {
        const SINCE: &str = "HEAD~10";
        let mut known = Command::new("git");
        known.current_dir(root()).args(["rev-parse", "--quiet", "--verify", SINCE]);
        let is_known = known.output().is_ok_and(|output| output.status.success());
        Self {
            file: Vec::new(),
            since: is_known.then(|| SINCE.to_owned()),
            sample: Some(3),
            seed: (seed % 1_000_000) as usize,
            at_least: 20,
        }
    }
}

/// Tries mutants, and says how many of them were noticed. `path` is where programs are found, unless
/// the environment says it.
pub(crate) fn run_sample(args: &MutantsArgs, path: Option<&OsStr>) -> Result<(), String> {
    let out = root().join("target/mutants");
    std::fs::create_dir_all(&out).map_err(|error| format!("{}: {error}", out.display()))?;
    let mut selection: Vec<String> = Vec::new();
    for file in &args.file {
        let path = root().join(CORE).join(file);
        let below = if path.is_dir() { "/**" } else { "" };
        selection.extend(["--file".to_owned(), format!("{CORE}/{file}{below}")]);
    }
    if let Some(since) = &args.since {
        let diff = changes(since, &out)?;
        selection.extend(["--in-diff".to_owned(), diff.display().to_string()]);
    }
    let mutants = || {
        let mut command = Command::new(env!("CARGO"));
        command.current_dir(root()).args(["mutants", "--package", "tarvek-core"]).args(&selection);
        command.envs(path.map(|path| ("PATH", path)));
        // It works on a copy of the sources; what they depend on is built already.
        command.env("CARGO_TARGET_DIR", root().join("target"));
        command
    };
    let count = count_listed(mutants())?;
    if count == 0 {
        println!("xtask: there is nothing to mutate");
        return Ok(());
    }
    let parts = args.sample.map_or(1, |sample| count.div_ceil(sample.max(1)));
    let mut command = mutants();
    command.args(["--sharding", "round-robin", "--shard"]);
    command.arg(format!("{}/{parts}", args.seed % parts)).arg("--output").arg(&out);
    // Survivors make it exit with 2; what they are is read below.
    command.args(["--timeout", "120", "--baseline", "skip"]);
    command.args(["--cargo-test-arg=--lib", "--cargo-test-arg=--test=names"]);
    // Laws on generated sites take as long as all others together.
    command.args([
        "--",
        "--",
        "--skip=no_single_remedy",
        "--skip=all_remedies",
        "--skip=a_row_is_ready",
    ]);
    let _survivors = run(&mut command);
    let Outcomes { caught, missed } = read_outcomes(&out.join("mutants.out/outcomes.json"))?;
    let tried = caught + missed;
    if tried == 0 {
        println!("xtask: of {count} mutants none that was taken compiles");
        return Ok(());
    }
    let percent = caught * 100 / tried;
    println!("xtask: of {count} mutants {tried} were tried, and {caught} noticed: {percent} %");
    if percent < args.at_least {
        return Err(format!("the core's tests notice {percent} % of {tried} mutants only"));
    }
    Ok(())
}

/// How many mutants there are.
fn count_listed(mut command: Command) -> Result<usize, String> {
    let listed = command.arg("--list").output().map_err(|error| error.to_string())?;
    if !listed.status.success() {
        let said = String::from_utf8_lossy(&listed.stderr);
        return Err(format!("cargo mutants (installed by `cargo install cargo-mutants`): {said}"));
    }
    Ok(String::from_utf8_lossy(&listed.stdout).lines().count())
}

/// The changes of the core since a commit, as a file.
fn changes(since: &str, out: &Path) -> Result<PathBuf, String> {
    let mut command = Command::new("git");
    command.current_dir(root()).args(["diff", since, "HEAD", "--", CORE]);
    let diff = command.output().map_err(|error| format!("git: {error}"))?;
    if !diff.status.success() {
        return Err(format!("git diff: {}", String::from_utf8_lossy(&diff.stderr)));
    }
    let file = out.join("changes.diff");
    std::fs::write(&file, diff.stdout).map_err(|error| format!("{}: {error}", file.display()))?;
    Ok(file)
}

struct Outcomes {
    caught: usize,
    missed: usize,
}

fn read_outcomes(file: &Path) -> Result<Outcomes, String> {
    let say = |error: &dyn std::fmt::Display| format!("{}: {error}", file.display());
    let text = std::fs::read_to_string(file).map_err(|error| say(&error))?;
    let all: serde_json::Value = serde_json::from_str(&text).map_err(|error| say(&error))?;
    let count = |name: &str| {
        let count = all[name].as_u64().ok_or_else(|| say(&format!("says nothing of {name}")))?;
        usize::try_from(count).map_err(|error| say(&error))
    };
    Ok(Outcomes { caught: count("caught")? + count("timeout")?, missed: count("missed")? })
}
