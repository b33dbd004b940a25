//! Reviews that a careless or hostile editor changed, carried out beside somebody who swaps, links,
//! maps and truncates, on a full disk, with device numbers that change, twice at once, and killed
//! at any moment: nothing is lost that nobody decided to delete.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File};
use std::io::Write;
use std::os::unix::fs::{MetadataExt, PermissionsExt, chown, symlink};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use nix::fcntl::{AT_FDCWD, RenameFlags, renameat2};
use nix::mount::{MsFlags, mount, umount};
use nix::unistd::{Gid, Uid, setfsgid, setfsuid};

use crate::attacks::{Mapping, Site, names};
use crate::kernel;
use crate::random::{self, Random};
use crate::stage::below;
use crate::waste::{mounted, noise};

/// Somebody who owns some of the folders.
const OTHER: u32 = 71_001;

/// What a file was.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Was {
    inode: u64,
    digest: [u8; 32],
    owner: (u32, u32),
    mode: u32,
}

fn was(path: &Path) -> Option<Was> {
    let meta = path.symlink_metadata().ok().filter(|meta| meta.is_file())?;
    Some(Was {
        inode: meta.ino(),
        digest: *blake3::hash(&fs::read(path).ok()?).as_bytes(),
        owner: (meta.uid(), meta.gid()),
        mode: meta.mode(),
    })
}

/// Every file that is not the other one's own, by its inode, whatever its name.
fn inodes(top: &Path) -> BTreeMap<u64, Was> {
    let is_journal = |path: &PathBuf| path.file_name().unwrap() == "journal";
    let all = below(top).into_iter().filter(|path| !is_journal(path));
    let own = |was: &Was| was.owner.0 != OTHER;
    all.filter_map(|path| was(&path)).filter(own).map(|was| (was.inode, was)).collect()
}

fn held(path: &Path) -> bool {
    path.to_string_lossy().contains("/.tarvek-held")
}

/// Two versions of two films, made once.
fn films(scratch: &Path) -> Vec<(String, Vec<u8>)> {
    let mut films = Vec::new();
    for (n, title) in ["Low Water (2003)", "The Salt Orchard (2011)"].into_iter().enumerate() {
        for (name, size) in [("a", "64x48"), ("b", "32x24")] {
            let path = scratch.join(format!("{n}{name}.mkv"));
            let source = format!("testsrc=size={size}:duration={}:rate=2", 2 + n);
            let mut ffmpeg = Command::new("ffmpeg");
            ffmpeg.args(["-v", "error", "-f", "lavfi", "-i", &source]);
            assert!(ffmpeg.arg(&path).status().unwrap().success());
            films.push((format!("{title}/{title} {name}.mkv"), fs::read(path).unwrap()));
        }
    }
    films
}

/// A tree as people have them, with some folders that belong to somebody else.
fn plant(random: &mut Random, at: &Path, films: &[(String, Vec<u8>)]) {
    let write = |path: &Path, bytes: &[u8]| {
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, bytes).unwrap();
    };
    let top = at.join("d");
    for n in 0..6 + random.below(10) {
        let content = n / (2 + random.below(2));
        let folder = *random.one(&["one", "two", "theirs", "deep/in/here"]);
        let path = top.join(format!("{folder}/file {n:02}.mkv"));
        write(&path, &noise(content, 2000 + content));
        let modes = [0o644, 0o600, 0o664];
        fs::set_permissions(&path, fs::Permissions::from_mode(*random.one(&modes))).unwrap();
        if random.rarely(4) {
            chown(&path, Some(71_002), Some(72_001)).unwrap();
        }
        if random.rarely(5) {
            fs::hard_link(&path, top.join(format!("name {n}.mkv"))).unwrap();
        }
        // What lies beside it.
        if random.rarely(3) {
            write(&path.with_extension("en.srt"), format!("subtitle {n}").as_bytes());
        }
    }
    if random.rarely(2) {
        for (name, bytes) in films {
            write(&top.join("films").join(name), bytes);
        }
    }
    for name in ["old.part", "two/half.mkv.part", "hollow/Thumbs.db", "theirs/x.tmp"] {
        let path = top.join(name);
        write(&path, name.as_bytes());
        let old = std::time::SystemTime::now() - Duration::from_secs(4 * 86_400);
        File::options().write(true).open(path).unwrap().set_modified(old).unwrap();
    }
    fs::create_dir_all(top.join("hollow/deep")).unwrap();
    for name in ["hollow/deep", "hollow"] {
        let old = std::time::SystemTime::now() - Duration::from_secs(4 * 86_400);
        File::open(top.join(name)).unwrap().set_modified(old).unwrap();
    }
    fs::create_dir_all(top.join("theirs")).unwrap();
    for n in 0..4 {
        let path = top.join(format!("theirs/own {n}.mkv"));
        write(&path, &noise(9000 + n / 2, 2500));
        chown(&path, Some(OTHER), Some(OTHER)).unwrap();
    }
    chown(top.join("theirs"), Some(OTHER), Some(OTHER)).unwrap();
}

/// Changes a review as people do, and as nobody should; whether it may still be believed.
fn edit(random: &mut Random, site: &Site) -> bool {
    let (mut last, mut legal) = (Vec::new(), true);
    let illegal = random.rarely(2);
    let decisions = ["keep", "drop", "drop", "drop", "link", "ignore", "DROP", "kepe"];
    let columns =
        ["group", "root", "path", "kind", "inode", "bytes", "mtime", "ctime", "seal", "digest"];
    site.edit(|cells, at| {
        if random.rarely(3) {
            cells[at["decision"]] = (*random.one(&decisions)).to_owned();
        }
        if illegal && !last.is_empty() && random.rarely(3) {
            legal = false;
            for _ in 0..1 + random.below(2) {
                let column = *random.one(&columns);
                if !at.contains_key(column) {
                    continue;
                }
                let other: &Vec<String> = &last;
                cells[at[column]] = match random.below(5) {
                    0 => String::new(),
                    1 if column == "root" => "/".to_owned(),
                    _ => other[at[column]].clone(),
                };
            }
        }
        last.clone_from(cells);
    });
    if random.rarely(4) {
        // Lines that are gone, or there twice, in another order.
        let text = fs::read_to_string(&site.review).unwrap();
        let mut lines: Vec<&str> = text.lines().collect();
        for _ in 0..random.below(3) {
            let n = 1 + random.below(lines.len() as u64 - 1) as usize;
            match random.below(3) {
                0 if lines.len() > 2 => drop(lines.remove(n)),
                1 => lines.push(lines[n]),
                _ => lines[1..].reverse(),
            }
        }
        fs::write(&site.review, lines.join("\n") + "\n").unwrap();
    }
    legal
}

/// Somebody who owns a folder and some files in it does there what they may.
fn attack(top: &Path, seed: u64, stop: &AtomicBool) {
    setfsgid(Gid::from_raw(OTHER));
    setfsuid(Uid::from_raw(OTHER));
    let mut random = Random::of(seed);
    let folder = top.join("d/theirs");
    let mut n = 0;
    while !stop.load(Ordering::Relaxed) {
        let Ok(entries) = fs::read_dir(&folder) else { break };
        let all: Vec<PathBuf> = entries.flatten().map(|entry| entry.path()).collect();
        if all.is_empty() {
            break;
        }
        let (one, other) = (random.one(&all).clone(), random.one(&all).clone());
        n += 1;
        let rename = |flags| {
            let _ = renameat2(AT_FDCWD, &one, AT_FDCWD, &other, flags);
        };
        match random.below(10) {
            0..=2 => rename(RenameFlags::RENAME_EXCHANGE),
            3 => {
                let aside = folder.join(format!("aside {n}"));
                let flags = RenameFlags::RENAME_NOREPLACE;
                let _ = renameat2(AT_FDCWD, &one, AT_FDCWD, &aside, flags);
                let _ = renameat2(AT_FDCWD, &aside, AT_FDCWD, &one, flags);
            }
            4 => drop(fs::hard_link(&one, folder.join(format!("linked {n}")))),
            5 => {
                // Only their own.
                if let Ok(file) = File::options().write(true).open(&one) {
                    let _ = file.set_len(random.below(3000));
                }
            }
            6 => {
                if let Ok(mut file) = File::options().append(true).open(&one) {
                    let _ = file.write_all(b"more");
                    std::thread::sleep(Duration::from_micros(random.below(2000)));
                }
            }
            7 => {
                // A store that moves no times.
                if let Some(mapping) = Mapping::try_of(&one) {
                    std::thread::sleep(Duration::from_micros(random.below(3000)));
                    mapping.store();
                }
            }
            8 => drop(symlink("/etc/passwd", folder.join(format!("symlink {n}")))),
            _ => std::thread::sleep(Duration::from_micros(random.below(1500))),
        }
    }
}

/// Runs it, perhaps not to its end.
fn run(random: &mut Random, site: &Site, how: &[&str], kills: bool) {
    let mut command = site.command();
    command.arg("reclaim").arg(&site.review).arg("--yes").args(how);
    let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    if kills {
        std::thread::sleep(Duration::from_micros(random.below(25_000)));
        let _ = child.kill();
    }
    let status = child.wait().unwrap();
    assert!(kills || status.code().is_some_and(|code| code <= 2), "{how:?}: {status}");
}

/// What may be gone after a purge: lines that somebody decided to drop.
fn may_go(site: &Site) -> BTreeSet<PathBuf> {
    let mut gone = BTreeSet::new();
    let mut table = csv::ReaderBuilder::new().flexible(true).from_path(&site.review).unwrap();
    let head = table.headers().unwrap().clone();
    let at = |name: &str| head.iter().position(|column| column == name).unwrap();
    for record in table.records().flatten() {
        if matches!(record.get(at("decision")).unwrap().to_lowercase().as_str(), "drop" | "link") {
            gone.insert(PathBuf::from(record.get(at("path")).unwrap()));
        }
    }
    gone
}

struct Place {
    kind: &'static str,
    at: PathBuf,
    /// Mounts it again, with another device number.
    again: Option<PathBuf>,
}

fn places(scratch: &Path) -> Vec<Place> {
    let mut places = Vec::new();
    for kind in ["ext4", "xfs", "btrfs"] {
        let at = mounted(kind, scratch);
        places.push(Place { kind, at, again: Some(scratch.join(format!("{kind}.img"))) });
    }
    let tmpfs = mounted("tmpfs", scratch);
    for folder in ["lower", "upper", "work", "merged"] {
        fs::create_dir(tmpfs.join(folder)).unwrap();
    }
    let merged = tmpfs.join("merged");
    let options =
        format!("lowerdir={0}/lower,upperdir={0}/upper,workdir={0}/work", tmpfs.display());
    let options = Some(options.as_str());
    mount(Some("overlay"), &merged, Some("overlay"), MsFlags::empty(), options).unwrap();
    places.push(Place { kind: "overlay", at: merged, again: None });
    places.push(Place { kind: "tmpfs", at: tmpfs, again: None });
    let full = scratch.join("full");
    fs::create_dir(&full).unwrap();
    mount(Some("tmpfs"), &full, Some("tmpfs"), MsFlags::empty(), Some("size=1m")).unwrap();
    places.push(Place { kind: "full", at: full, again: None });
    places
}

#[test]
fn whatever_editors_attackers_and_bad_days_do_nothing_is_lost() {
    kernel::private_mounts();
    let mut random = Random::from_env("rounds");
    let scratch = tempfile::tempdir().unwrap();
    fs::set_permissions(scratch.path(), fs::Permissions::from_mode(0o755)).unwrap();
    let films = films(scratch.path());
    let places = places(scratch.path());
    let mut counts: BTreeMap<&str, u32> = BTreeMap::new();
    for case in 0..random::cases(60) {
        let place = random.one(&places);
        let seed = random.next();
        round(seed, place, case, &films, scratch.path(), &mut counts);
    }
    eprintln!("rounds: {counts:?}");
}

fn round(
    seed: u64,
    place: &Place,
    case: u64,
    films: &[(String, Vec<u8>)],
    scratch: &Path,
    counts: &mut BTreeMap<&'static str, u32>,
) {
    let mut random = Random::of(seed);
    let about = format!("case {case} on {}, seed {seed}", place.kind);
    let top = place.at.join(format!("case {case}"));
    fs::create_dir(&top).unwrap();
    plant(&mut random, &top, films);
    let site = Site::new(&top, &scratch.join(format!("{case}.csv")), &["d"]);
    let legal = edit(&mut random, &site);
    let (before, names_before) = (inodes(&top), names(&top));
    let fill = place.at.join("fill");
    if place.kind == "full" {
        let mut file = File::create(&fill).unwrap();
        while file.write_all(&[1; 4096]).is_ok() {}
        let room = file.metadata().unwrap().len() / 4096;
        let _ = file.set_len(room.saturating_sub(random.below(9)) * 4096);
    }
    let stop = AtomicBool::new(false);
    let attacked = random.rarely(2);
    let purges = random.rarely(2);
    let attacker = random.next();
    std::thread::scope(|scope| {
        if attacked {
            scope.spawn(|| attack(&top, attacker, &stop));
        }
        let rights: &[&str] = if random.rarely(2) { &["--accept-rights"] } else { &[] };
        if random.rarely(4) {
            // Two at once.
            let mut other = site.command();
            other.arg("reclaim").arg(&site.review).arg("--yes").args(rights);
            let other = other.stdout(Stdio::null()).stderr(Stdio::null()).spawn();
            run(&mut random, &site, rights, false);
            other.unwrap().wait().unwrap();
        } else {
            let kills = random.rarely(2);
            run(&mut random, &site, rights, kills);
        }
        if random.rarely(2) {
            run(&mut random, &site, &["--resume"], false);
        }
        stop.store(!random.rarely(2), Ordering::Relaxed);
        if purges {
            if random.rarely(3) {
                edit(&mut random, &site);
            }
            if random.rarely(3) {
                run(&mut random, &site, &["--purge"], true);
            }
            run(&mut random, &site, &["--purge"], false);
        }
        stop.store(true, Ordering::Relaxed);
    });
    let _ = fs::remove_file(&fill);
    if let Some(image) = place.again.as_ref().filter(|_| random.rarely(8)) {
        // Whoever was killed may take a moment to be gone.
        let gone = (0..500).any(|_| {
            umount(&place.at).is_ok() || {
                std::thread::sleep(Duration::from_millis(10));
                false
            }
        });
        assert!(gone, "{about}: it can't be unmounted");
        let mut other = Command::new("mount");
        let mounted = other.args(["-o", "loop"]).args([image, &place.at]).status().unwrap();
        assert!(mounted.success());
    }
    let decided = may_go(&site);
    let now = inodes(&top);
    let free: BTreeSet<[u8; 32]> = below(&top)
        .iter()
        .filter(|path| !held(path))
        .filter_map(|path| was(path))
        .map(|was| was.digest)
        .collect();
    for (inode, was) in &before {
        if now.get(inode) == Some(was) {
            continue;
        }
        let all: Vec<&PathBuf> =
            names_before.iter().filter(|(_, (of, _))| of == inode).map(|(path, _)| path).collect();
        assert!(!now.contains_key(inode), "{about}: {all:?} was changed");
        assert!(purges, "{about}: {all:?} is gone without a purge");
        assert!(all.iter().all(|path| decided.contains(*path)), "{about}: nobody dropped {all:?}");
        // A copy has another, a version another of its film, and what is left of something has
        // nothing.
        let name = all[0].to_string_lossy();
        if name.contains("/films/") {
            let film = all[0].parent().unwrap();
            let left = fs::read_dir(film).map_or(0, |entries| entries.count());
            assert!(left > 0 || attacked, "{about}: no version of {film:?} is left");
        } else if name.ends_with(".mkv") {
            assert!(free.contains(&was.digest), "{about}: the last copy of {all:?} is gone");
        }
    }
    *counts.entry(if purges { "purged" } else { "not purged" }).or_default() += 1;
    *counts.entry(if attacked { "attacked" } else { "quiet" }).or_default() += 1;
    *counts.entry(if legal { "legal" } else { "illegal" }).or_default() += 1;
    *counts.entry(place.kind).or_default() += 1;
    let gone =
        (before.len() - before.keys().filter(|inode| now.contains_key(inode)).count()) as u32;
    *counts.entry("files deleted").or_default() += gone;
    // Back to how it was.
    run(&mut random, &site, &["--undo"], false);
    let after = inodes(&top);
    for (inode, was) in &now {
        assert_eq!(after.get(inode), Some(was), "{about}: undo lost {inode}");
    }
    if !attacked && !purges {
        let back = names(&top);
        for (path, (inode, bytes)) in &names_before {
            let same = back.get(path).is_some_and(|(of, now)| (of, now) == (inode, bytes));
            assert!(same, "{about}: {path:?} is not back");
        }
        assert_eq!(back.len(), names_before.len(), "{about}: something was left behind");
    }
    fs::remove_dir_all(&top).unwrap();
    let _ = fs::remove_file(&site.review);
}
