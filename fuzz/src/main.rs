//! Spoiled input for every reader, on a stable toolchain: samples that are read well are changed at
//! random, again and again. A panic, also one that the guard of readers catches, a broken promise,
//! or an input that takes long is a failure; the input is kept.
//!
//! `tarvek-fuzz TARGET [SECONDS [SEED]]`; or `tarvek-fuzz list`.

#![allow(clippy::print_stderr, clippy::print_stdout)] // a chore talks to the person who runs it

mod mutate;
mod targets;

use std::path::PathBuf;
use std::process::ExitCode;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use tarvek_formats::guard::{caught, guarded};

use mutate::Random;
use targets::{TARGETS, Target};

/// No input of this size may take longer.
const LONGEST: Duration = Duration::from_secs(20);

fn main() -> ExitCode {
    let mut arguments = std::env::args().skip(1);
    let name = arguments.next().unwrap_or_default();
    if name == "list" {
        TARGETS.iter().for_each(|target| println!("{}", target.name));
        return ExitCode::SUCCESS;
    }
    let Some(target) = TARGETS.iter().find(|target| target.name == name) else {
        let known: Vec<&str> = TARGETS.iter().map(|target| target.name).collect();
        eprintln!("there is no target {name:?}; there are {}", known.join(", "));
        return ExitCode::from(2);
    };
    let mut number = || arguments.next().and_then(|text| text.parse().ok());
    let seconds = number().unwrap_or(60);
    let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    let seed = number().unwrap_or(now.as_nanos() as u64);
    match run(target, Duration::from_secs(seconds), seed) {
        Ok(inputs) => {
            println!("{}: {inputs} inputs in {seconds} s, seed {seed}", target.name);
            ExitCode::SUCCESS
        }
        Err(why) => {
            eprintln!("{}: {why} (seed {seed})", target.name);
            ExitCode::FAILURE
        }
    }
}

fn run(target: &Target, time: Duration, seed: u64) -> Result<u64, String> {
    let samples = (target.samples)();
    let mut random = Random::new(seed);
    let begun = Instant::now();
    let watched = watch(target.name);
    let mut inputs = 0;
    let mut last = Vec::new();
    while begun.elapsed() < time {
        // Now and then what was spoiled before is spoiled further.
        let from: &[u8] = match last.len() {
            0 => random.one::<Vec<u8>>(&samples),
            _ if random.below(3) > 0 => random.one::<Vec<u8>>(&samples),
            _ => &last,
        };
        let input = mutate::spoiled(&mut random, from, &samples);
        watched.begin(&input);
        let before = caught();
        let outcome = guarded(|| (target.run)(&input));
        watched.end();
        let inner = caught() - before - u64::from(outcome.is_err());
        if let Err(panicked) = outcome {
            return Err(format!("{}; {}", panicked.message, keep(target.name, &input)));
        }
        if inner > 0 && !target.may_panic_inside {
            return Err(format!("a reader panicked; {}", keep(target.name, &input)));
        }
        inputs += 1;
        last = input;
    }
    Ok(inputs)
}

/// Keeps an input where it can be tried again, and says where.
fn keep(name: &str, input: &[u8]) -> String {
    let path: PathBuf = std::env::temp_dir().join(format!("tarvek-fuzz-{name}"));
    match std::fs::write(&path, input) {
        Ok(()) => format!("the input is {}", path.display()),
        Err(error) => format!("the input can't be kept: {error}: {input:?}"),
    }
}

/// Ends the program if one input takes too long.
struct Watched {
    input: Arc<Mutex<Vec<u8>>>,
    /// When it was begun, in milliseconds since the start; 0 between inputs.
    begun: Arc<AtomicU64>,
    start: Instant,
}

impl Watched {
    fn begin(&self, input: &[u8]) {
        if let Ok(mut kept) = self.input.lock() {
            input.clone_into(&mut kept);
        }
        let now = self.start.elapsed().as_millis() as u64;
        self.begun.store(now.max(1), Ordering::Relaxed);
    }

    fn end(&self) {
        self.begun.store(0, Ordering::Relaxed);
    }
}

fn watch(name: &'static str) -> Watched {
    let (input, begun) = (Arc::new(Mutex::new(Vec::new())), Arc::new(AtomicU64::new(0)));
    let watched = Watched { input: input.clone(), begun: begun.clone(), start: Instant::now() };
    let start = watched.start;
    std::thread::spawn(move || {
        loop {
            std::thread::sleep(Duration::from_millis(500));
            let since = begun.load(Ordering::Relaxed);
            let now = start.elapsed().as_millis() as u64;
            if since > 0 && now > since + LONGEST.as_millis() as u64 {
                let input = input.lock().map(|input| input.clone()).unwrap_or_default();
                eprintln!("{name}: an input takes more than {LONGEST:?}; {}", keep(name, &input));
                std::process::exit(1);
            }
        }
    });
    watched
}
