//! Random storage, and the view that an engine would make of it for a service: mounts of every
//! kind, and a process that lives in the view.

use std::collections::BTreeSet;
use std::ffi::OsStr;
use std::fs::File;
use std::io::{BufRead, BufReader};
use std::os::fd::AsRawFd;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};

use nix::mount::{MsFlags, mount};
use nix::sched::{CloneFlags, unshare};

use crate::kernel;
use crate::random::{self, Random};

/// More entries than this make a case slow, and show nothing that fewer do not.
const MOST_ENTRIES: usize = 400;

/// Folders, files and symlinks below one, as the kernel shows them now.
pub fn below(top: &Path) -> Vec<PathBuf> {
    let mut all = Vec::new();
    let mut todo = vec![top.to_owned()];
    while let Some(folder) = todo.pop() {
        let Ok(entries) = std::fs::read_dir(&folder) else { continue };
        let mut paths: Vec<PathBuf> = entries.map(|entry| entry.unwrap().path()).collect();
        paths.sort();
        for path in paths {
            if path.symlink_metadata().is_ok_and(|meta| meta.is_dir()) {
                todo.push(path.clone());
            }
            all.push(path);
        }
    }
    all
}

fn is_folder(path: &Path) -> bool {
    path.symlink_metadata().is_ok_and(|meta| meta.is_dir())
}

fn is_file(path: &Path) -> bool {
    path.symlink_metadata().is_ok_and(|meta| meta.is_file())
}

/// Trees on filesystems of their own, with mounts on, over and inside each other.
/// What is on Btrfs comes from a stream of its own.
pub fn storage(random: &mut Random, later: &mut Random, top: &Path) {
    let mut kept = None;
    for name in ["tank", "pool"] {
        let at = top.join(name);
        std::fs::create_dir(&at).unwrap();
        if name == "pool" && later.rarely(4) {
            kept = Some(subvolumes(top, &at));
        } else {
            kernel::tmpfs(&at);
        }
        random::tree(random, &at, 3);
        if let Some((kept, _)) = &kept {
            random::tree(later, kept, 2);
            random::tree(later, &kept.join("open"), 1);
        }
        for n in 0..2 {
            let folder = at.join(format!("shelf {n}"));
            std::fs::create_dir(&folder).unwrap();
            random::tree(random, &folder, 2);
        }
        random::rights(random, &at);
    }
    for n in 0..random.below(8) {
        link(random, top, n);
    }
    if random.rarely(6) {
        chain(random, &top.join("tank/shelf 0"));
    }
    for n in 0..random.below(6) {
        attach(random, top, n);
    }
    for n in 8..8 + random.below(3) {
        link(random, top, n);
    }
    if let Some((_, kept)) = kept {
        // By now something else may have its name.
        let kept = format!("/proc/{}/fd/{}", std::process::id(), kept.as_raw_fd());
        btrfs(&[&"property", &"set", &"-ts", &kept, &"ro", &"true"]);
    }
}

/// A Btrfs filesystem with a subvolume that is to become read-only, and a writable one in that.
fn subvolumes(top: &Path, at: &Path) -> (PathBuf, File) {
    let image = top.with_extension("btrfs");
    File::create(&image).unwrap().set_len(120 << 20).unwrap();
    let made = Command::new("mkfs.btrfs").arg("-q").arg(&image).output().unwrap();
    assert!(made.status.success(), "mkfs.btrfs");
    let mounted = Command::new("mount").args(["-o", "loop"]).arg(&image).arg(at).status().unwrap();
    assert!(mounted.success(), "mount of Btrfs");
    let kept = at.join("kept");
    for subvolume in [kept.clone(), kept.join("open")] {
        btrfs(&[&"subvolume", &"create", &subvolume]);
    }
    let opened = File::open(&kept).unwrap();
    (kept, opened)
}

fn btrfs(arguments: &[&dyn AsRef<OsStr>]) {
    let done = Command::new("btrfs").args(arguments).output().unwrap();
    assert!(done.status.success(), "btrfs: {}", String::from_utf8_lossy(&done.stderr));
}

/// A symlink of some kind.
fn link(random: &mut Random, top: &Path, n: u64) {
    let all = below(top);
    let folders: Vec<&PathBuf> = all.iter().filter(|path| is_folder(path)).collect();
    let (folder, other) = (*random.one(&folders), random.one(&all));
    let ups = "../".repeat(1 + random.below(2) as usize);
    let name = other.file_name().unwrap().to_str().unwrap();
    let target = match random.below(12) {
        0 => other.to_str().unwrap().to_owned(),
        1 => format!("{ups}{name}"),
        2 => format!("/data/{name}"),
        3 => format!("/data/{name}/"),
        4 => format!("../{}/{name}", folder.file_name().unwrap().to_str().unwrap()),
        5 => "nowhere at all".to_owned(),
        6 => format!("link {n}"),
        7 => format!("./{name}/.."),
        8 => format!("{name}/."),
        9 => "..".to_owned(),
        10 => format!("link {}", n.saturating_sub(1)),
        _ => name.to_owned(),
    };
    let _ = symlink(target, folder.join(format!("link {n}")));
}

/// Symlinks that lead to each other: 40 are followed, one more is not.
fn chain(random: &mut Random, folder: &Path) {
    let length = 39 + random.below(3);
    for n in 0..length {
        let next = if n + 1 == length { ".".to_owned() } else { format!("chain {:02}", n + 1) };
        let _ = symlink(next, folder.join(format!("chain {n:02}")));
    }
}

/// One mount of a random kind.
fn attach(random: &mut Random, top: &Path, n: u64) {
    let all = below(top);
    if all.len() > MOST_ENTRIES {
        return;
    }
    let folders: Vec<&PathBuf> = all.iter().filter(|path| is_folder(path)).collect();
    let files: Vec<&PathBuf> = all.iter().filter(|path| is_file(path)).collect();
    let (from, at) = (*random.one(&folders), *random.one(&folders));
    let do_mount = |from: &Path, at: &Path, flags: MsFlags| {
        let _ = mount(Some(from), at, None::<&str>, flags, None::<&str>);
    };
    let remount = MsFlags::MS_REMOUNT | MsFlags::MS_BIND;
    match random.below(11) {
        0 | 1 => do_mount(from, at, MsFlags::MS_BIND),
        2 => do_mount(from, at, MsFlags::MS_BIND | MsFlags::MS_REC),
        3 | 4 => {
            if tmpfs(at) {
                random::tree(random, at, 2);
                random::rights(random, at);
            }
        }
        5 if at.parent() != Some(top) => do_mount(at, from, MsFlags::MS_MOVE),
        6 => {
            // A folder that is bound elsewhere, and then removed.
            let gone = top.join(format!("gone {n}"));
            std::fs::create_dir(&gone).unwrap();
            std::fs::set_permissions(&gone, std::fs::Permissions::from_mode(0o777)).unwrap();
            do_mount(&gone, at, MsFlags::MS_BIND);
            std::fs::remove_dir(&gone).unwrap();
        }
        7 if !files.is_empty() => {
            let (from, at) = (*random.one(&files), *random.one(&files));
            do_mount(from, at, MsFlags::MS_BIND);
        }
        8 => {
            do_mount(at, at, MsFlags::MS_BIND);
            let how = *random.one(&[MsFlags::MS_RDONLY, MsFlags::from_bits_retain(256)]);
            let _ = mount(None::<&str>, at, None::<&str>, remount | how, None::<&str>);
        }
        9 => {
            let work = top.join(format!("overlay {n}"));
            kernel_overlay(from, &work, at);
        }
        _ => {
            // What is mounted deeper stays in the table, and is hidden.
            if let Some(above) = at.parent().filter(|above| above.starts_with(top) && *above != top)
                && above.parent() != Some(top)
                && tmpfs(above)
            {
                random::tree(random, above, 2);
            }
        }
    }
}

/// Whether it could be mounted there: a folder that was removed since it was bound takes no mount.
fn tmpfs(at: &Path) -> bool {
    let done = mount(Some("tmpfs"), at, Some("tmpfs"), MsFlags::empty(), Some("mode=755"));
    done.is_ok()
}

fn kernel_overlay(lower: &Path, work: &Path, at: &Path) {
    let (upper, inner) = (work.join("upper"), work.join("work"));
    std::fs::create_dir_all(&upper).unwrap();
    std::fs::create_dir_all(&inner).unwrap();
    let strange = |path: &Path| path.as_os_str().as_bytes().iter().any(|b| b",:\\\n".contains(b));
    if strange(lower) {
        return;
    }
    let options = format!(
        "lowerdir={},upperdir={},workdir={}",
        lower.display(),
        upper.display(),
        inner.display()
    );
    let _ = mount(Some("overlay"), at, Some("overlay"), MsFlags::empty(), Some(options.as_str()));
}

/// One mapping of a service.
#[derive(Clone, Debug)]
pub struct Mapped {
    /// `None` for storage that the engine keeps.
    pub from: Option<PathBuf>,
    pub to: PathBuf,
    pub read_only: bool,
    /// Whether the engine makes what is mounted below it read-only as well.
    pub recursive: bool,
}

/// Mappings on, beside and inside each other, in no order.
pub fn mappings(random: &mut Random, top: &Path) -> Vec<Mapped> {
    let all = below(top);
    let folders: Vec<&PathBuf> = all.iter().filter(|path| is_folder(path)).collect();
    let files: Vec<&PathBuf> = all.iter().filter(|path| is_file(path)).collect();
    let links: Vec<&PathBuf> = all
        .iter()
        .filter(|path| path.is_symlink() && std::fs::metadata(path).is_ok_and(|m| m.is_dir()))
        .filter(|path| std::fs::canonicalize(path).is_ok_and(|real| real.starts_with(top)))
        .collect();
    let mut taken = BTreeSet::new();
    let mut maps: Vec<Mapped> = Vec::new();
    let mut add =
        |maps: &mut Vec<Mapped>, random: &mut Random, from: Option<PathBuf>, to: PathBuf| {
            // What changes in the layers of an overlay while it is mounted is undefined.
            let layer = |path: &PathBuf| {
                path.strip_prefix(top)
                    .is_ok_and(|below| below.to_string_lossy().starts_with("overlay "))
            };
            let from = from.map(|path| if layer(&path) { top.join("tank") } else { path });
            let read_only = random.rarely(3) && from.is_some();
            if taken.insert(to.clone()) {
                maps.push(Mapped { from, to, read_only, recursive: random.rarely(2) });
            }
        };
    let first = match random.below(8) {
        0 => None,
        1 => Some(top.join("tank")),
        2 if !links.is_empty() => Some((*random.one(&links)).clone()),
        _ => Some((*random.one(&folders)).clone()),
    };
    add(&mut maps, random, first.clone(), "/data".into());
    for n in 0..1 + random.below(4) {
        let file = random.rarely(5) && !files.is_empty();
        let from = if file { *random.one(&files) } else { *random.one(&folders) };
        // Inside the first one, at a place that is there, or that the engine has to make.
        let inside: Vec<PathBuf> = match &first {
            Some(outer) => below(outer)
                .into_iter()
                .filter(|path| if file { is_file(path) } else { is_folder(path) })
                .map(|path| Path::new("/data").join(path.strip_prefix(outer).unwrap()))
                .collect(),
            None => Vec::new(),
        };
        let ending = if file { ".mkv" } else { "" };
        let to = match random.below(6) {
            0 => PathBuf::from(format!("/srv/{n}{ending}")),
            1 => PathBuf::from(format!("/only/maps/{n}{ending}")),
            2 => PathBuf::from(format!("/data/new {n}/deep{ending}")),
            _ if inside.is_empty() => PathBuf::from(format!("/data/inner {n}{ending}")),
            _ => random.one(&inside).clone(),
        };
        add(&mut maps, random, Some(from.clone()), to);
    }
    maps
}

/// A process that lives in the view which an engine made. It ends with this.
pub struct Viewed {
    keeper: Child,
    /// Those that the engine could make.
    pub made: Vec<Mapped>,
}

impl Viewed {
    /// Makes the view as engines do: outer mappings before inner ones, each bound with what is
    /// mounted below it.
    pub fn new(scratch: &Path, mut maps: Vec<Mapped>) -> Self {
        maps.sort_by_key(|map| map.to.components().count());
        let mut plan = Vec::new();
        for map in &maps {
            let from = map.from.as_deref().map_or(&b""[..], |from| from.as_os_str().as_bytes());
            let flags = [map.read_only, map.recursive].map(|flag| u8::from(flag) + b'0');
            for field in [from, map.to.as_os_str().as_bytes(), &flags] {
                plan.extend(field);
                plan.push(0);
            }
        }
        std::fs::write(scratch.join("plan"), plan).unwrap();
        let mut command = Command::new(kernel::own_program(scratch));
        command.args(["stage::makes", "--exact", "--ignored", "--nocapture"]);
        command.env("TARVEK_STAGE", scratch).stdin(Stdio::null()).stdout(Stdio::piped());
        let mut keeper = command.spawn().unwrap();
        let mut made = Vec::new();
        let mut said = String::new();
        for line in BufReader::new(keeper.stdout.take().unwrap()).lines() {
            let line = line.unwrap();
            if line == "READY" {
                return Self { keeper, made };
            }
            if let Some(n) = line.strip_prefix("MADE ") {
                made.push(maps[n.parse::<usize>().unwrap()].clone());
            }
            said += &(line + "\n");
        }
        let ended = keeper.wait();
        panic!("the view was not made: {ended:?}: {said}");
    }

    /// The arguments with which `nsenter` goes there.
    pub fn enter(&self) -> Vec<String> {
        let process = self.keeper.id();
        vec![format!("--mount=/proc/{process}/ns/mnt"), format!("--root=/proc/{process}/root")]
    }
}

impl Drop for Viewed {
    fn drop(&mut self) {
        let _ = self.keeper.kill();
        let _ = self.keeper.wait();
    }
}

/// Where the view has the files of this test.
pub const TOOLS: &str = "/.tools";

/// Run by [`Viewed::new`] in a process of its own, which becomes the one that lives in the view.
#[test]
#[ignore = "makes a view and stays in it; other tests start it"]
fn makes() {
    let Ok(scratch) = std::env::var("TARVEK_STAGE") else { return };
    let scratch = Path::new(&scratch);
    unshare(CloneFlags::CLONE_NEWNS).unwrap();
    let private = MsFlags::MS_REC | MsFlags::MS_PRIVATE;
    mount(None::<&str>, "/", None::<&str>, private, None::<&str>).unwrap();
    let root = scratch.join("root");
    std::fs::create_dir_all(&root).unwrap();
    kernel::tmpfs(&root);
    for name in ["bin", "sbin", "lib", "lib64", "usr", "proc", "dev"] {
        let own = Path::new("/").join(name);
        match own.symlink_metadata() {
            Ok(meta) if meta.is_symlink() => {
                symlink(std::fs::read_link(&own).unwrap(), root.join(name)).unwrap();
            }
            Ok(_) => bind_all(&own, &root.join(name)),
            Err(_) => {}
        }
    }
    // Without the mounts below: the view is to have no others than those of its mappings.
    let tools = root.join(&TOOLS[1..]);
    std::fs::create_dir(&tools).unwrap();
    kernel::bind(scratch, &tools);
    let plan = std::fs::read(scratch.join("plan")).unwrap();
    let fields: Vec<&[u8]> = plan.split(|&b| b == 0).collect();
    println!();
    for (n, map) in fields.chunks_exact(3).enumerate() {
        let (from, to) =
            (Path::new(OsStr::from_bytes(map[0])), Path::new(OsStr::from_bytes(map[1])));
        let target = root.join(to.strip_prefix("/").unwrap());
        let mut new = Vec::new();
        let is_kept = from.as_os_str().is_empty();
        let placed = place_for(&root, &target, !is_kept && is_file_at(from), &mut new);
        let flags = MsFlags::MS_BIND | MsFlags::MS_REC;
        // A folder that was removed since it was bound can't be bound again.
        let bound = || mount(Some(from), &target, None::<&str>, flags, None::<&str>).is_ok();
        if !placed || !is_kept && !bound() {
            // An engine that fails leaves no service, and so no folders that it made for it.
            new.iter().rev().for_each(|folder| drop(std::fs::remove_dir(folder)));
            continue;
        }
        if !is_kept && map[2][0] == b'1' {
            read_only(&target, map[2][1] == b'1');
        }
        println!("MADE {n}");
    }
    let old = root.join("old");
    std::fs::create_dir(&old).unwrap();
    nix::unistd::pivot_root(&root, &old).unwrap();
    std::env::set_current_dir("/").unwrap();
    nix::mount::umount2("/old", nix::mount::MntFlags::MNT_DETACH).unwrap();
    std::fs::remove_dir("/old").unwrap();
    println!("READY");
    let error = Command::new("sleep").arg("3600").exec();
    panic!("{error}");
}

fn is_file_at(path: &Path) -> bool {
    std::fs::metadata(path).is_ok_and(|meta| meta.is_file())
}

fn bind_all(from: &Path, at: &Path) {
    std::fs::create_dir_all(at).unwrap();
    let flags = MsFlags::MS_BIND | MsFlags::MS_REC;
    mount(Some(from), at, None::<&str>, flags, None::<&str>).unwrap();
}

/// Makes the place where something is to be mounted, unless a symlink, a file or a read-only mount
/// is in the way.
fn place_for(root: &Path, target: &Path, file: bool, new: &mut Vec<PathBuf>) -> bool {
    let mut here = root.to_owned();
    for part in target.strip_prefix(root).unwrap() {
        here.push(part);
        let last = here == target;
        match here.symlink_metadata() {
            Ok(meta) if last && file => return meta.is_file(),
            Ok(meta) if meta.is_dir() => {}
            Ok(_) => return false,
            Err(_) if last && file => return std::fs::write(&here, "").is_ok(),
            Err(_) => {
                if std::fs::create_dir(&here).is_err() {
                    return false;
                }
                new.push(here.clone());
            }
        }
    }
    true
}

/// Makes a mount read-only, with those below it or without (`mount_setattr(2)`).
#[allow(unsafe_code)]
fn read_only(at: &Path, recursive: bool) {
    let path = std::ffi::CString::new(at.as_os_str().as_bytes()).unwrap();
    let attributes = nix::libc::mount_attr {
        attr_set: nix::libc::MOUNT_ATTR_RDONLY,
        attr_clr: 0,
        propagation: 0,
        userns_fd: 0,
    };
    let flags = if recursive { nix::libc::AT_RECURSIVE } else { 0 };
    // SAFETY: a system call on a path and a record that live until it returns.
    let done = unsafe {
        nix::libc::syscall(
            nix::libc::SYS_mount_setattr,
            nix::libc::AT_FDCWD,
            path.as_ptr(),
            flags,
            &raw const attributes,
            size_of_val(&attributes),
        )
    };
    assert_eq!(done, 0, "mount_setattr: {}", std::io::Error::last_os_error());
}
