//! The kernel's side: mounts that nobody else sees, user namespaces, and attempts as somebody else.

use std::fs::File;
use std::os::fd::AsRawFd;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};

use nix::mount::{MsFlags, mount};
use nix::sched::{CloneFlags, unshare};
use tarvek_core::kernel::subject::IdMap;
use tarvek_core::kernel::subject::IdRange;

/// A setting of the kernel (sysctl(8)), put back when this ends.
pub struct Setting {
    file: PathBuf,
    before: String,
}

impl Setting {
    /// Sets it, named by its place below `/proc/sys`.
    pub fn set(name: &str, value: u64) -> Self {
        let file = Path::new("/proc/sys").join(name);
        let before = std::fs::read_to_string(&file).unwrap();
        std::fs::write(&file, value.to_string()).unwrap();
        Self { file, before }
    }
}

impl Drop for Setting {
    fn drop(&mut self) {
        if let Err(error) = std::fs::write(&self.file, &self.before) {
            eprintln!("{}: {error}", self.file.display());
        }
    }
}

/// Moves this thread, and what it starts, into mounts of its own.
pub fn private_mounts() {
    assert!(nix::unistd::geteuid().is_root(), "the oracle lane needs root");
    unshare(CloneFlags::CLONE_NEWNS).expect("a mount namespace");
    mount(None::<&str>, "/", None::<&str>, MsFlags::MS_REC | MsFlags::MS_PRIVATE, None::<&str>)
        .unwrap();
}

/// The modes and owners along a path, for the message of a failed case.
pub fn listing(path: &Path) -> String {
    let chain: Vec<&Path> = path.ancestors().take(5).collect();
    let output = Command::new("stat").args(["-c", "%04a %u:%g %n"]).args(chain).output().unwrap();
    String::from_utf8_lossy(&output.stdout).into_owned()
}

pub fn tmpfs(at: &Path) {
    mount(Some("tmpfs"), at, Some("tmpfs"), MsFlags::empty(), Some("mode=755")).unwrap();
}

/// A small ext4 filesystem of its own.
pub fn ext4(at: &Path, scratch: &Path, options: &str) {
    let image = scratch.join("image");
    File::create(&image).unwrap().set_len(32 << 20).unwrap();
    let made = Command::new("mkfs.ext4").arg("-q").arg(&image).status().unwrap();
    assert!(made.success(), "mkfs.ext4");
    let options = format!("loop,{options}");
    let mounted =
        Command::new("mount").args(["-o", &options]).arg(&image).arg(at).status().unwrap();
    assert!(mounted.success(), "mount -o {options}");
}

pub fn bind(from: &Path, at: &Path) {
    mount(Some(from), at, None::<&str>, MsFlags::MS_BIND, None::<&str>).unwrap();
}

/// A user namespace with a map of its own, kept by a process that does nothing. It ends with this.
pub struct Space {
    pub map: IdMap,
    keeper: Child,
}

impl Space {
    pub fn new(map: IdMap) -> Self {
        let keeper = Command::new("unshare")
            .args(["--user", "sleep", "3600"])
            .stdin(Stdio::null())
            .spawn()
            .expect("unshare");
        let process = keeper.id();
        let own = std::fs::read_link("/proc/self/ns/user").unwrap();
        let theirs = || std::fs::read_link(format!("/proc/{process}/ns/user"));
        while theirs().is_ok_and(|theirs| theirs == own) {
            std::thread::sleep(std::time::Duration::from_millis(2));
        }
        for (file, ranges) in [("uid_map", &map.uids), ("gid_map", &map.gids)] {
            let line = |r: &IdRange| format!("{} {} {}\n", r.inside, r.outside, r.count);
            let text: String = ranges.iter().map(line).collect();
            std::fs::write(format!("/proc/{process}/{file}"), text).expect(file);
        }
        Self { map, keeper }
    }

    /// The argument with which `nsenter` goes there.
    pub fn files(&self) -> [String; 1] {
        [format!("--user=/proc/{}/ns/user", self.keeper.id())]
    }

    /// A command that runs what follows it as root of the namespace.
    fn enter(&self) -> Command {
        let mut command = Command::new("nsenter");
        let target = format!("--target={}", self.keeper.id());
        command.args([&target, "--user", "--setuid=0", "--setgid=0"]);
        command
    }

    /// Shows a folder at a second place through a mount that is idmapped to the namespace
    /// (`mount_setattr(2)`).
    #[allow(unsafe_code)]
    pub fn idmapped(&self, folder: &Path, at: &Path) {
        let namespace = File::open(format!("/proc/{}/ns/user", self.keeper.id())).unwrap();
        let path = |path: &Path| std::ffi::CString::new(path.as_os_str().as_bytes()).unwrap();
        let (from, to) = (path(folder), path(at));
        // SAFETY: these are system calls on paths and descriptors that live until they return.
        unsafe {
            let all = nix::libc::AT_RECURSIVE;
            let how = nix::libc::OPEN_TREE_CLONE | (nix::libc::O_CLOEXEC | all) as u32;
            let tree = nix::libc::syscall(
                nix::libc::SYS_open_tree,
                nix::libc::AT_FDCWD,
                from.as_ptr(),
                how,
            );
            assert!(tree >= 0, "open_tree: {}", std::io::Error::last_os_error());
            let attributes = nix::libc::mount_attr {
                attr_set: nix::libc::MOUNT_ATTR_IDMAP,
                attr_clr: 0,
                propagation: 0,
                userns_fd: namespace.as_raw_fd() as u64,
            };
            let size = size_of_val(&attributes);
            let done = nix::libc::syscall(
                nix::libc::SYS_mount_setattr,
                tree,
                c"".as_ptr(),
                nix::libc::AT_EMPTY_PATH | all,
                &raw const attributes,
                size,
            );
            assert_eq!(done, 0, "mount_setattr: {}", std::io::Error::last_os_error());
            let done = nix::libc::syscall(
                nix::libc::SYS_move_mount,
                tree,
                c"".as_ptr(),
                nix::libc::AT_FDCWD,
                to.as_ptr(),
                nix::libc::MOVE_MOUNT_F_EMPTY_PATH,
            );
            assert_eq!(done, 0, "move_mount: {}", std::io::Error::last_os_error());
            nix::libc::close(tree as i32);
        }
    }
}

impl Drop for Space {
    fn drop(&mut self) {
        let _ = self.keeper.kill();
        let _ = self.keeper.wait();
    }
}

/// Who tries.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Who {
    pub uid: u32,
    pub gid: u32,
    pub groups: Vec<u32>,
}

/// This program, where every account can start it.
pub fn own_program(scratch: &Path) -> PathBuf {
    let program = scratch.join("looker");
    if !program.exists() {
        std::fs::copy(std::env::current_exe().unwrap(), &program).unwrap();
    }
    program
}

/// A command that runs what follows it as somebody else, inside a namespace where one is given.
pub fn become_account(who: &Who, space: Option<&Space>) -> Command {
    let mut command = match space {
        Some(space) => {
            let mut command = space.enter();
            command.arg("setpriv");
            command
        }
        None => Command::new("setpriv"),
    };
    command.args([format!("--reuid={}", who.uid), format!("--regid={}", who.gid)]);
    match who.groups.as_slice() {
        [] => command.arg("--clear-groups"),
        groups => {
            let list: Vec<String> = groups.iter().map(ToString::to_string).collect();
            command.arg(format!("--groups={}", list.join(",")))
        }
    };
    command
}

/// What somebody found in a folder, by really looking.
#[derive(Debug, Default, PartialEq)]
pub struct Found {
    /// Whether the folder itself could be listed and entered.
    pub root: bool,
    /// Entries below that could be listed and read.
    pub readable: u64,
    /// The films among them, as paths below the folder.
    pub films: Vec<PathBuf>,
}

/// Looks into folders as somebody else, in a process that has become that account.
pub fn look_as(who: &Who, folders: &[PathBuf], scratch: &Path) -> Vec<Found> {
    let program = own_program(scratch);
    let list = folders.iter().map(|f| f.to_str().unwrap()).collect::<Vec<_>>().join(":");
    let mut command = become_account(who, None);
    command.arg(&program).args(["kernel::look", "--exact", "--ignored", "--nocapture"]);
    let output = command.env("TARVEK_LOOK", list).current_dir("/").output().expect("setpriv");
    let text = String::from_utf8(output.stdout).unwrap();
    let answers = text.lines().filter_map(|line| line.split_once("LOOKED ").map(|(_, json)| json));
    let found: Vec<Found> = answers
        .map(|json| {
            let value: serde_json::Value = serde_json::from_str(json).unwrap();
            let film = |path: &serde_json::Value| PathBuf::from(path.as_str().unwrap());
            Found {
                root: value["root"].as_bool().unwrap(),
                readable: value["readable"].as_u64().unwrap(),
                films: value["films"].as_array().unwrap().iter().map(film).collect(),
            }
        })
        .collect();
    assert_eq!(found.len(), folders.len(), "{text}{}", String::from_utf8_lossy(&output.stderr));
    found
}

/// Run by [`look_as`] in a process of its own.
#[test]
#[ignore = "looks as somebody else; other tests start it"]
fn look() {
    let Ok(folders) = std::env::var("TARVEK_LOOK") else { return };
    for folder in folders.split(':') {
        let folder = Path::new(folder);
        let mut found = Found { root: can_list(folder), ..Found::default() };
        if found.root {
            below(folder, folder, &mut found);
        }
        let films: Vec<_> = found.films.iter().map(|film| film.to_string_lossy()).collect();
        println!(
            "\nLOOKED {}",
            serde_json::json!({ "root": found.root, "readable": found.readable, "films": films })
        );
    }
}

fn can_list(folder: &Path) -> bool {
    std::fs::read_dir(folder).is_ok() && std::fs::metadata(folder.join(".")).is_ok()
}

fn below(top: &Path, folder: &Path, found: &mut Found) {
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        let Ok(meta) = std::fs::symlink_metadata(&path) else { continue };
        if meta.is_dir() {
            if can_list(&path) {
                found.readable += 1;
                below(top, &path, found);
            }
        } else if meta.is_symlink() {
            // One that leads nowhere is no matter of rights; one that the kernel protects is.
            let denied = std::io::ErrorKind::PermissionDenied;
            let followed = std::fs::metadata(&path);
            found.readable += u64::from(!followed.is_err_and(|error| error.kind() == denied));
        } else if !meta.is_file() {
            found.readable += 1;
        } else if std::fs::File::open(&path).is_ok() {
            found.readable += 1;
            if path.extension().is_some_and(|ending| ending == "mkv") {
                found.films.push(path.strip_prefix(top).unwrap().to_owned());
            }
        }
    }
}
