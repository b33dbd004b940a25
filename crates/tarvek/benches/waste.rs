//! Equal files among large and small ones, beside `b3sum` on the files that are equal, which is the
//! least that proves it. Prints tables with ratios.
//!
//! `TARVEK_BENCH_LARGE` (10) pairs of `TARVEK_BENCH_MIB` (100) MiB, `TARVEK_BENCH_SMALL` (1 000
//! 000) small files, and `TARVEK_BENCH_ROUNDS` (5) say how much. b3sum is a Debian package.
#![allow(clippy::print_stdout)] // it is what this program is for

use std::fs::{self, File};
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::Command;

use serde_json::Value;

use support::{median, only_started, peak, run, setting, timed};

mod support;

fn main() {
    if only_started() {
        return;
    }
    let rounds = setting("TARVEK_BENCH_ROUNDS", 5);
    large(rounds);
    small(rounds);
    sparse();
}

/// Pairs of large files that are equal. Two pairs share each size.
fn large(rounds: u64) {
    let (pairs, size) = (setting("TARVEK_BENCH_LARGE", 10), setting("TARVEK_BENCH_MIB", 100) << 20);
    let scratch = tempfile::tempdir().expect("a temporary folder");
    let mut files: Vec<PathBuf> = Vec::new();
    for n in 0..pairs {
        let length = size + n / 2 * 4096;
        for half in ["a", "b"] {
            let path = scratch.path().join(format!("film {n:02} {half}.mkv"));
            let mut hasher = blake3::Hasher::new();
            hasher.update(&n.to_le_bytes());
            let mut bytes = vec![0; usize::try_from(length).expect("it fits")];
            hasher.finalize_xof().fill(&mut bytes);
            File::create(&path).and_then(|mut file| file.write_all(&bytes)).expect("a file");
            files.push(path);
        }
    }
    let least =
        files.iter().map(|path| fs::metadata(path).expect("it is there").len()).sum::<u64>();
    let cache = scratch.path().join("cache");
    let (mut ours, mut reference, mut again) = (Vec::new(), Vec::new(), Vec::new());
    let mut read = 0;
    for _ in 0..rounds {
        reference.push(timed(|| {
            run(Command::new("b3sum").args(&files));
        }));
        let _ = fs::remove_file(&cache);
        ours.push(timed(|| read = waste(scratch.path(), Some(&cache))));
        again.push(timed(|| assert_eq!(waste(scratch.path(), Some(&cache)), 0)));
    }
    let (ours, reference, again) = (median(ours), median(reference), median(again));
    println!(
        "| {pairs} pairs of {} MiB, median of {rounds} | time | ratio |\n|---|---|---|",
        size >> 20
    );
    println!("| b3sum of the same files | {reference:.2} s | 1 |");
    println!("| waste | {ours:.2} s | rate {:.2} of b3sum |", reference / ours);
    println!("| waste, again | {again:.2} s | {:.3} of the first |", again / ours);
    println!("| bytes read | {read} | {:.4} of the least |\n", read as f64 / least as f64);
}

/// Many small files, one in ten of them twice; most memory of the whole process.
fn small(rounds: u64) {
    let count = setting("TARVEK_BENCH_SMALL", 1_000_000);
    let scratch = tempfile::tempdir().expect("a temporary folder");
    for n in 0..count {
        let folder = scratch.path().join(format!("{:04}", n / 500));
        if n % 500 == 0 {
            fs::create_dir(&folder).expect("a folder");
        }
        let seed = if n % 10 == 0 { n.saturating_sub(10) / 20 } else { n };
        let bytes = format!("{seed:0>60}").repeat(1 + (seed % 7) as usize);
        fs::write(folder.join(format!("{n}.txt")), bytes).expect("a file");
    }
    let cache = scratch.path().join("cache");
    let mut times = Vec::new();
    let mut again = Vec::new();
    for _ in 0..rounds.min(3) {
        let _ = fs::remove_file(&cache);
        times.push(timed(|| _ = waste(scratch.path(), Some(&cache))));
        again.push(timed(|| _ = waste(scratch.path(), Some(&cache))));
    }
    println!("| {count} small files | time | most memory |\n|---|---|---|");
    println!("| waste | {:.2} s | {} MiB |", median(times), peak());
    println!("| waste, again | {:.2} s | |\n", median(again));
}

/// 200 files of tens of GiB that are almost only holes, in pairs.
fn sparse() {
    let scratch = tempfile::tempdir().expect("a temporary folder");
    for n in 0..200_u64 {
        let file = File::create(scratch.path().join(format!("{n:03}.img"))).expect("a file");
        // Pairs differ in their first bytes; none has to be read to its end.
        std::os::unix::fs::FileExt::write_all_at(&file, &n.to_le_bytes(), 0)
            .expect("it is written");
        file.set_len((20 + n / 2 % 10) << 30).expect("it is made longer");
    }
    let mut read = 0;
    let time = timed(|| read = waste(scratch.path(), None));
    println!(
        "| 200 files of 20 to 30 GiB | {time:.2} s | {read} bytes read, most memory so far {} MiB \
         |",
        peak()
    );
}

/// Bytes of contents that it reads.
fn waste(folder: &Path, cache: Option<&Path>) -> u64 {
    let mut command = Command::new(env!("CARGO_BIN_EXE_tarvek"));
    command.arg("waste").arg(folder).args(["--kind", "copy", "--format", "json"]);
    if let Some(cache) = cache {
        command.arg("--cache").arg(cache);
    }
    let output = command.output().expect("it starts");
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let answer: Value = serde_json::from_slice(&output.stdout).expect("JSON");
    answer["totals"]["bytes_read"].as_u64().expect("a number")
}
