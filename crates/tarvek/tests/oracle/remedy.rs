//! Remedies, carried out for real: they give what was asked, and change for others only what they
//! said.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::process::Command;

use tarvek_core::judge::verdict::Need;
use tarvek_core::kernel::subject::Subject;
use tarvek_core::layout::site::Layout;
use tarvek_core::remedy::access_request::{AccessRequest, remedy};
use tarvek_core::route::follow;
use tarvek_core::route::hops::View;
use tarvek_core::scan::read::below;
use tarvek_core::words::remedy::Step;

use crate::access::{self, Place, Tried};
use crate::kernel::{self, Setting, Who};
use crate::random::{self, GIDS, Random, UIDS};

#[test]
fn remedies_give_what_was_asked_and_say_what_else_they_change() {
    kernel::private_mounts();
    // Nobody's rights open what it keeps shut.
    let _open = Setting::set("fs/protected_symlinks", 0);
    let mut random = Random::from_env("remedies");
    let (mut tried, mut wide, mut effects, mut none) = (0u64, 0u64, 0u64, 0u64);
    let mut lost_some = 0u64;
    for n in 0..random::cases(30) {
        let place = Place::new();
        let top = place.top();
        let mut paths = access::grow(&mut random, &top, false);
        let people = people(&mut random);
        let layout = layout(&people);
        let site = access::look(&top, layout.clone());
        let host = access::host(&site);
        paths.retain(|path| *path != top);
        if paths.is_empty() {
            access::clear(&top);
            continue;
        }
        let (name, who) = random.one(&people).clone();
        let path = random.one(&paths).clone();
        let kind = path.symlink_metadata().unwrap().file_type();
        let all = kind.is_dir() && random.rarely(2);
        let need = match (kind.is_dir(), random.below(3)) {
            _ if all => Need::Read,
            (_, 0) => Need::Read,
            (_, 1) => Need::Remove,
            (true, _) => Need::Add,
            (false, _) => Need::Write,
        };
        let subject = Subject::new(who.uid, who.gid, who.groups.iter().copied());
        let view = View::Host(host.clone());
        let asked = access::abs(&path);
        let wish = AccessRequest {
            view: &view,
            path: asked.as_bytes(),
            subject: &subject,
            needs: &[need],
            below: all,
        };
        let before: Vec<Tried> = people
            .iter()
            .map(|(_, who)| access::attempt(who, None, &paths, place.folder()))
            .collect();
        let mine = people.iter().position(|(known, _)| *known == name).unwrap();
        let fine = |tried: &Tried| {
            let came = &tried[&(path.clone(), need.word())];
            came == "ok"
        };
        let context =
            format!("{} of {path:?} (below: {all}) by {name} {who:?}, tree {n}", need.word());
        let Some(found) = remedy(&site, &wish) else {
            let readable =
                !all || below(&site, &follow(&site, &view, &asked, &subject)).unreadable == 0;
            let came = &before[mine][&(path.clone(), need.word())];
            // Who may not take away what is covered there meets that before the mount.
            let busy = came == "EBUSY" || need == Need::Remove && mounted(&path);
            let much = all && (nested_mounts(&path) || flagged(&path) > 4);
            assert!(
                fine(&before[mine]) && readable || busy || much,
                "no remedy for {context}: {came}"
            );
            none += 1;
            access::clear(&top);
            continue;
        };
        tried += 1;
        for step in &found.steps {
            assert_eq!(step.host(), Some(&host));
            // What is for a person to do makes it last beyond the next boot, which no test awaits.
            let Step::Run { run, .. } = step else { continue };
            let done = Command::new("sh").args(["-ec", &run.to_string()]).output().unwrap();
            let errors = String::from_utf8_lossy(&done.stderr);
            assert!(done.status.success(), "{step}: {errors} ({context})");
        }
        let text = found.to_string();
        let after: Vec<Tried> = people
            .iter()
            .map(|(_, who)| access::attempt(who, None, &paths, place.folder()))
            .collect();
        assert!(fine(&after[mine]), "{text} did not help: {context}");
        if all {
            wide += 1;
            let inside = |other: &PathBuf| {
                other.starts_with(&path) && other.extension().is_none_or(|e| e != "fifo")
            };
            for ((other, need), came) in &after[mine] {
                assert!(
                    !inside(other) || *need != "read" || came == "ok",
                    "{text} left {other:?}: {context}"
                );
            }
        }
        // Nor does it take from whom it is for, unsaid.
        let lost: BTreeSet<_> = before[mine]
            .iter()
            .filter(|(key, came)| *came == "ok" && after[mine][*key] != "ok")
            .collect();
        let said =
            |line: &String| line.starts_with(&format!("account:{name} could then no longer"));
        assert!(
            lost.is_empty() || found.effects.iter().any(said),
            "{text} took {lost:?} from {name} unsaid: {:?}: {context}",
            found.effects
        );
        lost_some += u64::from(!lost.is_empty());
        for (index, (other, _)) in people.iter().enumerate().filter(|(index, _)| *index != mine) {
            let differs: BTreeSet<_> = before[index]
                .iter()
                .filter(|(key, came)| came_differs(came, &after[index][*key]))
                .collect();
            let said = found.effects.iter().any(|line| {
                line.contains(&format!("account:{other} "))
                    || line.contains("becomes writable")
                    || line.starts_with("whoever")
            });
            if !differs.is_empty() {
                assert!(
                    said,
                    "{text} changed {differs:?} for {other} unsaid: {:?}: {context}",
                    found.effects
                );
                effects += 1;
            }
        }
        access::clear(&top);
    }
    eprintln!(
        "remedies: {tried} carried out, {wide} of them for whole trees, {effects} with effects on \
         others, {lost_some} that take something from whom they are for, {none} had nothing to \
         offer"
    );
    assert!(tried > 3, "hardly anything was refused");
}

/// What matters is whether it was possible.
fn came_differs(before: &str, after: &str) -> bool {
    (before == "ok") != (after == "ok")
}

/// Some accounts, each with a number of its own.
fn people(random: &mut Random) -> Vec<(String, Who)> {
    UIDS[1..]
        .iter()
        .enumerate()
        .map(|(n, uid)| {
            let groups: Vec<u32> = (0..random.below(3)).map(|_| *random.one(&GIDS[1..])).collect();
            (format!("person{n}"), Who { uid: *uid, gid: *random.one(&GIDS[1..]), groups })
        })
        .collect()
}

fn layout(people: &[(String, Who)]) -> Layout {
    let host = nix::unistd::gethostname().unwrap().into_string().unwrap();
    let groups: Vec<String> = GIDS[1..].iter().map(|gid| format!("g{gid} = {gid}")).collect();
    let accounts: Vec<String> = people
        .iter()
        .map(|(name, who)| {
            let groups: Vec<String> = who.groups.iter().map(|gid| format!("\"g{gid}\"")).collect();
            format!(
                "{name} = {{ uid = {}, gid = {}, groups = [{}] }}",
                who.uid,
                who.gid,
                groups.join(", ")
            )
        })
        .collect();
    let text = format!(
        "tarvek = 1\nsite = \"x\"\n[host.{host:?}]\nrole = \"storage\"\ngroups = {{ {} }}\n\
         accounts = {{ {} }}\n",
        groups.join(", "),
        accounts.join(", ")
    );
    tarvek_formats::layout::read("layout", text.as_bytes()).unwrap()
}

/// Whether something is mounted exactly there.
fn mounted(path: &Path) -> bool {
    Command::new("mountpoint").arg("-q").arg(path).status().unwrap().success()
}

/// Whether something is mounted below a folder.
fn nested_mounts(folder: &Path) -> bool {
    let table = std::fs::read_to_string("/proc/thread-self/mountinfo").unwrap();
    let points = table.lines().map(|line| line.split(' ').nth(4).unwrap().to_owned());
    let folder = folder.to_str().unwrap().replace('\\', "\\134");
    let folder = folder.replace(' ', "\\040").replace('\n', "\\012");
    points.into_iter().any(|point| point.starts_with(&format!("{folder}/")))
}

/// How many entries of a tree carry a flag that refuses even root.
fn flagged(folder: &Path) -> usize {
    let listed = Command::new("lsattr").args(["-R", "-a", "-d"]).arg(folder).output().unwrap();
    let below = Command::new("lsattr").args(["-R", "-a"]).arg(folder).output().unwrap();
    let text = [listed.stdout, below.stdout].concat();
    let text = String::from_utf8_lossy(&text);
    let flags = text.lines().filter_map(|line| line.split(' ').next());
    flags.filter(|flags| flags.starts_with('-') && flags.contains(['i', 'a'])).count()
}
