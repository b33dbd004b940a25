//! A survey of a large tree, new and again, beside `find -printf` with the same fields, in turns. Prints a table with ratios.
//!
//! `TARVEK_BENCH_ENTRIES` (1 000 000 unless given) and `TARVEK_BENCH_ROUNDS` (7) say how much.
#![allow(clippy::print_stdout)] // it is what this program is for

use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;

use support::{median, only_started, peak, run, setting, timed};

mod support;

/// Files in each folder.
const FILES: u64 = 75;

fn main() {
    if only_started() {
        return;
    }
    let (entries, rounds) =
        (setting("TARVEK_BENCH_ENTRIES", 1_000_000), setting("TARVEK_BENCH_ROUNDS", 7));
    let scratch = tempfile::tempdir().expect("a temporary folder");
    let tree = scratch.path().join("tree");
    let folders = make(&tree, entries / (FILES + 1));
    let (new, kept) = (scratch.path().join("new.survey"), scratch.path().join("kept.survey"));
    // Caches warm, and inodes old enough to count as unchanged.
    survey(&tree, &kept);
    find(&tree);
    std::thread::sleep(Duration::from_secs(3));
    survey(&tree, &kept);
    let (mut finds, mut firsts, mut agains) = (Vec::new(), Vec::new(), Vec::new());
    for round in 0..rounds {
        finds.push(timed(|| find(&tree)));
        let _ = std::fs::remove_file(&new);
        firsts.push(timed(|| survey(&tree, &new)));
        // One entry in a thousand.
        for folder in folders.iter().step_by((1000 / FILES) as usize) {
            std::fs::write(folder.join("Title S01E07.mkv"), round.to_string())
                .expect("it can be written");
        }
        agains.push(timed(|| survey(&tree, &kept)));
    }
    let (find, first, again) = (median(finds), median(firsts), median(agains));
    println!("| {entries} entries, median of {rounds} | time | ratio |\n|---|---|---|");
    println!("| find -printf | {find:.2} s | 1 |");
    println!("| survey, new | {first:.2} s | {:.2} of find |", first / find);
    println!(
        "| survey, again with 0.1 % changed | {again:.2} s | {:.2} of the new one |",
        again / first
    );
    println!("| most memory of any of them | {} MiB | |", peak());
}

/// Makes the tree, and returns its folders.
fn make(tree: &Path, count: u64) -> Vec<PathBuf> {
    let mut folders = Vec::new();
    for n in 0..count {
        let folder = tree.join(format!("shelf {:03}/Title {n:05} (2004)", n / 400));
        std::fs::create_dir_all(&folder).expect("a folder");
        for file in 0..FILES {
            std::fs::File::create(folder.join(format!("Title S01E{file:02}.mkv"))).expect("a file");
        }
        folders.push(folder);
    }
    folders
}

fn find(tree: &Path) {
    let mut command = Command::new("find");
    run(command.arg(tree).args(["-printf", "%y %m %U %G %s %b %i %n %T@ %C@ %p\\0"]));
}

fn survey(tree: &Path, file: &Path) {
    let mut command = Command::new(env!("CARGO_BIN_EXE_tarvek"));
    run(command.arg("survey").arg(tree).arg("-o").arg(file));
}
