//! What benches that run the built program share.

use std::process::{Command, Stdio};
use std::time::Instant;

use nix::sys::resource::{UsageWho, getrusage};

/// A number from the environment.
pub(crate) fn setting(name: &str, usual: u64) -> u64 {
    std::env::var(name).map_or(usual, |value| value.parse().expect("a number"))
}

/// Whether it is only to be seen that the bench starts, as `cargo test --benches` wants.
pub(crate) fn only_started() -> bool {
    std::env::args().any(|argument| argument == "--test")
}

pub(crate) fn run(command: &mut Command) {
    assert!(command.stdout(Stdio::null()).status().expect("it starts").success());
}

/// Seconds that it takes.
pub(crate) fn timed(work: impl FnOnce()) -> f64 {
    let start = Instant::now();
    work();
    start.elapsed().as_secs_f64()
}

pub(crate) fn median(mut times: Vec<f64>) -> f64 {
    times.sort_by(f64::total_cmp);
    times[times.len() / 2]
}

/// The most memory of any child so far, in MiB.
pub(crate) fn peak() -> i64 {
    getrusage(UsageWho::RUSAGE_CHILDREN).expect("it is always there").max_rss() / 1024
}
