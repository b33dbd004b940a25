//! `link(2)` and `rename(2)`: what is predicted against what the kernel does, over filesystems and
//! mounts of every sort.

use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::process::Command;

use nix::mount::{MsFlags, mount};
use tarvek_core::kernel::subject::Subject;
use tarvek_core::layout::site::Layout;
use tarvek_core::link::hard::hardlink;
use tarvek_core::link::link_paths::LinkPaths;
use tarvek_core::link::moved::rename;
use tarvek_core::link::verdict::{Reason, Verdict};
use tarvek_core::route::hops::View;
use tarvek_core::site::join::Site;
use tarvek_core::words::path::AbsPath;
use tarvek_host::observe::{Depth, Look, host_name, observe};
use tarvek_host::walk::Watch;

use crate::kernel::{self, Setting, Who};
use crate::random::{self, GIDS, Random, UIDS};
use crate::stage;
use crate::survey::{ZfsPool, tool};

/// Filesystems and mounts of every sort below one folder, as long as this lives.
struct Yard {
    top: PathBuf,
    scratch: tempfile::TempDir,
    zfs: Option<ZfsPool>,
}

impl Yard {
    fn new() -> Self {
        let scratch = tempfile::tempdir().unwrap();
        std::fs::set_permissions(scratch.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
        // A filesystem of its own, so that what lies here is not that of the machine.
        let top = scratch.path().join("top");
        std::fs::create_dir(&top).unwrap();
        kernel::tmpfs(&top);
        let mut yard = Self { top, scratch, zfs: None };
        let pool = format!("tarveklink{}", std::process::id());
        let zfs = yard.folder("zfs");
        let zfs = ZfsPool::new(&pool, &zfs, &yard.image("zfs.img", 128), yard.scratch.path());
        tool("zfs", &[&"create", &format!("{pool}/films")]);
        for (name, size, make, options) in [
            ("ext4", 64, "mkfs.ext4", "loop"),
            ("xfs", 320, "mkfs.xfs", "loop"),
            ("quota", 320, "mkfs.xfs", "loop"),
            ("btrfs", 256, "mkfs.btrfs", "loop"),
        ] {
            let image = yard.image(&format!("{name}.img"), size);
            tool(make, &[&"-q", &image]);
            tool("mount", &[&"-o", &options, &image, &yard.folder(name)]);
        }
        for subvolume in ["one", "two", "one/inner", "kept"] {
            tool("btrfs", &[&"subvolume", &"create", &yard.top.join("btrfs").join(subvolume)]);
        }
        let fat = yard.image("fat.img", 16);
        tool("mkfs.vfat", &[&fat]);
        tool(
            "fusefat",
            &[&"-o", &"rw+,allow_other,default_permissions", &fat, &yard.folder("fat")],
        );
        kernel::tmpfs(&yard.folder("tmpfs"));
        // A file each that has all the names it can have; nobody has to read them all again and
        // again.
        for (place, most) in [("ext4", 65_000), ("btrfs", 65_535)] {
            let names = yard.folder(&format!("{place}/names"));
            let full = yard.top.join(place).join("full");
            std::fs::write(&full, "x").unwrap();
            for n in 1..most {
                std::fs::hard_link(&full, names.join(n.to_string())).unwrap();
            }
            kernel::tmpfs(&names);
        }
        yard.zfs = Some(zfs);
        yard
    }

    fn folder(&self, name: &str) -> PathBuf {
        let folder = self.top.join(name);
        std::fs::create_dir_all(&folder).unwrap();
        folder
    }

    /// Makes the kept subvolume read-only, or writable again.
    fn keep(&self, read_only: bool) {
        let (at, value) = (self.top.join(KEPT), read_only.to_string());
        tool("btrfs", &[&"property", &"set", &"-ts", &at, &"ro", &value]);
    }

    fn image(&self, name: &str, size: u64) -> PathBuf {
        let file = self.scratch.path().join(name);
        std::fs::File::create(&file).unwrap().set_len(size << 20).unwrap();
        file
    }
}

impl Drop for Yard {
    fn drop(&mut self) {
        self.zfs = None;
        let _ = nix::mount::umount2(&self.top.join("fat"), nix::mount::MntFlags::MNT_DETACH);
    }
}

/// A subvolume that is read-only once a state stands.
const KEPT: &str = "btrfs/kept";

/// Where random trees are made; each is a filesystem, dataset or subvolume.
const PLACES: &[&str] = &[
    "ext4",
    "xfs",
    "quota",
    "btrfs",
    "btrfs/one",
    "btrfs/two",
    "btrfs/one/inner",
    KEPT,
    "tmpfs",
    "zfs",
    "zfs/films",
    "fat",
];

/// So many of the first paths of a state have all the names they can have.
const FULL: u64 = 2;

/// One random state of the yard: what an earlier one made is gone.
struct State<'a> {
    yard: &'a Yard,
    /// What was mounted for it, the last one first.
    mounted: Vec<PathBuf>,
    places: Vec<PathBuf>,
}

impl<'a> State<'a> {
    fn new(yard: &'a Yard, random: &mut Random, n: u64) -> Self {
        let mut places = Vec::new();
        for place in PLACES {
            let folder = yard.top.join(place).join(format!("state {n}"));
            std::fs::create_dir(&folder).unwrap();
            if *place == "fat" {
                plain_tree(&folder);
                places.push(folder);
                continue;
            }
            random::tree(random, &folder, 2);
            // A folder that everybody comes into, so that not all is refused on the way.
            for name in ["open", "shelf"] {
                let open = folder.join(name);
                std::fs::create_dir(&open).unwrap();
                random::tree(random, &open, 1);
            }
            let mode = *random.one(&[0o777, 0o777, 0o1777, 0o775]);
            for open in [folder.clone(), folder.join("open"), folder.join("shelf")] {
                std::fs::set_permissions(&open, std::fs::Permissions::from_mode(mode)).unwrap();
            }
            places.push(folder);
        }
        let mut state = Self { yard, mounted: Vec::new(), places };
        state.projects(random);
        state.flags(random);
        state.names(random);
        state.attach(random, n);
        yard.keep(true);
        state
    }

    fn folders_of(&self, place: &str) -> Vec<PathBuf> {
        let top = self.places.iter().find(|folder| folder.starts_with(self.yard.top.join(place)));
        let all =
            top.into_iter().flat_map(|top| stage::below(top).into_iter().chain([top.clone()]));
        all.filter(|path| path.symlink_metadata().is_ok_and(|meta| meta.is_dir())).collect()
    }

    /// Project numbers, and folders that take in nothing of another project.
    fn projects(&self, random: &mut Random) {
        for place in ["xfs", "quota"] {
            let folders = self.folders_of(place);
            for _ in 0..4 {
                let folder = random.one(&folders);
                let number = random.one(&["0", "7", "8"]);
                let change = format!("chproj {number}");
                tool("xfs_io", &[&"-c", &change, folder]);
                let files = std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path());
                let files = files.filter(|path| path.symlink_metadata().is_ok_and(|m| m.is_file()));
                for file in files.filter(|_| random.rarely(2)) {
                    tool("xfs_io", &[&"-c", &change, &file]);
                }
                if random.rarely(2) {
                    tool("xfs_io", &[&"-c", &"chattr +P", folder]);
                }
            }
        }
    }

    /// What may not be changed, or only grow.
    fn flags(&self, random: &mut Random) {
        for place in ["ext4", "xfs", "btrfs", "tmpfs"] {
            let top =
                self.places.iter().find(|p| p.starts_with(self.yard.top.join(place))).unwrap();
            let all: Vec<PathBuf> = stage::below(top)
                .into_iter()
                .filter(|path| path.symlink_metadata().is_ok_and(|m| m.is_file() || m.is_dir()))
                .collect();
            for _ in 0..random.below(4) {
                if all.is_empty() {
                    continue;
                }
                let flag = random.one(&["+i", "+a"]);
                let path = random.one(&all).clone();
                // What is immutable already takes no other flag.
                let _ = Command::new("chattr").arg(flag).arg(&path).output().unwrap();
            }
        }
    }

    /// Files with several names, some of them in other folders.
    fn names(&self, random: &mut Random) {
        for top in &self.places {
            let all = stage::below(top);
            let files: Vec<&PathBuf> = all.iter().filter(|path| path.is_file()).collect();
            let folders: Vec<&PathBuf> = all.iter().filter(|path| path.is_dir()).collect();
            for n in 0..random.below(3) {
                if !files.is_empty() {
                    let to = random.one(&folders).join(format!("again {n}"));
                    let _ = std::fs::hard_link(random.one(&files), to);
                }
            }
            // The same names on both sides.
            for _ in 0..3 {
                let (from, into) = (random.one(&all), random.one(&folders));
                let to = into.join(from.file_name().unwrap());
                match random.below(3) {
                    0 => drop(std::fs::create_dir(&to)),
                    _ if !to.exists() => drop(std::fs::write(&to, "y")),
                    _ => {}
                }
                if to.exists() && random.rarely(2) && !to.is_symlink() {
                    let _ = std::os::unix::fs::chown(
                        &to,
                        Some(*random.one(UIDS)),
                        Some(*random.one(GIDS)),
                    );
                }
            }
        }
    }

    /// Binds, stacked mounts, overlays.
    fn attach(&mut self, random: &mut Random, n: u64) {
        for k in 0..6 + random.below(5) {
            let place = *random.one(PLACES);
            let folders = self.folders_of(place);
            let at = if random.rarely(2) {
                let at = self.yard.folder(&format!("at {n} {k}"));
                self.places.push(at.clone());
                at
            } else {
                let place = *random.one(PLACES);
                random.one(&self.folders_of(place)).clone()
            };
            let from = random.one(&folders).clone();
            let files: Vec<PathBuf> = stage::below(&from)
                .into_iter()
                .filter(|path| path.is_file() && !path.is_symlink())
                .collect();
            let plain = |from: &Path, at: &Path, flags: MsFlags| {
                mount(Some(from), at, None::<&str>, flags, None::<&str>).is_ok()
            };
            let done = match random.below(9) {
                0..=2 => plain(&from, &at, MsFlags::MS_BIND),
                3 => plain(&from, &at, MsFlags::MS_BIND | MsFlags::MS_REC),
                4 => {
                    let done = plain(&from, &at, MsFlags::MS_BIND);
                    let read_only = MsFlags::MS_REMOUNT | MsFlags::MS_BIND | MsFlags::MS_RDONLY;
                    done && mount(None::<&str>, &at, None::<&str>, read_only, None::<&str>).is_ok()
                }
                5 => {
                    let done = mount(
                        Some("tmpfs"),
                        &at,
                        Some("tmpfs"),
                        MsFlags::empty(),
                        Some("mode=777"),
                    )
                    .is_ok();
                    if done {
                        random::tree(random, &at, 1);
                    }
                    done
                }
                6 => self.overlay(random, &at, k),
                7 if files.len() > 1 => {
                    let (one, other) = (random.one(&files).clone(), random.one(&files).clone());
                    let done = plain(&one, &other, MsFlags::MS_BIND);
                    if done {
                        self.mounted.insert(0, other);
                    }
                    false
                }
                _ => plain(&at, &at, MsFlags::MS_BIND),
            };
            if done {
                self.mounted.insert(0, at);
            }
        }
    }

    fn overlay(&self, random: &mut Random, at: &Path, k: u64) -> bool {
        let work = self.yard.folder(&format!("work {k}"));
        kernel::tmpfs(&work);
        // What lies beneath an overlay is not changed by anybody else as long as it is mounted
        // (overlayfs, kernel documentation).
        for name in ["upper", "work", "lower"] {
            std::fs::create_dir(work.join(name)).unwrap();
            std::fs::set_permissions(work.join(name), std::fs::Permissions::from_mode(0o777))
                .unwrap();
        }
        let lower = work.join("lower");
        random::tree(random, &lower, 2);
        let more = *random.one(&["", ",redirect_dir=on", ",index=on", ",xino=off"]);
        let options = format!(
            "lowerdir={},upperdir={},workdir={}{more}",
            lower.display(),
            work.join("upper").display(),
            work.join("work").display()
        );
        let done =
            mount(Some("overlay"), at, Some("overlay"), MsFlags::empty(), Some(options.as_str()));
        // The layers themselves are nobody's.
        mount(Some("tmpfs"), &work, Some("tmpfs"), MsFlags::empty(), Some("mode=700")).unwrap();
        done.is_ok()
    }

    /// What is there now, as this machine shows it.
    fn site(&self) -> Site {
        let mut looks: Vec<(AbsPath, Depth)> = self
            .places
            .iter()
            .map(|place| (AbsPath::new(place.as_os_str().as_bytes()).unwrap(), Depth::Everything))
            .collect();
        for place in PLACES.iter().chain(&[""]) {
            let path = self.yard.top.join(place);
            looks.push((AbsPath::new(path.as_os_str().as_bytes()).unwrap(), Depth::Names));
        }
        for place in ["ext4/full", "btrfs/full"] {
            let path = self.yard.top.join(place);
            looks.push((AbsPath::new(path.as_os_str().as_bytes()).unwrap(), Depth::Entry));
        }
        looks.sort();
        let watch = Watch::default();
        let look = Look { places: &looks, documents: false, process: None, watch: &watch };
        Site::join(Layout::default(), vec![observe(&look).unwrap()]).unwrap()
    }

    fn paths(&self) -> Vec<PathBuf> {
        let full = ["ext4/full", "btrfs/full"].map(|path| self.yard.top.join(path));
        let below = |place: &PathBuf| stage::below(place).into_iter().chain([place.clone()]);
        full.into_iter().chain(self.places.iter().flat_map(below)).collect()
    }
}

impl Drop for State<'_> {
    fn drop(&mut self) {
        self.yard.keep(false);
        for at in &self.mounted {
            let _ = nix::mount::umount2(at, nix::mount::MntFlags::MNT_DETACH);
        }
        for place in &self.places {
            let _ = Command::new("chattr").args(["-R", "-f", "-ia"]).arg(place).output();
            let _ = std::fs::remove_dir_all(place);
        }
        for k in 0..12 {
            let work = self.yard.top.join(format!("work {k}"));
            while nix::mount::umount2(&work, nix::mount::MntFlags::MNT_DETACH).is_ok() {}
        }
    }
}

/// A tree where nothing has an owner.
fn plain_tree(top: &Path) {
    for folder in ["a", "b", "b/c"] {
        std::fs::create_dir(top.join(folder)).unwrap();
        std::fs::write(top.join(folder).join("film.mkv"), "x").unwrap();
    }
}

/// Does something as somebody: this thread alone becomes them, and root again afterwards. Without
/// the filesystem uid 0 the capabilities over files are gone as well (`capabilities(7)`).
#[allow(unsafe_code)]
fn as_somebody<T>(who: &Who, deed: impl FnOnce() -> T) -> T {
    let groups = |groups: &[u32]| {
        // SAFETY: the kernel reads as many numbers as it is told, from a slice that lives until it
        // returns.
        let done =
            unsafe { nix::libc::syscall(nix::libc::SYS_setgroups, groups.len(), groups.as_ptr()) };
        assert_eq!(done, 0, "setgroups: {}", std::io::Error::last_os_error());
    };
    groups(&who.groups);
    let become_id = |uid: u32, gid: u32| {
        nix::unistd::setfsgid(gid.into());
        nix::unistd::setfsuid(uid.into());
    };
    become_id(who.uid, who.gid);
    let came = deed();
    become_id(0, 0);
    groups(&[]);
    came
}

fn named(error: nix::errno::Errno) -> String {
    error.to_string().split(':').next().unwrap().to_owned()
}

fn bytes(path: &[u8]) -> &Path {
    Path::new(OsStr::from_bytes(path))
}

/// What came of the two deeds, and whether everything is as before.
struct Came {
    link: String,
    /// `None` where it was not tried.
    rename: Option<String>,
    is_as_before: bool,
}

/// Links and renames as somebody, and takes both back. What is not to be moved is only linked.
fn tried(who: &Who, from: &[u8], to: &[u8], moves: bool) -> Came {
    let (source, target) = (bytes(from), bytes(to));
    let mut is_as_before = true;
    let linked = as_somebody(who, || {
        nix::unistd::linkat(
            nix::fcntl::AT_FDCWD,
            source,
            nix::fcntl::AT_FDCWD,
            target,
            nix::fcntl::AtFlags::empty(),
        )
    });
    let link = match linked {
        Ok(()) => {
            is_as_before &= std::fs::remove_file(target).is_ok()
                || without_flags(target, || std::fs::remove_file(target).is_ok());
            "ok".to_owned()
        }
        Err(error) => named(error),
    };
    let before = (ids(source), ids(target));
    let kept = target.symlink_metadata().is_ok();
    if !moves {
        return Came { link, rename: None, is_as_before };
    }
    let moved = as_somebody(who, || {
        nix::fcntl::renameat(nix::fcntl::AT_FDCWD, source, nix::fcntl::AT_FDCWD, target)
    });
    let rename = match moved {
        Ok(()) if (ids(source), ids(target)) == before => "ok".to_owned(),
        Ok(()) => {
            let back = || std::fs::rename(target, source).is_ok();
            is_as_before &= (back() || without_flags(target, back)) && !kept;
            "ok".to_owned()
        }
        Err(error) => named(error),
    };
    Came { link, rename: Some(rename), is_as_before }
}

fn ids(path: &Path) -> Option<(u64, u64)> {
    path.symlink_metadata().ok().map(|meta| (meta.dev(), meta.ino()))
}

/// Does something in a folder that may only grow.
fn without_flags(target: &Path, deed: impl Fn() -> bool) -> bool {
    let folder = target.parent().unwrap();
    let chattr = |how: &str| Command::new("chattr").arg(how).arg(folder).output().unwrap();
    chattr("-a");
    let done = deed();
    chattr("+a");
    done
}

fn told(verdict: &Verdict) -> String {
    match verdict.possible {
        None => "?".to_owned(),
        Some(true) => "ok".to_owned(),
        Some(false) => verdict.errno.map(|errno| errno.to_string()).unwrap_or_default(),
    }
}

/// Paths as people and programs write them.
fn written(random: &mut Random, path: &Path) -> Vec<u8> {
    let path = path.as_os_str().as_bytes();
    match random.below(24) {
        0 => [path, b"/"].concat(),
        1 => [path, b"/."].concat(),
        2 => [path, b"/.."].concat(),
        3 => [path, b"/nothing"].concat(),
        _ => path.to_vec(),
    }
}

/// Who does it, more often than not somebody who may.
fn somebody(random: &mut Random, from: &Path) -> Who {
    let owner = from.symlink_metadata().map_or(0, |meta| meta.uid());
    let uid = if random.rarely(3) { owner } else { *random.one(UIDS) };
    let mut groups: Vec<u32> = GIDS.iter().copied().filter(|_| random.rarely(2)).collect();
    let gid = *random.one(GIDS);
    groups.retain(|group| *group != gid);
    Who { uid, gid, groups }
}

#[derive(Default)]
struct Tally {
    pairs: u64,
    unknown: u64,
    covered: u64,
    /// Refused by what was not known, with another error than by what was.
    before: u64,
    outcomes: std::collections::BTreeMap<String, u64>,
    doubts: std::collections::BTreeMap<String, u64>,
    wrong: Vec<String>,
}

fn one(site: &Site, random: &mut Random, paths: &[PathBuf], tally: &mut Tally) -> bool {
    let full = |random: &mut Random| paths[random.below(FULL) as usize].clone();
    let from = if random.rarely(25) { full(random) } else { random.one(paths).clone() };
    let from = &from;
    // Two ends on one filesystem are what matters most.
    let near: Vec<&PathBuf> = paths
        .iter()
        .filter(|path| {
            path.parent() == from.parent()
                || path
                    .symlink_metadata()
                    .is_ok_and(|m| m.is_dir() && Some(m.dev()) == ids(from).map(|id| id.0))
        })
        .collect();
    let to =
        if random.rarely(3) || near.is_empty() { random.one(paths) } else { *random.one(&near) };
    let mut who = somebody(random, from);
    if who.gid == 0 && who.uid != 0 {
        // The ZFS that runs in user space takes gid 0 for more than a number, and bars it from
        // folders of mode 0007.
        who.gid = GIDS[1];
        who.groups.retain(|group| *group != GIDS[1]);
    }
    let from = written(random, from);
    let mut to = written(random, to);
    if random.rarely(3) {
        to.extend(format!("/new {}", random.below(9)).as_bytes());
    }
    if random.rarely(40) {
        to.extend(b"x".repeat(250));
    }
    // What is not there is another question.
    if nix::sys::stat::lstat(bytes(&from)).is_err_and(|error| error == nix::errno::Errno::ENOENT) {
        return true;
    }
    let subject = Subject::new(who.uid, who.gid, who.groups.iter().copied());
    let ends = LinkPaths::of(site, &View::host(host_name()), &subject, &from, &to);
    let (link, moved) = (hardlink(&ends), rename(&ends));
    let target = ends.target.path().to_vec();
    // The FAT that runs in user space loses folders from its lists when something is moved, and has
    // errors of its own for folders.
    let fat = from.windows(5).any(|part| part == b"/fat/");
    let came = tried(
        &who,
        &from,
        &target,
        !fat || moved.possible == Some(false) && moved.reason != Reason::IsFolder,
    );
    // Of a mount point it is what the mount covers that is moved or replaced, and that was not
    // seen: which error comes first is open.
    let covers = |route: &tarvek_core::route::hops::Route| {
        route.trail.last().is_some_and(|last| last.attached)
    };
    let covered = [&ends.source.name, &ends.target.name].into_iter().flatten().any(covers);
    let both = [("link", &link, Some(&came.link)), ("rename", &moved, came.rename.as_ref())];
    for (deed, verdict, really) in both {
        let Some(really) = really else { continue };
        tally.pairs += 1;
        *tally.outcomes.entry(format!("{deed} {really} {}", verdict.reason.word())).or_default() +=
            1;
        let said = told(verdict);
        if said == "?" {
            tally.unknown += 1;
            *tally.doubts.entry(verdict.detail.clone()).or_default() += 1;
        } else if said != *really && really != "ok" && verdict.may_be_refused_before {
            tally.before += 1;
        } else if said != *really && covered && deed == "rename" && said != "ok" && really != "ok" {
            tally.covered += 1;
        } else if said != *really {
            tally.wrong.push(format!(
                "{deed} as {who:?}\n  from {}\n  to   {}\n  said {said}: {} {}\n  came {really}\n\
                 {}{}",
                from.escape_ascii(),
                target.escape_ascii(),
                verdict.reason.word(),
                verdict.detail,
                kernel::listing(bytes(&from)),
                kernel::listing(bytes(&target)),
            ));
        }
    }
    came.is_as_before
}

/// The same possibility and the same error, each time.
#[test]
fn links_and_renames_come_as_they_are_predicted() {
    kernel::private_mounts();
    let mut random = Random::from_env("link");
    let pairs = random::cases(1500);
    let yard = Yard::new();
    let mut tally = Tally::default();
    let mut n = 0;
    while tally.pairs < pairs {
        n += 1;
        let _setting = Setting::set("fs/protected_hardlinks", random.below(2));
        let state = State::new(&yard, &mut random, n);
        let mut site = state.site();
        let paths = state.paths();
        for _ in 0..120 {
            if !one(&site, &mut random, &paths, &mut tally) {
                site = state.site();
            }
            assert!(tally.wrong.len() < 8, "state {n}:\n{}", tally.wrong.join("\n"));
        }
    }
    eprintln!(
        "link: {} verdicts over {n} states, {} unknown, {} refused by what a mount covers",
        tally.pairs, tally.unknown, tally.covered
    );
    assert!(
        (tally.covered + tally.before) * 200 <= tally.pairs,
        "{} {}",
        tally.covered,
        tally.before
    );
    eprintln!("{:#?}\n{:#?}", tally.outcomes, tally.doubts);
    assert!(tally.wrong.is_empty(), "{}", tally.wrong.join("\n"));
    assert!(tally.unknown * 50 <= tally.pairs, "{} of {} unknown", tally.unknown, tally.pairs);
}

/// What a folder has of proofs.
fn proofs(folder: &Path) -> Vec<String> {
    let names = std::fs::read_dir(folder).unwrap();
    let names = names.map(|entry| entry.unwrap().file_name().into_string().unwrap());
    names.filter(|name| name.contains("proof")).collect()
}

/// Half of them at a random moment, half as soon as something of the proof is there: whatever is
/// left, the next proof takes away.
#[test]
fn a_killed_proof_leaves_nothing_that_a_second_does_not_take_away() {
    use std::os::unix::process::CommandExt;
    kernel::private_mounts();
    let mut random = Random::from_env("killed");
    let scratch = tempfile::tempdir().unwrap();
    std::fs::set_permissions(scratch.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
    let (done, films) = (scratch.path().join("done"), scratch.path().join("films"));
    for folder in [&done, &films] {
        std::fs::create_dir(folder).unwrap();
        std::os::unix::fs::chown(folder, Some(71_001), Some(72_001)).unwrap();
    }
    let film = done.join("film.mkv");
    std::fs::write(&film, "film").unwrap();
    std::os::unix::fs::chown(&film, Some(71_001), Some(72_001)).unwrap();
    let command = |before: &[&str]| {
        let words = [before, &[env!("CARGO_BIN_EXE_tarvek")]].concat();
        let mut command = Command::new(words[0]);
        command.args(&words[1..]).arg("link").arg(&film).arg(&films).args([
            "--prove",
            "--as",
            "71001:72001",
        ]);
        command
            .current_dir("/")
            .stdout(std::process::Stdio::null())
            .stderr(std::process::Stdio::null());
        command
    };
    nix::sys::prctl::set_child_subreaper(true).unwrap();
    let whole = std::time::Instant::now();
    assert!(command(&[]).status().unwrap().success());
    let whole = whole.elapsed();
    let mut left = 0;
    for n in 0..random::cases(100).max(100) {
        // Killed as it is about to call the kernel, the one that tries and the one that tidies up
        // alike; or at any moment.
        let call = *random.one(&["linkat", "renameat,renameat2", "unlinkat,unlink", "%file"]);
        let when = if call == "%file" { 1 + random.below(60) } else { 1 + random.below(2) };
        let inject = format!("inject={call}:signal=KILL:when={when}");
        let tracer = ["strace", "-f", "-qq", "-o", "/dev/null", "-e", &inject];
        let by_time = random.rarely(2);
        let mut child =
            command(if by_time { &[] } else { &tracer }).process_group(0).spawn().unwrap();
        let group = nix::unistd::Pid::from_raw(-(child.id() as i32));
        if by_time {
            std::thread::sleep(whole.mul_f64(random.below(1000) as f64 / 1000.0));
        } else {
            child.wait().unwrap();
        }
        let _ = nix::sys::signal::kill(group, nix::sys::signal::Signal::SIGKILL);
        child.wait().unwrap();
        // The kernel may still be at work for others of the group, which have come to us.
        while nix::sys::wait::waitpid(group, None).is_ok() {}
        left += u64::from(!(proofs(&done).is_empty() && proofs(&films).is_empty()));
        assert_eq!(std::fs::read_to_string(&film).unwrap(), "film");
        if random.rarely(4) {
            assert!(command(&[]).status().unwrap().success());
            assert_eq!((proofs(&done), proofs(&films)), (vec![], vec![]), "after {n}");
            assert_eq!(film.metadata().unwrap().nlink(), 1);
        }
    }
    assert!(command(&[]).status().unwrap().success());
    assert_eq!((proofs(&done), proofs(&films)), (vec![], vec![]));
    assert_eq!(film.metadata().unwrap().nlink(), 1);
    eprintln!("killed: something was left {left} times");
    assert!(left > 0, "no kill came while something was there");
}

/// What was proven is what really happens, and everything is as it was.
#[test]
fn proofs_say_what_the_kernel_does() {
    kernel::private_mounts();
    let mut random = Random::from_env("proven");
    let yard = Yard::new();
    let (mut proven, mut told) = (0, 0);
    let mut n = 1000;
    while told < random::cases(60).min(2000) {
        n += 1;
        let _setting = Setting::set("fs/protected_hardlinks", random.below(2));
        let state = State::new(&yard, &mut random, n);
        let paths = state.paths();
        for _ in 0..30 {
            let (from, to) = (random.one(&paths), random.one(&paths));
            let mut who = somebody(&mut random, from);
            who.groups.retain(|group| *group != 0);
            who.gid = GIDS[1];
            let to = to.join("new");
            // What is tried in FAT is not always put back by it.
            if from.symlink_metadata().is_err()
                || from.components().any(|part| part.as_os_str() == "fat")
            {
                continue;
            }
            let groups: Vec<String> = who.groups.iter().map(|gid| format!(",{gid}")).collect();
            let account = format!("{}:{}{}", who.uid, who.gid, groups.concat());
            let before = listing_of(&paths);
            let output = Command::new("timeout")
                .args(["20", env!("CARGO_BIN_EXE_tarvek"), "link"])
                .args([from.as_os_str(), to.as_os_str()])
                .args(["--prove", "--as", &account, "--format", "json"])
                .current_dir("/")
                .output()
                .unwrap();
            let errors = String::from_utf8_lossy(&output.stderr);
            let Ok(answer) = serde_json::from_slice::<serde_json::Value>(&output.stdout) else {
                assert!(errors.contains("does not exist"), "{errors}");
                continue;
            };
            let after = listing_of(&paths);
            let differs = before.iter().zip(&after).find(|(before, after)| before != after);
            assert!(
                differs.is_none() && before.len() == after.len(),
                "{differs:?}: {from:?} {to:?} as {who:?}: {answer:#}"
            );
            told += 1;
            let came = tried(&who, from.as_os_str().as_bytes(), to.as_os_str().as_bytes(), true);
            let both = [("hardlink", Some(&came.link)), ("rename", came.rename.as_ref())];
            for (key, really) in both {
                let Some(really) = really else { continue };
                let verdict = &answer[key];
                if verdict["evidence"] == "proven" {
                    proven += 1;
                    let said = verdict["errno"].as_str().unwrap_or("ok");
                    assert_eq!(said, really, "{from:?} {to:?} as {who:?}: {answer:#}\n{errors}");
                }
            }
            if !came.is_as_before {
                break;
            }
        }
    }
    eprintln!("proven: {proven} of {told} pairs");
    assert!(proven > 0);
}

/// What is there, with names, times and numbers of names.
fn listing_of(paths: &[PathBuf]) -> Vec<String> {
    let line = |path: &PathBuf| {
        let meta = path.symlink_metadata().ok()?;
        let names =
            meta.is_dir().then(|| std::fs::read_dir(path).map(Iterator::count).unwrap_or(0));
        // An overlay counts the names of its folders anew once something was made in them.
        let links = if meta.is_dir() { 0 } else { meta.nlink() };
        Some(format!("{path:?} {links} {}.{} {names:?}", meta.mtime(), meta.mtime_nsec()))
    };
    paths.iter().filter_map(line).collect()
}
