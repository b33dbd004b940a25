//! Random trees, from a seed that every run prints.

use std::os::unix::fs::{PermissionsExt, chown, symlink};
use std::path::{Path, PathBuf};

/// A small generator whose whole state is its seed (SplitMix64, public domain).
pub struct Random(u64);

impl Random {
    /// From `TARVEK_SEED`, else from the clock.
    pub fn from_env(area: &str) -> Self {
        let seed = match std::env::var("TARVEK_SEED") {
            Ok(seed) => seed.parse().expect("TARVEK_SEED is a number"),
            Err(_) => {
                let now =
                    std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap();
                now.as_nanos() as u64
            }
        };
        eprintln!("{area}: TARVEK_SEED={seed}");
        Self(seed)
    }

    /// From a seed that an earlier run printed.
    pub fn of(seed: u64) -> Self {
        Self(seed)
    }

    pub fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    pub fn below(&mut self, n: u64) -> u64 {
        self.next() % n
    }

    pub fn one<'a, T>(&mut self, of: &'a [T]) -> &'a T {
        &of[self.below(of.len() as u64) as usize]
    }

    /// True once in `n` times.
    pub fn rarely(&mut self, n: u64) -> bool {
        self.below(n) == 0
    }
}

/// How many cases to take, from `TARVEK_CASES`.
pub fn cases(usual: u64) -> u64 {
    std::env::var("TARVEK_CASES")
        .map_or(usual, |cases| cases.parse().expect("TARVEK_CASES is a number"))
}

pub const UIDS: &[u32] = &[0, 71_001, 71_002, 71_003];
pub const GIDS: &[u32] = &[0, 72_001, 72_002, 72_003];
const FOLDER_MODES: &[u32] =
    &[0o755, 0o755, 0o750, 0o700, 0o711, 0o744, 0o777, 0o705, 0o070, 0o007, 0o1777, 0o2775, 0o000];
const FILE_MODES: &[u32] = &[0o644, 0o644, 0o640, 0o600, 0o604, 0o040, 0o004, 0o444, 0o000, 0o466];

/// Fills a folder with a random tree, and returns every path in it.
pub fn tree(random: &mut Random, top: &Path, depth: u32) -> Vec<PathBuf> {
    let mut all = Vec::new();
    fill(random, top, depth, &mut all);
    // Rights last, and from the leaves up, so that they do not stand in the way of making the tree.
    for path in all.iter().rev() {
        rights(random, path);
    }
    all
}

fn fill(random: &mut Random, folder: &Path, depth: u32, all: &mut Vec<PathBuf>) {
    for n in 0..random.below(6) {
        let name = match random.below(10) {
            9 => format!("back\\slash\\\\040 {n}"),
            0 => format!(".hidden {n}"),
            1 => format!("Ölmühle {n}\nx"),
            _ => format!("title {n}"),
        };
        let path = folder.join(&name);
        match random.below(10) {
            0..=3 if depth > 0 => {
                std::fs::create_dir(&path).unwrap();
                all.push(path.clone());
                fill(random, &path, depth - 1, all);
            }
            4 => {
                let path = folder.join(format!("{name}.fifo"));
                nix::unistd::mkfifo(&path, nix::sys::stat::Mode::from_bits_truncate(0o600))
                    .unwrap();
                all.push(path);
            }
            5 => {
                let path = folder.join(format!("{name}.link"));
                symlink("nowhere", &path).unwrap();
                all.push(path);
            }
            _ => {
                let path = folder.join(format!("{name}.mkv"));
                std::fs::write(&path, b"x").unwrap();
                all.push(path);
            }
        }
    }
}

/// Gives an entry a random owner, mode and, at times, ACL.
pub fn rights(random: &mut Random, path: &Path) {
    let meta = std::fs::symlink_metadata(path).unwrap();
    if meta.is_symlink() {
        return;
    }
    chown(path, Some(*random.one(UIDS)), Some(*random.one(GIDS))).unwrap();
    let mode = *random.one(if meta.is_dir() { FOLDER_MODES } else { FILE_MODES });
    std::fs::set_permissions(path, std::fs::Permissions::from_mode(mode)).unwrap();
    if random.rarely(4) {
        let entry = acl_entries(random);
        let mut command = std::process::Command::new("setfacl");
        let done = command.arg("-m").arg(&entry).arg(path).output().unwrap();
        let errors = String::from_utf8_lossy(&done.stderr);
        // Some filesystems have none.
        let fine = done.status.success() || errors.contains("not supported");
        assert!(fine, "setfacl -m {entry} {}: {errors}", path.display());
    }
}

/// Gives a folder a default ACL, at times.
pub fn inheritance(random: &mut Random, folder: &Path) {
    if !random.rarely(2) {
        return;
    }
    const BASE: &[&str] = &["rwx", "rwx", "r-x", "rw-", "---"];
    let base = ["u", "g", "o"].map(|class| format!("{class}::{}", random.one(BASE)));
    let mut entries = base.join(",");
    if random.rarely(2) {
        entries += &format!(",{}", acl_entries(random));
    }
    let done =
        std::process::Command::new("setfacl").args(["-d", "-m", &entries]).arg(folder).output();
    let done = done.unwrap();
    assert!(done.status.success(), "{entries}: {}", String::from_utf8_lossy(&done.stderr));
}

/// Some ACL entries, at times with a mask that leaves little or nothing.
fn acl_entries(random: &mut Random) -> String {
    const PERMS: &[&str] = &["---", "r--", "-w-", "--x", "r-x", "rw-", "rwx"];
    let mut entries = Vec::new();
    for _ in 0..=random.below(2) {
        let perm = random.one(PERMS);
        entries.push(match random.below(2) {
            0 => format!("u:{}:{perm}", random.one(&UIDS[1..])),
            _ => format!("g:{}:{perm}", random.one(&GIDS[1..])),
        });
    }
    if random.rarely(2) {
        entries.push(format!("m::{}", random.one(PERMS)));
    }
    entries.join(",")
}
