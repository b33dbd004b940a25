//! What new files and folders become, against really making them: owner, group, mode and both ACLs,
//! under random umasks and modes, in setgid folders, below default ACLs, on filesystems with
//! `grpid`, and from inside user namespaces.

use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

use nix::sys::stat::Mode;
use tarvek_core::facts::tree::Lookup;
use tarvek_core::judge::made::new_entry;
use tarvek_core::kernel::entry::EntryKind;
use tarvek_core::kernel::new_entry::Making;
use tarvek_core::kernel::object::Object;
use tarvek_core::kernel::subject::Subject;
use tarvek_core::route::follow;
use tarvek_core::route::hops::View;
use tarvek_core::site::join::Site;

use crate::access::{self, Place};
use crate::kernel::{self, Space, Who};
use crate::random::{self, Random};

const UMASKS: &[u16] = &[0o022, 0o002, 0o077, 0o000, 0o027, 0o777];
const FILES: &[u16] = &[0o666, 0o644, 0o600, 0o660, 0o000, 0o755];
const FOLDERS: &[u16] = &[0o777, 0o755, 0o700, 0o3777];

#[test]
fn new_entries_become_what_is_predicted() {
    kernel::private_mounts();
    let mut random = Random::from_env("new files");
    let (mut made, mut refused) = (0u64, 0u64);
    for n in 0..random::cases(24) {
        let place = Place::new();
        let top = place.top();
        match random.below(3) {
            0 => kernel::tmpfs(&top),
            1 => kernel::ext4(&top, place.folder(), "grpid"),
            _ => {}
        }
        let paths = random::tree(&mut random, &top, 3);
        let mut folders: Vec<PathBuf> = paths.into_iter().filter(|path| path.is_dir()).collect();
        folders.push(top.clone());
        for folder in folders.iter().rev() {
            random::rights(&mut random, folder);
            random::inheritance(&mut random, folder);
        }
        let space = random.rarely(3).then(|| Space::new(access::id_map(&mut random, false)));
        let layout = match &space {
            Some(space) => access::contained(&top, &space.map, false),
            None => Default::default(),
        };
        let site = access::look(&top, layout.clone());
        for turn in 0..6 {
            let who = match &space {
                Some(space) => access::inhabitant(&mut random, &space.map),
                None => access::subject(&mut random),
            };
            let (umask, file, folder) =
                (*random.one(UMASKS), *random.one(FILES), *random.one(FOLDERS));
            make(&who, space.as_ref(), &folders, place.folder(), [umask, file, folder], turn);
            let after = access::look(&top, layout.clone());
            for parent in &folders {
                for (name, asked) in [("file", file), ("folder", folder)] {
                    let path = parent.join(format!("new {name} {turn}"));
                    let Some(found) = seen(&after, &path) else {
                        refused += 1;
                        continue;
                    };
                    let making = Making { asked, ..Making::usual(name == "folder", umask) };
                    let predicted = predict(&site, &top, parent, &who, space.is_some(), making);
                    let context = format!(
                        "{path:?} of mode {asked:o} with umask {umask:o} by {who:?}, tree {n}"
                    );
                    let predicted =
                        predicted.unwrap_or_else(|| panic!("nothing is predicted for {context}"));
                    assert_eq!(words(&predicted), words(&found), "{context}");
                    made += 1;
                }
            }
            for parent in &folders {
                let _ = std::fs::remove_file(parent.join(format!("new file {turn}")));
                let _ = std::fs::remove_dir(parent.join(format!("new folder {turn}")));
            }
        }
        access::clear(&top);
    }
    eprintln!("new files: {made} made, {refused} refused");
    assert!(made > 100, "hardly anything could be made");
}

fn seen<'a>(site: &'a Site, path: &Path) -> Option<Object<'a>> {
    let host = access::host(site);
    let place = access::abs(path);
    match site.tree(&host)?.find(&place) {
        Lookup::Found(node) => site.object(&host, node),
        _ => None,
    }
}

fn predict<'a>(
    site: &'a Site,
    top: &Path,
    parent: &Path,
    who: &Who,
    contained: bool,
    making: Making,
) -> Option<Object<'a>> {
    let subject = Subject::new(who.uid, who.gid, who.groups.iter().copied());
    let (view, path) = if contained {
        let inside = Path::new("/view").join(parent.strip_prefix(top).unwrap());
        (View::service("lantern"), inside)
    } else {
        (View::Host(access::host(site)), parent.to_owned())
    };
    new_entry(site, &follow(site, &view, &access::abs(&path), &subject), making)
}

pub fn words(object: &Object) -> String {
    let acl = |acl: &Option<std::borrow::Cow<tarvek_core::kernel::acl::Acl>>| {
        acl.as_ref().map_or_else(|| "-".to_owned(), ToString::to_string)
    };
    let meta = &object.meta;
    let kind = if meta.kind == EntryKind::Folder { "folder" } else { "file" };
    format!(
        "{kind} {:04o} {}:{} {} {}",
        meta.mode,
        meta.uid,
        meta.gid,
        acl(&object.acl),
        acl(&object.default_acl)
    )
}

/// Makes a file and a folder in each of some folders as somebody else, where that is possible.
fn make(
    who: &Who,
    space: Option<&Space>,
    folders: &[PathBuf],
    scratch: &Path,
    modes: [u16; 3],
    turn: u32,
) {
    let program = kernel::own_program(scratch);
    let list = scratch.join("folders");
    access::write_paths(&list, folders);
    let mut command = kernel::become_account(who, space);
    command.arg(program).args(["newfile::makes", "--exact", "--ignored", "--nocapture"]);
    let [umask, file, folder] = modes;
    command
        .env("TARVEK_MAKE", &list)
        .env("TARVEK_MODES", format!("{umask} {file} {folder} {turn}"));
    let output = command.current_dir("/").output().expect("setpriv");
    let text = String::from_utf8_lossy(&output.stdout);
    assert!(text.contains("MADE ALL"), "{text}{}", String::from_utf8_lossy(&output.stderr));
}

/// Run by [`make`] in a process of its own.
#[test]
#[ignore = "makes as somebody else; other tests start it"]
fn makes() {
    let Ok(list) = std::env::var("TARVEK_MAKE") else { return };
    let modes: Vec<u32> = std::env::var("TARVEK_MODES")
        .unwrap()
        .split(' ')
        .map(|word| word.parse().unwrap())
        .collect();
    let [umask, file, folder, turn] = modes[..] else { panic!("{modes:?}") };
    nix::sys::stat::umask(Mode::from_bits_truncate(umask));
    for parent in access::read_paths(Path::new(&list)) {
        let mut open = std::fs::OpenOptions::new();
        let _ = open
            .write(true)
            .create_new(true)
            .mode(file)
            .open(parent.join(format!("new file {turn}")));
        let _ = std::fs::DirBuilder::new()
            .mode(folder)
            .create(parent.join(format!("new folder {turn}")));
    }
    println!("\nMADE ALL");
}
