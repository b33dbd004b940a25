//! Accounts that the tests make known to this process, its servers and the layouts, and the client
//! from which they come.

use std::path::Path;

use tarvek_core::facts::host::HostFacts;

use crate::kernel::{self, Who};
use crate::random::{GIDS, UIDS};

pub fn every_group(people: &[Who]) -> Vec<u32> {
    let mut all: Vec<u32> =
        people.iter().flat_map(|who| &who.groups).chain(GIDS).copied().collect();
    all.sort_unstable();
    all.dedup();
    all
}

/// The people with a number of their own each: an account database has one line for it.
pub fn distinct(people: &[Who]) -> Vec<&Who> {
    UIDS.iter().filter_map(|uid| people.iter().find(|who| who.uid == *uid)).collect()
}

/// The accounts and groups of some people, as a host's table in a layout declares them.
pub fn declared(people: &[Who]) -> String {
    let groups: Vec<String> =
        every_group(people).iter().map(|gid| format!("g{gid} = {gid}")).collect();
    let accounts: Vec<String> = distinct(people)
        .iter()
        .map(|who| {
            let groups: Vec<String> = who.groups.iter().map(|gid| format!("\"g{gid}\"")).collect();
            format!(
                "{} = {{ uid = {}, gid = {}, groups = [{}] }}",
                name(who),
                who.uid,
                who.gid,
                groups.join(", ")
            )
        })
        .collect();
    format!("groups = {{ {} }}\naccounts = {{ {} }}\n", groups.join(", "), accounts.join(", "))
}

/// What somebody is called.
pub fn name(who: &Who) -> String {
    if who.uid == 0 { "root".to_owned() } else { format!("u{}", who.uid) }
}

/// Gives this process, and the servers that it starts, accounts of its own to look up.
pub fn make_known(people: Vec<&Who>, scratch: &Path) {
    let mut passwd = "nobody:x:65534:65534::/:/bin/false\n".to_owned();
    if people.iter().all(|who| who.uid != 0) {
        passwd += "root:x:0:0::/:/bin/false\n";
    }
    for who in &people {
        passwd += &format!("{}:x:{}:{}::/:/bin/false\n", name(who), who.uid, who.gid);
    }
    let mut group = "nogroup:x:65534:\n".to_owned();
    let all: Vec<Who> = people.iter().copied().cloned().collect();
    for gid in every_group(&all) {
        let members = people.iter().filter(|who| who.groups.contains(&gid));
        let members: Vec<String> = members.map(|who| name(who)).collect();
        group += &format!("g{gid}:x:{gid}:{}\n", members.join(","));
    }
    for (file, text) in [("passwd", passwd), ("group", group)] {
        let own = scratch.join(file);
        std::fs::write(&own, text).unwrap();
        kernel::bind(&own, &Path::new("/etc").join(file));
    }
}

/// Takes them back.
pub fn forget() {
    for name in ["/etc/passwd", "/etc/group"] {
        nix::mount::umount2(name, nix::mount::MntFlags::MNT_DETACH).unwrap();
    }
}

/// What a look at a client shows that has something mounted at `/mnt`.
pub fn client(filesystem: &str, source: &str, options: &str) -> HostFacts {
    let text = format!(
        "tarvek-listing 1\nhost client\ntaken 1795156200\nuid 0\nsection mountinfo\n|24 1 8:2 / / \
         rw - ext4 /dev/sda2 rw\n\
         |30 24 0:40 / /mnt rw - {filesystem} {source} {options}\nend mountinfo\nsection roots\n\
         |names /\nend roots\n\
         section tree type mode uid gid size allocated inode links mtime device path\n|d 0755 0 0 \
         0 0 1 1 0 - /\n\
         |d 0755 0 0 0 0 2 1 0 - /mnt\nend tree\ncomplete\n"
    );
    tarvek_formats::listing::read("client", text.as_bytes())
        .unwrap_or_else(|error| panic!("{error:?}\n{text}"))
}

pub fn wait_for(what: &str, done: impl Fn() -> bool) {
    for _ in 0..300 {
        if done() {
            return;
        }
        std::thread::sleep(std::time::Duration::from_millis(50));
    }
    panic!("{what} did not start");
}
