//! Reviews carried out while the machine is failing: killed at every step and at random moments, on
//! a tree that others change meanwhile. No content is ever lost, and each name has what it had or
//! what the review says.

use std::collections::BTreeMap;
use std::fs;
use std::io::{Read, Seek, Write};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use serde_json::Value;

use crate::random::{self, Random};
use crate::stage::below;
use crate::waste::{noise, tarvek};

/// What each inode below a folder holds, held ones included.
fn inodes(top: &Path) -> BTreeMap<u64, [u8; 32]> {
    let mut inodes = BTreeMap::new();
    for path in below(top) {
        let Ok(meta) = path.symlink_metadata() else { continue };
        if meta.is_file()
            && path.file_name().unwrap() != "journal"
            && let Ok(bytes) = fs::read(&path)
        {
            inodes.insert(meta.ino(), *blake3::hash(&bytes).as_bytes());
        }
    }
    inodes
}

/// How often each content is there.
fn contents(top: &Path) -> BTreeMap<[u8; 32], usize> {
    let mut counts = BTreeMap::new();
    for digest in inodes(top).into_values() {
        *counts.entry(digest).or_default() += 1;
    }
    counts
}

/// What is held that no review meant: it came to stand in the place of a file at that very moment,
/// and its name was taken when it was to go back.
fn strays(tree: &Path) -> Vec<[u8; 32]> {
    let held = tree.join(".tarvek-held");
    let journal = fs::read_to_string(held.join("journal")).unwrap_or_default();
    let meant = |line: &str| {
        let line: Value = serde_json::from_str(line).ok()?;
        Some((line["step"].as_u64()?, line["intent"]["was"]["inode"].as_u64()?))
    };
    let meant: BTreeMap<u64, u64> = journal.lines().filter_map(meant).collect();
    let stray = |(step, inode): (&u64, &u64)| {
        let path = held.join(format!("{step:06}"));
        let other =
            path.symlink_metadata().is_ok_and(|meta| meta.is_file() && meta.ino() != *inode);
        other.then(|| *blake3::hash(&fs::read(path).unwrap()).as_bytes())
    };
    meant.iter().filter_map(stray).collect()
}

/// Every name that is not held, with what it holds and its inode.
fn names(top: &Path) -> BTreeMap<PathBuf, (Vec<u8>, u64)> {
    let of = |path: PathBuf| {
        let meta = path.symlink_metadata().unwrap();
        let bytes = if meta.is_file() { fs::read(&path).unwrap() } else { Vec::new() };
        (path, (bytes, meta.ino()))
    };
    below(top)
        .into_iter()
        .filter(|path| !path.to_str().unwrap().contains("/.tarvek-held"))
        .map(of)
        .collect()
}

/// A tree with copies, leftovers and hollow folders, and a review of it with some links.
fn reviewed(random: &mut Random, top: &Path, files: u64) -> PathBuf {
    let tree = top.join("d");
    for n in 0..files {
        let folder = tree.join(format!("folder {}", n % 3));
        fs::create_dir_all(&folder).unwrap();
        // Each content about three times.
        fs::write(folder.join(format!("file {n:03}")), noise(n / 3, 3000 + n / 3)).unwrap();
    }
    fs::create_dir_all(tree.join("hollow/deep")).unwrap();
    fs::write(tree.join("hollow/Thumbs.db"), "x").unwrap();
    let old = std::time::SystemTime::now() - Duration::from_secs(4 * 86_400);
    for name in ["hollow/deep", "hollow"] {
        fs::File::open(tree.join(name)).unwrap().set_modified(old).unwrap();
    }
    fs::hard_link(tree.join("folder 1/file 001"), tree.join("one more name")).unwrap();
    let review = top.join("r.csv");
    let output = tarvek(&[&"waste", &tree, &"--review", &review]);
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let text = fs::read_to_string(&review).unwrap();
    let lines: Vec<String> = text
        .lines()
        .map(|line| match line.contains(",copy,") && random.rarely(2) {
            true => line.replacen("drop,", "link,", 1),
            false => line.to_owned(),
        })
        .collect();
    fs::write(&review, lines.join("\r\n") + "\r\n").unwrap();
    review
}

/// The program, or what runs it, with a running total that isn't the one of whoever runs the tests.
fn program(name: &str, review: &Path) -> Command {
    let mut command = Command::new(name);
    command.env("XDG_STATE_HOME", review.with_file_name("state"));
    command.stdout(Stdio::null()).stderr(Stdio::null());
    command
}

fn reclaim(review: &Path, how: &str) -> i32 {
    let mut command = program(env!("CARGO_BIN_EXE_tarvek"), review);
    command.args([Path::new("reclaim"), review, Path::new("--yes")]);
    command.args((!how.is_empty()).then_some(how)).status().unwrap().code().unwrap()
}

/// That every name has what it had, or what the review says, and nothing is left of the way there.
fn settled(before: &BTreeMap<PathBuf, (Vec<u8>, u64)>, tree: &Path, review: &Path, about: &str) {
    let decisions = fs::read_to_string(review).unwrap();
    let now = names(tree);
    for (path, (bytes, inode)) in before {
        let line = decisions.lines().find(|line| line.contains(&format!(",{},", path.display())));
        let decision = line.and_then(|line| line.split(',').next()).unwrap_or("keep");
        match (decision, now.get(path)) {
            (_, Some((content, same))) if same == inode => {
                assert_eq!(content, bytes, "{about}: {path:?}")
            }
            ("link", Some((content, _))) => assert_eq!(content, bytes, "{about}: {path:?}"),
            ("drop", None) => {}
            other => panic!("{about}: {path:?} is {other:?}"),
        }
    }
    for path in now.keys() {
        assert!(before.contains_key(path), "{about}: {path:?} was left behind");
    }
}

/// Runs it with something injected at the nth of a system call; whether it came to its end in
/// peace.
fn injected(review: &Path, how: &[&str], call: &str, nth: u64, what: &str) -> bool {
    let inject = format!("inject={call}:{what}:when={nth}");
    let status = program("strace", review)
        .args(["-f", "-o", "/dev/null", "-e", &format!("trace={call}"), "-e", &inject])
        .arg(env!("CARGO_BIN_EXE_tarvek"))
        .args([Path::new("reclaim"), review, Path::new("--yes")])
        .args(how)
        .status()
        .unwrap();
    status.success()
}

const CALLS: [&str; 6] = ["fdatasync", "fsync", "renameat2", "linkat", "unlinkat", "mkdirat"];

#[test]
fn a_purge_killed_at_every_step_leaves_one_of_each() {
    let mut random = Random::from_env("reclaim, purge");
    let mut kills = 0;
    for call in ["fdatasync", "fsync", "unlinkat"] {
        for nth in 1.. {
            let scratch = tempfile::tempdir().unwrap();
            let review = reviewed(&mut random, scratch.path(), 9);
            let tree = scratch.path().join("d");
            let before: Vec<[u8; 32]> = contents(&tree).into_keys().collect();
            reclaim(&review, "");
            let peace = injected(&review, &["--purge"], call, nth, "signal=SIGKILL");
            let about = format!("{call} {nth}");
            let thumbs = *blake3::hash(b"x").as_bytes();
            let lost = |tree: &Path| {
                let now = contents(tree);
                before.iter().any(|digest| *digest != thumbs && !now.contains_key(digest))
            };
            assert!(!lost(&tree), "{about}");
            if peace {
                break;
            }
            kills += 1;
            assert_eq!(reclaim(&review, "--purge"), 0, "{about}");
            assert!(!lost(&tree), "{about}");
            assert!(!tree.join(".tarvek-held").exists(), "{about}: nothing is held any more");
        }
    }
    assert!(kills > 10, "{kills}");
}

#[test]
fn what_fails_half_way_loses_nothing() {
    let mut random = Random::from_env("reclaim, with errors");
    let mut failures = 0;
    for call in CALLS.iter().chain(&["write"]) {
        for nth in 1..40 {
            if random.rarely(2) {
                continue;
            }
            let scratch = tempfile::tempdir().unwrap();
            let review = reviewed(&mut random, scratch.path(), 9);
            let tree = scratch.path().join("d");
            let (before, held) = (names(&tree), contents(&tree));
            let what = *random.one(&["error=ENOSPC", "error=EIO", "error=EINVAL"]);
            let peace = injected(&review, &[], call, nth, what);
            let about = format!("{call} {nth} {what}");
            assert_eq!(contents(&tree), held, "{about}");
            settled(&before, &tree, &review, &about);
            failures += u32::from(!peace);
            assert!(reclaim(&review, "--undo") < 2 || names(&tree) == before, "{about}");
            assert_eq!(names(&tree), before, "{about}: undone");
        }
    }
    eprintln!("reclaim: {failures} runs with an error");
}

#[test]
fn killed_at_every_step_nothing_is_lost() {
    let mut random = Random::from_env("reclaim, at every step");
    let mut kills = 0;
    for call in CALLS {
        for nth in 1.. {
            let scratch = tempfile::tempdir().unwrap();
            let review = reviewed(&mut random, scratch.path(), 9);
            let tree = scratch.path().join("d");
            let (before, held) = (names(&tree), contents(&tree));
            let peace = injected(&review, &[], call, nth, "signal=SIGKILL");
            let about = format!("{call} {nth}");
            assert_eq!(contents(&tree), held, "{about}: right after it was killed");
            if peace {
                break;
            }
            kills += 1;
            let how = *random.one(&["--resume", "--undo", ""]);
            let code = reclaim(&review, how);
            assert_eq!(contents(&tree), held, "{about}, {how}");
            assert!(code < 2 || how == "--undo", "{about}, {how}: {code}");
            if how == "--undo" {
                assert_eq!(names(&tree), before, "{about}");
            } else {
                settled(&before, &tree, &review, &about);
                // Undoing after that puts everything back as well, though it is killed now and
                // then.
                let peace = injected(&review, &["--undo"], call, nth, "signal=SIGKILL");
                assert_eq!(contents(&tree), held, "{about}, undo");
                if !peace {
                    reclaim(&review, "--undo");
                }
                assert_eq!(names(&tree), before, "{about}, undo");
            }
        }
    }
    eprintln!("reclaim was killed at {kills} steps");
    assert!(kills > 40, "{kills}");
}

#[test]
fn killed_at_any_moment_on_a_busy_tree_nothing_is_lost() {
    let mut random = Random::from_env("reclaim, at any moment");
    let (mut killed, mut refused) = (0, 0);
    for case in 0..random::cases(60) {
        let scratch = tempfile::tempdir().unwrap();
        let review = reviewed(&mut random, scratch.path(), 24);
        let tree = scratch.path().join("d");
        let before = inodes(&tree);
        let stop = AtomicBool::new(false);
        let seed = random.next();
        let made = std::thread::scope(|scope| {
            let busy = scope.spawn(|| busy(&tree, seed, &stop));
            let mut child = program(env!("CARGO_BIN_EXE_tarvek"), &review)
                .args([Path::new("reclaim"), &review, Path::new("--yes")])
                .spawn()
                .unwrap();
            std::thread::sleep(Duration::from_micros(random.below(40_000)));
            killed += i32::from(child.try_wait().unwrap().is_none());
            let _ = child.kill();
            child.wait().unwrap();
            let how = *random.one(&["--resume", "--undo"]);
            refused += i32::from(reclaim(&review, how) > 0);
            stop.store(true, Ordering::Relaxed);
            busy.join().unwrap()
        });
        // What was written to is another content; of the one before what is held may be the last,
        // and what was written into a file that is held by then is there only. A purge refuses
        // both.
        let touched: Vec<[u8; 32]> = made
            .iter()
            .filter_map(|(inode, now)| Some([*before.get(inode)?, *now]))
            .flatten()
            .collect();
        let mut expected = before;
        expected.extend(made);
        assert_eq!(inodes(&tree), expected, "case {case}, {seed}");
        // Of each content one name at least is not held.
        let visible: Vec<[u8; 32]> =
            names(&tree).values().map(|(bytes, _)| *blake3::hash(bytes).as_bytes()).collect();
        let thumbs = blake3::hash(b"x");
        let strays = strays(&tree);
        let free = |digest: &&[u8; 32]| {
            *digest != thumbs.as_bytes() && !touched.contains(digest) && !strays.contains(digest)
        };
        for digest in expected.values().filter(free) {
            assert!(visible.contains(digest), "case {case}, {seed}: a content is only held");
        }
        reclaim(&review, "--undo");
        assert_eq!(inodes(&tree), expected, "case {case}, {seed}: after undo");
    }
    eprintln!(
        "reclaim was killed in {killed} cases; in {refused} something was refused afterwards"
    );
}

/// Renames, exchanges, makes and writes files as long as it may; what the inodes hold that it wrote
/// to.
fn busy(tree: &Path, seed: u64, stop: &AtomicBool) -> BTreeMap<u64, [u8; 32]> {
    use renames::{exchange, rename_new};
    let mut random = Random::of(seed);
    let mut made = BTreeMap::new();
    let mut n = 0;
    while !stop.load(Ordering::Relaxed) {
        let files: Vec<PathBuf> = below(tree)
            .into_iter()
            .filter(|path| !path.to_str().unwrap().contains("/.tarvek") && path.is_file())
            .collect();
        if files.is_empty() {
            break;
        }
        let path = &random.one(&files).clone();
        n += 1;
        match random.below(7) {
            0 => drop(rename_new(path, &path.with_file_name(format!("renamed {n}")))),
            1 => {
                let other = random.one(&files).clone();
                exchange(path, &other);
            }
            2 => {
                let bytes = noise(seed ^ n, 2000);
                let fresh = path.with_file_name(format!("new {n}"));
                if fs::write(&fresh, &bytes).is_ok() {
                    let inode = fresh.symlink_metadata().unwrap().ino();
                    made.insert(inode, *blake3::hash(&bytes).as_bytes());
                }
            }
            4 => {
                // Whoever has a file open writes to it, wherever it went meanwhile.
                let Ok(mut file) = fs::File::options().read(true).append(true).open(path) else {
                    continue;
                };
                std::thread::sleep(Duration::from_micros(random.below(3000)));
                file.write_all(&noise(seed ^ n, 100)).unwrap();
                let mut bytes = Vec::new();
                file.rewind().and_then(|()| file.read_to_end(&mut bytes)).unwrap();
                made.insert(file.metadata().unwrap().ino(), *blake3::hash(&bytes).as_bytes());
            }
            3 => {
                // Away and back again, as a careless program does.
                let aside = path.with_file_name(format!("aside {n}"));
                if rename_new(path, &aside) {
                    let _ = rename_new(&aside, path);
                }
            }
            _ => std::thread::sleep(Duration::from_micros(random.below(2000))),
        }
    }
    made
}

/// Renames that never replace anything.
mod renames {
    use std::path::Path;

    use nix::fcntl::{AT_FDCWD, RenameFlags, renameat2};

    pub fn rename_new(from: &Path, to: &Path) -> bool {
        renameat2(AT_FDCWD, from, AT_FDCWD, to, RenameFlags::RENAME_NOREPLACE).is_ok()
    }

    pub fn exchange(one: &Path, other: &Path) {
        let _ = renameat2(AT_FDCWD, one, AT_FDCWD, other, RenameFlags::RENAME_EXCHANGE);
    }
}
