//! A survey of large trees, new and again, beside `find -printf` with the same fields, in turns,
//! with both processors free and on one of them. Prints tables with ratios.
//!
//! A word says which trees are meant: those that have it in their names. `TARVEK_BENCH_ENTRIES` (1
//! 000 000 unless given) and `TARVEK_BENCH_ROUNDS` (5) say how much.
#![allow(clippy::print_stdout)] // it is what this program is for

use std::path::{Path, PathBuf};
use std::process::Command;

use support::{Cost, cost, is_copy, only_started, run, setting};

mod support;

/// A tree: where it is to be made, and of how many entries; the files that may be changed.
type Make = fn(&Path, u64) -> Vec<PathBuf>;

const TREES: [(&str, Make); 5] = [
    ("folders of 75 files", plain),
    ("a fifth with ACLs", with_acls),
    ("hard links", linked),
    ("deep chains", deep),
    ("ten flat folders", flat),
];

fn main() {
    if is_copy() || only_started() {
        return;
    }
    let (entries, rounds) =
        (setting("TARVEK_BENCH_ENTRIES", 1_000_000), setting("TARVEK_BENCH_ROUNDS", 5));
    println!("{entries} entries, medians of {rounds}; to find, again to new\n");
    println!("| tree | cores | find CPU | new: CPU | wall | MiB | again: CPU | wall | MiB |");
    println!("|---|---|---|---|---|---|---|---|---|");
    let only = std::env::args().nth(1).filter(|only| !only.starts_with('-'));
    for (name, make) in TREES
        .iter()
        .filter(|(name, _)| only.as_ref().is_none_or(|only| name.contains(only.as_str())))
    {
        let scratch = tempfile::tempdir().expect("a temporary folder");
        let files = make(&scratch.path().join("tree"), entries);
        // Caches warm, and inodes old enough to count as unchanged.
        survey(scratch.path(), &[], "kept.survey");
        std::thread::sleep(std::time::Duration::from_secs(3));
        survey(scratch.path(), &[], "kept.survey");
        for cores in ["0,1", "0"] {
            let (mut finds, mut firsts, mut agains) = (Vec::new(), Vec::new(), Vec::new());
            for round in 0..rounds {
                finds.push(find(scratch.path(), cores));
                let _ = std::fs::remove_file(scratch.path().join("new.survey"));
                firsts.push(survey(scratch.path(), &["taskset", "-c", cores], "new.survey"));
                // One entry in a thousand.
                for file in files.iter().step_by(files.len() / (entries as usize / 1000).max(1)) {
                    std::fs::write(file, round.to_string()).expect("it can be written");
                }
                agains.push(survey(scratch.path(), &["taskset", "-c", cores], "kept.survey"));
            }
            let [find, first, again] = [finds, firsts, agains].map(|costs| Cost::median(&costs));
            println!(
                "| {name} | {} | {:.2} s | {:.2} | {:.2} | {:.0} | {:.2} | {:.2} | {:.0} |",
                cores.len() / 2 + 1,
                find.cpu,
                first.cpu / find.cpu,
                first.wall / find.wall,
                first.memory,
                again.cpu / first.cpu,
                again.wall / first.wall,
                again.memory
            );
        }
    }
}

fn find(folder: &Path, cores: &str) -> Cost {
    let fields = "%y %m %U %G %s %b %i %n %T@ %C@ %p\\0";
    cost(folder, "taskset", &["-c", cores, "find", "tree", "-printf", fields])
}

fn survey(folder: &Path, by: &[&str], file: &str) -> Cost {
    let command = [env!("CARGO_BIN_EXE_tarvek"), "survey", "tree", "-o", file];
    let all: Vec<&str> = by.iter().copied().chain(command).collect();
    cost(folder, all[0], &all[1..])
}

fn file(path: PathBuf) -> PathBuf {
    std::fs::File::create(&path).expect("a file");
    path
}

fn plain(tree: &Path, entries: u64) -> Vec<PathBuf> {
    let mut files = Vec::new();
    for n in 0..entries / 76 {
        let folder = tree.join(format!("shelf {:03}/Title {n:05} (2004)", n / 400));
        std::fs::create_dir_all(&folder).expect("a folder");
        files.extend((0..75).map(|n| file(folder.join(format!("Title S01E{n:02}.mkv")))));
    }
    files
}

fn with_acls(tree: &Path, entries: u64) -> Vec<PathBuf> {
    let files = plain(tree, entries);
    let some: Vec<&PathBuf> = files.iter().step_by(5).collect();
    for some in some.chunks(1000) {
        run(Command::new("setfacl").args(["-m", "u:840:rx"]).args(some));
    }
    files
}

/// Every file has its second name in another folder.
fn linked(tree: &Path, entries: u64) -> Vec<PathBuf> {
    let files = plain(&tree.join("one"), entries / 2);
    for n in 0..entries / 2 / 76 {
        let folder = tree.join(format!("other/{n:05}"));
        std::fs::create_dir_all(&folder).expect("a folder");
        for file in files.iter().skip(n as usize * 75).take(75) {
            std::fs::hard_link(file, folder.join(file.file_name().expect("it has a name")))
                .expect("a second name");
        }
    }
    files
}

fn deep(tree: &Path, entries: u64) -> Vec<PathBuf> {
    let mut files = Vec::new();
    for n in 0..entries / 200 {
        let folder = tree.join(format!("chain {n:05}")).join("d/".repeat(198));
        std::fs::create_dir_all(&folder).expect("folders");
        files.push(file(folder.join("end")));
    }
    files
}

fn flat(tree: &Path, entries: u64) -> Vec<PathBuf> {
    let mut files = Vec::new();
    for n in 0..10 {
        let folder = tree.join(n.to_string());
        std::fs::create_dir_all(&folder).expect("a folder");
        files.extend((0..entries / 10).map(|n| file(folder.join(format!("Title {n:06}.mkv")))));
    }
    files
}
