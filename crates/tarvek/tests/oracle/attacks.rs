//! What hostile hands and bad days do to a review that is carried out: each way to lose a file that
//! somebody once found, as a test.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::Write;
use std::os::fd::AsRawFd;
use std::os::unix::fs::{FileExt, MetadataExt, PermissionsExt, chown};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use nix::fcntl::{AT_FDCWD, RenameFlags, renameat2};
use nix::mount::{MsFlags, mount, umount};
use serde_json::Value;

use crate::kernel;
use crate::stage::below;
use crate::waste::{mounted, noise};

/// A folder with a review of what is wasted in some folders of it.
pub struct Site {
    pub top: PathBuf,
    pub review: PathBuf,
}

impl Site {
    pub fn new(top: &Path, review: &Path, folders: &[&str]) -> Self {
        let site = Self { top: top.to_owned(), review: review.to_owned() };
        site.review(folders);
        site
    }

    /// Reviews again.
    pub fn review(&self, folders: &[&str]) {
        let _ = fs::remove_file(&self.review);
        let mut command = self.command();
        command.arg("waste").args(folders.iter().map(|folder| self.top.join(folder)));
        let output = command.arg("--review").arg(&self.review).output().unwrap();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    }

    pub fn command(&self) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_tarvek"));
        command.env("XDG_STATE_HOME", self.review.with_extension("state"));
        command
    }

    /// The exit code, and each step's state and reason by the last component of its path.
    pub fn reclaim(&self, how: &[&str]) -> (i32, BTreeMap<String, (String, String)>) {
        let mut command = self.command();
        command.arg("reclaim").arg(&self.review).args(["--yes", "--format", "json"]).args(how);
        let output = command.stderr(Stdio::inherit()).output().unwrap();
        let json: Value = serde_json::from_slice(&output.stdout).unwrap_or_default();
        let step = |step: &Value| {
            let text = |key: &str| step[key].as_str().unwrap_or_default().to_owned();
            let path = PathBuf::from(text("path"));
            let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
            (name, (text("state"), text("why")))
        };
        let steps = json["steps"].as_array().map(|steps| steps.iter().map(step).collect());
        (output.status.code().unwrap_or(-1), steps.unwrap_or_default())
    }

    /// Another decision on lines that hold a text.
    pub fn decide(&self, of: &str, decision: &str) {
        self.edit(|cells, columns| {
            if cells[columns["path"]].contains(of) {
                cells[columns["decision"]] = decision.to_owned();
            }
        });
    }

    /// Changes the cells of each line, as somebody with a spreadsheet would.
    pub fn edit(&self, mut change: impl FnMut(&mut Vec<String>, &BTreeMap<String, usize>)) {
        let mut table = csv::ReaderBuilder::new().from_path(&self.review).unwrap();
        let head = table.headers().unwrap().clone();
        let columns = head.iter().enumerate().map(|(n, name)| (name.to_owned(), n)).collect();
        let mut out = csv::Writer::from_path(self.review.with_extension("new")).unwrap();
        out.write_record(&head).unwrap();
        for record in table.records() {
            let mut cells: Vec<String> = record.unwrap().iter().map(str::to_owned).collect();
            change(&mut cells, &columns);
            out.write_record(&cells).unwrap();
        }
        out.flush().unwrap();
        fs::rename(self.review.with_extension("new"), &self.review).unwrap();
    }
}

/// What every file below a folder holds, whatever its name.
pub fn contents(top: &Path) -> Vec<Vec<u8>> {
    // What an overlay still shows need not be there.
    let is_file = |path: &PathBuf| path.symlink_metadata().is_ok_and(|meta| meta.is_file());
    below(top).into_iter().filter(is_file).filter_map(|path| fs::read(path).ok()).collect()
}

fn write(path: &Path, bytes: &[u8]) {
    fs::create_dir_all(path.parent().unwrap()).unwrap();
    fs::write(path, bytes).unwrap();
}

/// A film and its copy, of which the second goes.
fn twice(top: &Path) -> Vec<u8> {
    let film = noise(7, 40_000);
    write(&top.join("d/Low Water (2003)/Low Water (2003).mkv"), &film);
    write(&top.join("d/low.water.2003.mkv"), &film);
    film
}

const KEPT: &str = "d/Low Water (2003)/Low Water (2003).mkv";

/// A file mapped for writing, without its descriptor.
pub struct Mapping(*mut nix::libc::c_void);

#[allow(unsafe_code)]
impl Mapping {
    fn of(path: &Path) -> Self {
        Self::try_of(path).expect("it can be opened, and holds something")
    }

    /// The first page of a file that holds something, if it may be written to.
    pub fn try_of(path: &Path) -> Option<Self> {
        let file = File::options().read(true).write(true).open(path).ok()?;
        file.metadata().ok().filter(|meta| meta.len() > 0)?;
        let (protection, flags) =
            (nix::libc::PROT_READ | nix::libc::PROT_WRITE, nix::libc::MAP_SHARED);
        // SAFETY: a mapping of its own, of whose page the file has a part.
        let at = unsafe {
            nix::libc::mmap(std::ptr::null_mut(), 4096, protection, flags, file.as_raw_fd(), 0)
        };
        assert_ne!(at, nix::libc::MAP_FAILED);
        Some(Self(at))
    }

    /// Changes a byte; the page is there and may be written to already.
    pub fn store(&self) {
        // SAFETY: the mapping is as long as it lives.
        unsafe {
            let byte = self.0.cast::<u8>();
            byte.write_volatile(byte.read_volatile() ^ 0xff);
        }
    }
}

#[allow(unsafe_code)]
impl Drop for Mapping {
    fn drop(&mut self) {
        // SAFETY: it was mapped with this length.
        unsafe { nix::libc::munmap(self.0, 4096) };
    }
}

#[test]
fn a_purge_sees_what_was_stored_through_a_mapping() {
    kernel::private_mounts();
    let scratch = tempfile::tempdir().unwrap();
    for kind in ["tmpfs", "ext4", "xfs", "btrfs"] {
        let at = mounted(kind, scratch.path());
        let film = twice(&at);
        // Somebody has mapped what is kept before anybody looks; the page is there and may be
        // written to already.
        let mapping = Mapping::of(&at.join(KEPT));
        mapping.store();
        mapping.store();
        let site = Site::new(&at, &scratch.path().join(format!("{kind}.csv")), &["d"]);
        let gone = |steps: &BTreeMap<String, (String, String)>| steps["low.water.2003.mkv"].clone();
        let (code, steps) = site.reclaim(&[]);
        if code == 0 {
            assert_eq!(gone(&steps).0, "done", "{kind}");
            mapping.store();
            drop(mapping);
        } else {
            assert!(gone(&steps).1.contains("open for writing"), "{kind}: {steps:?}");
            drop(mapping);
            site.review(&["d"]);
            assert_eq!(site.reclaim(&[]).0, 0, "{kind}");
            let mapping = Mapping::of(&at.join(KEPT));
            mapping.store();
            let (code, steps) = site.reclaim(&["--purge"]);
            assert_eq!(code, 2, "{kind}: {steps:?}");
            assert!(gone(&steps).1.contains("open for writing"), "{kind}: {steps:?}");
        }
        // What it was is gone from the kept one.
        let (code, steps) = site.reclaim(&["--purge"]);
        assert_eq!(code, 2, "{kind}: {steps:?}");
        assert!(contents(&at).contains(&film), "{kind}: the film is lost");
    }
}

/// One file seen twice: by an overlay, by a mirror, by a bind.
#[test]
fn a_file_that_is_seen_twice_is_never_purged_for_itself() {
    kernel::private_mounts();
    let scratch = tempfile::tempdir().unwrap();
    let top = scratch.path().join("tank");
    fs::create_dir(&top).unwrap();
    kernel::tmpfs(&top);
    let film = noise(9, 30_000);
    for (n, way) in ["upper", "lower", "mirror", "bind", "bound file"].into_iter().enumerate() {
        let at = top.join(format!("case {n}"));
        for folder in ["real", "seen", "work", "none"] {
            fs::create_dir_all(at.join(folder)).unwrap();
        }
        let (real, seen) = (at.join("real"), at.join("seen"));
        write(&real.join("film.mkv"), &film);
        let overlay = |lower: &Path, upper: &Path| {
            let options = format!(
                "lowerdir={},upperdir={},workdir={}",
                lower.display(),
                upper.display(),
                at.join("work").display()
            );
            let options = Some(options.as_str());
            mount(Some("overlay"), &seen, Some("overlay"), MsFlags::empty(), options).unwrap();
        };
        match way {
            "upper" => overlay(&at.join("none"), &real),
            "lower" => overlay(&real, &at.join("none")),
            "mirror" => {
                let mirror = Command::new("bindfs").args([&real, &seen]).status().unwrap();
                assert!(mirror.success(), "bindfs");
            }
            "bind" => kernel::bind(&real, &seen),
            _ => {
                write(&seen.join("second.mkv"), b"");
                kernel::bind(&real.join("film.mkv"), &seen.join("second.mkv"));
            }
        }
        let folders = [format!("case {n}/real"), format!("case {n}/seen")];
        let review = scratch.path().join(format!("{n}.csv"));
        let site = Site::new(&top, &review, &folders.each_ref().map(String::as_str));
        if way.starts_with("b") {
            // Nothing is there twice.
            let text = fs::read_to_string(&review).unwrap();
            assert!(!text.contains("copy"), "{way}: {text}");
        }
        for (goes, stays) in [("/real/", "/seen/"), ("/seen/", "/real/")] {
            site.decide(goes, "drop");
            site.decide(stays, "keep");
            site.reclaim(&[]);
            site.reclaim(&["--purge"]);
            assert!(contents(&at).contains(&film), "{way}: the only copy of {goes} was purged");
            site.reclaim(&["--undo"]);
            assert!(contents(&at).contains(&film), "{way}");
            if !real.join("film.mkv").exists() {
                break;
            }
        }
        let _ = umount(&seen);
        let _ = umount(&seen.join("second.mkv"));
    }
}

#[test]
fn another_file_on_an_overlay_or_a_mirror_counts_once_that_is_proven() {
    kernel::private_mounts();
    let scratch = tempfile::tempdir().unwrap();
    let top = scratch.path().join("tank");
    fs::create_dir(&top).unwrap();
    kernel::tmpfs(&top);
    for folder in ["own", "real", "seen", "work", "none"] {
        fs::create_dir_all(top.join(folder)).unwrap();
    }
    write(&top.join("own/film.mkv"), &noise(3, 20_000));
    write(&top.join("real/film.mkv"), &noise(3, 20_000));
    for way in ["overlay", "mirror"] {
        if way == "overlay" {
            let place = |name: &str| top.join(name).display().to_string();
            let options = format!(
                "lowerdir={},upperdir={},workdir={}",
                place("none"),
                place("real"),
                place("work")
            );
            let options = Some(options.as_str());
            let seen = &top.join("seen");
            mount(Some("overlay"), seen, Some("overlay"), MsFlags::empty(), options).unwrap();
        } else {
            let paths = [top.join("real"), top.join("seen")];
            assert!(Command::new("bindfs").args(paths).status().unwrap().success());
        }
        let review = scratch.path().join(format!("{way}.csv"));
        let site = Site::new(&top, &review, &["own", "seen"]);
        site.decide("/own/", "drop");
        site.decide("/seen/", "keep");
        assert_eq!(site.reclaim(&[]).0, 0, "{way}");
        let (code, steps) = site.reclaim(&["--purge"]);
        assert_eq!(code, 0, "{way}: {steps:?}");
        umount(&top.join("seen")).unwrap();
        write(&top.join("own/film.mkv"), &noise(3, 20_000));
    }
}

#[test]
fn decisions_are_read_again_and_a_line_is_matched_as_a_whole() {
    let scratch = tempfile::tempdir().unwrap();
    let top = scratch.path();
    let film = twice(top);
    let site = Site::new(top, &top.join("r.csv"), &["d"]);
    assert_eq!(site.reclaim(&[]).0, 0);
    assert!(!top.join("d/low.water.2003.mkv").exists());
    // What somebody decided to keep goes back, and is not deleted.
    site.decide("low.water", "keep");
    let (code, steps) = site.reclaim(&["--purge"]);
    assert_eq!((code, steps["low.water.2003.mkv"].0.as_str()), (0, "undone"), "{steps:?}");
    assert_eq!(fs::read(top.join("d/low.water.2003.mkv")).unwrap(), film);
    // A line of another file of that name purges nothing.
    site.review(&["d"]);
    assert_eq!(site.reclaim(&[]).0, 0);
    let held = fs::read(&site.review).unwrap();
    write(&top.join("d/low.water.2003.mkv"), &film);
    site.review(&["d"]);
    let (_, steps) = site.reclaim(&["--purge"]);
    assert!(steps["low.water.2003.mkv"].1.contains("another file"), "{steps:?}");
    fs::write(&site.review, held).unwrap();
    assert_eq!(site.reclaim(&["--purge"]).0, 0);
}

/// Two films in two versions each.
fn versions(top: &Path) {
    for (n, film) in ["Low Water (2003)", "The Salt Orchard (2011)"].into_iter().enumerate() {
        for (m, size) in ["640x360", "320x180"].into_iter().enumerate() {
            let path = top.join(format!("d/{film}/{film} {}.mkv", ["a", "b"][m]));
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            let source = format!("testsrc=size={size}:duration={}:rate=5", 4 + n);
            let mut ffmpeg = Command::new("ffmpeg");
            ffmpeg.args(["-v", "error", "-f", "lavfi", "-i", &source]);
            assert!(ffmpeg.arg(&path).status().unwrap().success());
        }
    }
}

#[test]
fn a_group_that_was_filled_down_takes_no_title_whole() {
    let scratch = tempfile::tempdir().unwrap();
    let top = scratch.path();
    versions(top);
    let site = Site::new(top, &top.join("r.csv"), &["d"]);
    let films = |top: &Path| {
        let of = |film: &str| {
            fs::read_dir(top.join("d").join(film)).map_or(0, |entries| entries.count())
        };
        [of("Low Water (2003)"), of("The Salt Orchard (2011)")]
    };
    let mut group = String::new();
    let whole = fs::read(&site.review).unwrap();
    for seals in [true, false] {
        fs::write(&site.review, &whole).unwrap();
        site.edit(|cells, columns| {
            let cell = &mut cells[columns["group"]];
            if group.is_empty() {
                group.clone_from(cell);
            }
            cell.clone_from(&group);
            if !seals && let Some(seal) = columns.get("seal") {
                cells[*seal].clear();
            }
            if cells[columns["path"]].contains("Salt Orchard") {
                cells[columns["decision"]] = "drop".to_owned();
            }
        });
        site.reclaim(&[]);
        site.reclaim(&["--purge"]);
        assert!(films(top).iter().all(|left| *left > 0), "{:?}", films(top));
        site.reclaim(&["--undo"]);
    }
    // As it was written, one of each goes.
    fs::write(&site.review, &whole).unwrap();
    assert_eq!(site.reclaim(&[]).0, 0);
    assert_eq!(site.reclaim(&["--purge"]).0, 0);
    assert_eq!(films(top), [1, 1]);
}

#[test]
fn a_leftover_that_was_written_again_under_its_old_time_stays() {
    let scratch = tempfile::tempdir().unwrap();
    let top = scratch.path();
    let path = top.join("d/film.mkv.part");
    write(&path, b"half a film");
    let old = std::time::SystemTime::now() - Duration::from_secs(5 * 86_400);
    let set = |path: &Path| {
        File::options().write(true).open(path).unwrap().set_modified(old).unwrap();
    };
    set(&path);
    let site = Site::new(top, &top.join("r.csv"), &["d"]);
    site.decide("film.mkv.part", "drop");
    let again = |bytes: &[u8], path: &Path| {
        File::options().write(true).open(path).unwrap().write_all_at(bytes, 0).unwrap();
        set(path);
    };
    again(b"A NEW THING", &path);
    let (_, steps) = site.reclaim(&[]);
    assert!(steps["film.mkv.part"].1.contains("changed since"), "{steps:?}");
    assert!(path.exists());
    // The same once it is held.
    site.review(&["d"]);
    site.decide("film.mkv.part", "drop");
    assert_eq!(site.reclaim(&[]).0, 0);
    again(b"even newer!", &top.join("d/.tarvek-held/000001"));
    assert_ne!(site.reclaim(&["--purge"]).0, 0);
    assert_eq!(site.reclaim(&["--undo"]).0, 0);
    assert_eq!(fs::read(&path).unwrap(), b"even newer!");
}

#[test]
fn nobody_who_owns_a_folder_gets_a_name_of_roots_file() {
    let scratch = tempfile::tempdir().unwrap();
    let top = scratch.path();
    fs::set_permissions(top, fs::Permissions::from_mode(0o755)).unwrap();
    let (mut linked, mut refused) = (0, 0);
    for round in 0..crate::random::cases(60) {
        let at = top.join(format!("{round}"));
        let film = noise(11, 300_000);
        write(&at.join("d/theirs/Low Water (2003).mkv"), &film);
        write(&at.join("d/own/low.water.2003.mkv"), &film);
        let evil = at.join("d/theirs/x");
        write(&evil, &noise(12, 300_000));
        chown(at.join("d/theirs"), Some(71_001), Some(72_001)).unwrap();
        chown(&evil, Some(71_001), Some(72_001)).unwrap();
        let site = Site::new(&at, &at.join("r.csv"), &["d"]);
        site.decide("/own/", "link");
        site.decide("/theirs/", "keep");
        let kept = at.join("d/theirs/Low Water (2003).mkv");
        let inode = kept.metadata().unwrap().ino();
        let stop = AtomicBool::new(false);
        std::thread::scope(|scope| {
            scope.spawn(|| {
                while !stop.load(Ordering::Relaxed) {
                    let flags = RenameFlags::RENAME_EXCHANGE;
                    let _ = renameat2(AT_FDCWD, &kept, AT_FDCWD, &evil, flags);
                    std::thread::sleep(Duration::from_micros(round * 7 % 300));
                }
            });
            site.reclaim(&[]);
            stop.store(true, Ordering::Relaxed);
        });
        let now = at.join("d/own/low.water.2003.mkv");
        assert_eq!(fs::read(&now).unwrap(), film, "round {round}: root's name is another file");
        linked += u32::from(now.metadata().unwrap().ino() == inode);
        refused += u32::from(now.metadata().unwrap().ino() != inode);
        let inodes: Vec<Vec<u8>> = contents(&at);
        assert!(inodes.contains(&noise(12, 300_000)));
    }
    eprintln!("attacks: {linked} linked, {refused} refused beside somebody who swaps names");
}

#[test]
fn a_full_disk_leaves_nothing_that_no_command_brings_back() {
    kernel::private_mounts();
    let scratch = tempfile::tempdir().unwrap();
    let rooms = [0_u64, 1, 2, 3, 5, 8, 13, 30].map(|room| ("tmpfs", room));
    for (kind, room) in rooms.into_iter().chain([0, 3].map(|room| ("ext4", room))) {
        let about = format!("{room} pages on {kind}");
        let at = scratch.path().join(format!("{kind} {room}"));
        fs::create_dir(&at).unwrap();
        if kind == "tmpfs" {
            mount(Some("tmpfs"), &at, Some("tmpfs"), MsFlags::empty(), Some("size=8m")).unwrap();
        } else {
            kernel::ext4(&at, scratch.path(), "");
        }
        for n in 0..400 {
            write(
                &at.join(format!("d/{}/file {n:03} of a name that is not short", n % 2)),
                &noise(n / 2, 1000),
            );
        }
        let site = Site::new(&at, &scratch.path().join(format!("{kind}{room}.csv")), &["d"]);
        let mut before = names(&at);
        // All but so many pages are taken.
        let mut fill = File::create(at.join("fill")).unwrap();
        while fill.write_all(&[1; 4096]).is_ok() {}
        drop(fill);
        let fill = File::options().write(true).open(at.join("fill")).unwrap();
        let length = fill.metadata().unwrap().len() / 4096 * 4096;
        fill.set_len(length.saturating_sub(room * 4096)).unwrap();
        drop(fill);
        let meta = at.join("fill").metadata().unwrap();
        before.insert(at.join("fill"), (meta.ino(), fs::read(at.join("fill")).unwrap()));
        site.reclaim(&[]);
        site.reclaim(&[]);
        // Also while there is no room.
        let (code, steps) = site.reclaim(&["--undo"]);
        assert_eq!(names(&at), before, "{about}: {code} {steps:?}");
        fs::remove_file(at.join("fill")).unwrap();
        assert_eq!(site.reclaim(&["--undo"]).0, 0, "{about}");
        assert_eq!(site.reclaim(&[]).0, 0, "{about}");
        umount(&at).unwrap();
    }
}

/// Every name that is not held, with its inode, and what it holds.
pub fn names(top: &Path) -> BTreeMap<PathBuf, (u64, Vec<u8>)> {
    let held = |path: &PathBuf| path.to_string_lossy().contains("/.tarvek-held");
    let all = below(top).into_iter().filter(|path| !held(path));
    all.filter_map(|path| {
        let meta = path.symlink_metadata().ok()?;
        let bytes = if meta.is_file() { fs::read(&path).ok()? } else { Vec::new() };
        Some((path, (meta.ino(), bytes)))
    })
    .collect()
}

#[test]
fn a_journal_that_was_moved_puts_no_film_under_anothers_name() {
    let scratch = tempfile::tempdir().unwrap();
    let top = scratch.path();
    for (n, name) in ["one", "two"].into_iter().enumerate() {
        for copy in ["a", "b"] {
            write(&top.join(format!("{name}/{copy}.mkv")), &noise(n as u64, 9000 + n as u64));
        }
    }
    let sites = ["one", "two"].map(|name| {
        let site = Site::new(top, &top.join(format!("{name}.csv")), &[name]);
        assert_eq!(site.reclaim(&[]).0, 0);
        site
    });
    let journal = |name: &str| top.join(name).join(".tarvek-held/journal");
    let own = fs::read(journal("two")).unwrap();
    fs::copy(journal("one"), journal("two")).unwrap();
    sites[1].edit(|cells, columns| {
        let path = cells[columns["path"]].replace("/two/", "/one/");
        cells[columns["path"]] = path;
    });
    let (code, steps) = sites[1].reclaim(&["--undo"]);
    assert_ne!(code, 0, "{steps:?}");
    let first = fs::read(top.join("one/a.mkv")).or_else(|_| fs::read(top.join("one/b.mkv")));
    assert_eq!(first.unwrap(), noise(0, 9000));
    // Without any journal nothing is guessed, and no number is given twice.
    fs::remove_file(journal("two")).unwrap();
    sites[1].review(&["two"]);
    write(&top.join("two/c.mkv"), &noise(1, 9001));
    sites[1].review(&["two"]);
    let (code, _) = sites[1].reclaim(&[]);
    assert_eq!(code, 2);
    fs::write(journal("two"), own).unwrap();
    fs::set_permissions(journal("two"), fs::Permissions::from_mode(0o600)).unwrap();
    assert_eq!(sites[1].reclaim(&[]).0, 0);
}

#[test]
fn device_numbers_may_change_and_everything_is_known_again() {
    kernel::private_mounts();
    let scratch = tempfile::tempdir().unwrap();
    for kind in ["ext4", "xfs", "btrfs"] {
        let at = mounted(kind, scratch.path());
        twice(&at);
        write(&at.join("d/other.part"), b"half");
        let site = Site::new(&at, &scratch.path().join(format!("{kind}.csv")), &["d"]);
        site.decide("other.part", "drop");
        let before = names(&at);
        let device = at.metadata().unwrap().dev();
        let again = |n: u64| {
            umount(&at).unwrap();
            // Other loop devices are taken meanwhile.
            let other = scratch.path().join(format!("{kind}-{n}.img"));
            File::create(&other).unwrap().set_len(1 << 20).unwrap();
            let taken = Command::new("losetup").args(["-f", "--show"]).arg(&other).output();
            let image = scratch.path().join(format!("{kind}.img"));
            let mounted =
                Command::new("mount").args(["-o", "loop"]).args([&image, &at]).status().unwrap();
            assert!(mounted.success());
            String::from_utf8(taken.unwrap().stdout).unwrap().trim().to_owned()
        };
        let mut devices = vec![again(0)];
        // A review of before.
        assert_eq!(site.reclaim(&[]).0, 0, "{kind}");
        devices.push(again(1));
        assert_eq!(site.reclaim(&["--undo"]).0, 0, "{kind}");
        assert_eq!(names(&at), before, "{kind}");
        assert_eq!(site.reclaim(&[]).0, 0, "{kind}");
        devices.push(again(2));
        let (code, steps) = site.reclaim(&["--purge"]);
        assert_eq!(code, 0, "{kind}: {steps:?}");
        if kind != "btrfs" {
            assert_ne!(at.metadata().unwrap().dev(), device, "{kind}: nothing changed");
        }
        umount(&at).unwrap();
        for device in devices {
            let _ = Command::new("losetup").args(["-d", &device]).status();
        }
    }
}

#[test]
fn lines_lie_below_their_root_and_no_holding_folder_is_made_elsewhere() {
    let scratch = tempfile::tempdir().unwrap();
    let top = scratch.path();
    let film = twice(top);
    let elsewhere = top.join("elsewhere/low.water.2003.mkv");
    write(&elsewhere, &film);
    let site = Site::new(top, &top.join("r.csv"), &["d"]);
    let whole = fs::read(&site.review).unwrap();
    for root in ["/", top.parent().unwrap().to_str().unwrap(), top.to_str().unwrap()] {
        for seals in [true, false] {
            fs::write(&site.review, &whole).unwrap();
            site.edit(|cells, columns| {
                cells[columns["root"]] = root.to_owned();
                if !seals && let Some(seal) = columns.get("seal") {
                    cells[*seal].clear();
                }
            });
            let (code, steps) = site.reclaim(&[]);
            assert_eq!(code, 2, "{root}: {steps:?}");
            for above in ["/".as_ref(), top.parent().unwrap(), top] {
                assert!(!above.join(".tarvek-held").exists(), "{root}");
            }
        }
    }
    fs::write(&site.review, &whole).unwrap();
    site.edit(|cells, columns| {
        if cells[columns["decision"]] == "drop" {
            cells[columns["path"]] = elsewhere.to_str().unwrap().to_owned();
        }
    });
    assert_eq!(site.reclaim(&[]).0, 2);
    assert!(elsewhere.exists());
    // A holding folder that was renamed is missed, and that is said.
    fs::write(&site.review, &whole).unwrap();
    assert_eq!(site.reclaim(&[]).0, 0);
    fs::rename(top.join("d/.tarvek-held"), top.join("d/renamed")).unwrap();
    for how in ["--undo", "--purge"] {
        let (code, steps) = site.reclaim(&[how]);
        assert_ne!(code, 0, "{how}");
        assert!(steps["low.water.2003.mkv"].1.contains("no holding folder"), "{how}: {steps:?}");
    }
    fs::rename(top.join("d/renamed"), top.join("d/.tarvek-held")).unwrap();
    assert_eq!(site.reclaim(&["--undo"]).0, 0);
}

#[test]
fn subvolumes_hold_their_own_and_lost_files_are_left_alone() {
    kernel::private_mounts();
    let scratch = tempfile::tempdir().unwrap();
    let at = mounted("btrfs", scratch.path());
    for name in ["d", "d/inner"] {
        let mut btrfs = Command::new("btrfs");
        assert!(
            btrfs
                .args(["-q", "subvolume", "create"])
                .arg(at.join(name))
                .status()
                .unwrap()
                .success()
        );
    }
    for name in ["d/a.mkv", "d/b.mkv", "d/inner/a.mkv", "d/inner/b.mkv", "d/inner/deep/c.mkv"] {
        write(&at.join(name), &noise(name.len() as u64 / 8, 9000));
    }
    let before = names(&at);
    let site = Site::new(&at, &scratch.path().join("r.csv"), &["d"]);
    let mut kept: BTreeMap<String, u32> = BTreeMap::new();
    site.edit(|cells, columns| {
        // One of each subvolume stays.
        let inner = cells[columns["path"]].contains("/inner/");
        let count = kept.entry(format!("{inner}{}", cells[columns["group"]])).or_default();
        cells[columns["decision"]] = if *count == 0 { "keep" } else { "drop" }.to_owned();
        *count += 1;
    });
    let (code, steps) = site.reclaim(&[]);
    assert_eq!(code, 0, "{steps:?}");
    assert!(at.join("d/inner/.tarvek-held/journal").exists());
    assert_eq!(site.reclaim(&["--undo"]).0, 0);
    assert_eq!(names(&at), before);
    // What a check of the filesystem put aside is nobody's waste.
    let at = mounted("ext4", scratch.path());
    write(&at.join("lost+found/#12"), &noise(1, 9000));
    write(&at.join("film.mkv"), &noise(1, 9000));
    let site = Site::new(&at, &scratch.path().join("l.csv"), &["."]);
    assert_eq!(fs::read_to_string(&site.review).unwrap().lines().count(), 1);
}

/// A process whose root is a filesystem of somebody's own that answers no more.
#[test]
fn a_root_that_never_answers_is_given_up() {
    kernel::private_mounts();
    let scratch = tempfile::tempdir().unwrap();
    let (real, seen) = (scratch.path().join("real"), scratch.path().join("seen"));
    for folder in [&real, &seen] {
        fs::create_dir(folder).unwrap();
    }
    fs::copy("/bin/busybox", real.join("busybox")).unwrap();
    write(&real.join("films/a.mkv"), b"x");
    let mut mirror = Command::new("bindfs");
    let mut mirror = mirror.arg("-f").args([&real, &seen]).spawn().unwrap();
    while !seen.join("busybox").exists() {
        std::thread::sleep(Duration::from_millis(10));
    }
    let mut lives =
        Command::new("chroot").arg(&seen).args(["/busybox", "sleep", "60"]).spawn().unwrap();
    std::thread::sleep(Duration::from_millis(300));
    let view = format!("process:{}", lives.id());
    let ask = || {
        let started = std::time::Instant::now();
        let mut command = Command::new(env!("CARGO_BIN_EXE_tarvek"));
        let output = command.args(["access", "/films", "--from", &view]).output().unwrap();
        let told = String::from_utf8_lossy(&output.stderr).into_owned();
        (output.status.code().unwrap(), told, started.elapsed())
    };
    assert_eq!(ask().0, 0);
    let signal = |signal| {
        let pid = nix::unistd::Pid::from_raw(mirror.id() as i32);
        nix::sys::signal::kill(pid, signal).unwrap();
    };
    signal(nix::sys::signal::Signal::SIGSTOP);
    std::thread::sleep(Duration::from_millis(1200));
    let (code, told, time) = ask();
    signal(nix::sys::signal::Signal::SIGCONT);
    let _ = lives.kill();
    let _ = lives.wait();
    let _ = umount(&seen);
    let _ = mirror.kill();
    let _ = mirror.wait();
    assert!(code == 2 && told.contains("does not answer"), "{code}: {told}");
    assert!(time < Duration::from_secs(20), "{time:?}");
}
