//! What benches that run the built program share.
#![allow(dead_code)] // each bench uses a part of this

pub(crate) mod libraries;

use std::path::Path;
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

/// What a run costs.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Cost {
    /// Seconds on the clock.
    pub(crate) wall: f64,
    /// Seconds of all processors together.
    pub(crate) cpu: f64,
    /// The most memory, in MiB.
    pub(crate) memory: f64,
}

impl Cost {
    /// The median of each.
    pub(crate) fn median(costs: &[Self]) -> Self {
        let of = |of: fn(&Self) -> f64| median(costs.iter().map(of).collect());
        Self {
            wall: of(|cost| cost.wall),
            cpu: of(|cost| cost.cpu),
            memory: of(|cost| cost.memory),
        }
    }

    /// The least of each: what the program takes when nobody else does.
    pub(crate) fn least(costs: &[Self]) -> Self {
        let of = |of: fn(&Self) -> f64| costs.iter().map(of).fold(f64::MAX, f64::min);
        Self {
            wall: of(|cost| cost.wall),
            cpu: of(|cost| cost.cpu),
            memory: of(|cost| cost.memory),
        }
    }
}

/// Runs a program in a folder and tells what that costs. A copy of this program does it: the kernel
/// tells CPU and memory of all children of a process together. [`is_copy`] has to come first in
/// `main`.
pub(crate) fn cost<A: AsRef<std::ffi::OsStr>>(
    folder: &Path,
    program: &str,
    arguments: &[A],
) -> Cost {
    let mut copy = Command::new(std::env::current_exe().expect("it runs"));
    copy.args(["--measure", program]).args(arguments).current_dir(folder);
    let output = copy.output().expect("it starts");
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let text = String::from_utf8(output.stdout).expect("numbers");
    let numbers: Vec<f64> =
        text.split_whitespace().map(|number| number.parse().expect("a number")).collect();
    Cost { wall: numbers[0], cpu: numbers[1], memory: numbers[2] }
}

/// Whether this is a copy that has run what it was made for.
pub(crate) fn is_copy() -> bool {
    let mut arguments = std::env::args_os().skip(1);
    if arguments.next().is_none_or(|first| first != "--measure") {
        return false;
    }
    let mut command = Command::new(arguments.next().expect("a program"));
    command.args(arguments).stdout(Stdio::null()).stderr(Stdio::null());
    let start = Instant::now();
    let code = command.spawn().and_then(|mut child| child.wait()).expect("it starts").code();
    let wall = start.elapsed().as_secs_f64();
    assert!(matches!(code, Some(0..=2)), "it ended with {code:?}");
    let usage = getrusage(UsageWho::RUSAGE_CHILDREN).expect("it is always there");
    let seconds =
        |time: nix::sys::time::TimeVal| time.tv_sec() as f64 + time.tv_usec() as f64 / 1e6;
    let cpu = seconds(usage.user_time()) + seconds(usage.system_time());
    println!("{wall} {cpu} {}", usage.max_rss() as f64 / 1024.0);
    true
}
