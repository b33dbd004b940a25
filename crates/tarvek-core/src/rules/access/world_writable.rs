//! `access/world-writable`.

use crate::facts::mounts::MountEntry;
use crate::kernel::decide::{W, decide};
use crate::kernel::object::Object;
use crate::kernel::sticky::STICKY;
use crate::kernel::subject::{NOBODY, Subject};
use crate::remedy::apply_on_host::mount_with_masks;
use crate::rules::access::trees::{AlikeEntries, media, on_host};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::place::Place;
use crate::words::remedy::{Command, Remedy, Step};
use crate::words::rule::{Rule, Severity};
use crate::words::text::counted;

/// Anyone may write.
pub static RULE: Rule = Rule {
    id: "access/world-writable",
    severity: Severity::Risk,
    title: "Anyone may write",
    means: "Files or folders of a media share grant writing to everyone: by the mode's last digit, \
            or by an ACL entry for all.",
    hurts: "Every account and every program on every host that reaches the share can change and \
            delete them.",
    fix: "Take the permission away (chmod o-w), and give it to the group that needs it.",
    example: "/loft/media/incoming has mode 0777.",
};

/// Judges the media of every host.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    site.observed().filter_map(|(host, _)| judge_host(site, host, cases)).collect()
}

fn judge_host(site: &Site, host: &Name, cases: &[UsedPath]) -> Option<Finding> {
    // What anyone may do is what a stranger may; in a sticky folder they can't touch what others
    // have.
    let stranger = Subject::new(NOBODY - 1, NOBODY - 1, []);
    let mut open = AlikeEntries::default();
    let is_open = |object: &Object| {
        let sticky = object.is_folder() && object.meta.mode & STICKY != 0;
        let strange = object.meta.uid != stranger.uid && object.meta.gid != stranger.gid;
        (strange && !sticky && decide(object, &stranger, W).allowed).then_some(())
    };
    media(site, host, cases, is_open, |top, node, ()| open.add(top, node));
    let example = open.example(site, host)?;
    let count = counted(open.count, "entry");
    let message = format!("anyone may write {count} on {host}, such as {}", example.path);
    if let Some(mount) = mount_with_owners(site, &example) {
        let (dmask, fmask) = mount.masks();
        let masks = (dmask | u16::from(W), fmask | u16::from(W));
        let remedy = Remedy::of(mount_with_masks(host, mount, masks));
        return Some(on_host(&RULE, &example).says(message).remedy(remedy));
    }
    // Each of them wherever it is, and none that is as it should be.
    let find = open.tops(site, host).iter().fold(Command::new("find"), |find, top| find.arg(top));
    let command = find.args("! -type l ! ( -type d -perm -1000 ) -perm -0002 -exec chmod o-w {} +");
    Some(on_host(&RULE, &example).says(message).remedy(Step::run(host, command)))
}

/// The mount of a place, if its options say the modes of everything on it.
fn mount_with_owners<'s>(site: &'s Site, place: &Place) -> Option<&'s MountEntry> {
    let mount = site.mounts(&place.host)?.at(&place.path)?;
    mount.has_owners_by_option().then_some(mount)
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, done, local, nothing};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            local(|scene| {
                done(scene.tree(
                    "granary",
                    "d 0777 0:0 /loft/media/films/in\nf 0666 0:0 /loft/media/films/in/x",
                ))
            })
        },
        by_hand: nothing,
    };

    #[test]
    fn what_a_stranger_may_write_is_counted() {
        let mut scene = Scene::local();
        scene.tree("granary", "d 1777 0:0 /loft/media/films/upload\nf 0666 0:0 /srv/elsewhere");
        assert_eq!(scene.messages_of(&RULE), "");
        scene.tree("granary", "d 0777 0:0 /loft/media/films/in\nf 0666 0:0 /loft/media/films/in/x");
        let told = "anyone may write 2 entries on granary, such as /loft/media/films/in → on \
                    granary: find /loft/media/films '!' -type l '!' '(' -type d -perm -1000 ')' \
                    -perm -0002 -exec chmod o-w '{}' +";
        assert_eq!(scene.messages_of(&RULE), told);
    }
}
