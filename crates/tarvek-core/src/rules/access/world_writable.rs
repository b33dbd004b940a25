//! `access/world-writable`.

use std::collections::BTreeSet;

use crate::facts::mounts::MountEntry;
use crate::facts::tree::Lookup;
use crate::kernel::decide::{W, decide};
use crate::kernel::object::{Edit, Object};
use crate::kernel::sticky::STICKY;
use crate::kernel::subject::{NOBODY, Subject};
use crate::remedy::apply_on_host::mount_with_masks;
use crate::remedy::effects::effects;
use crate::rules::access::trees::{AlikeEntries, media, on_host};
use crate::site::join::Site;
use crate::site::suppose::Change;
use crate::used::used_path::{UsedPath, stays_usable};
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
    let (mut all, mut by_mode, mut by_acl) =
        (AlikeEntries::default(), AlikeEntries::default(), AlikeEntries::default());
    let is_open = |object: &Object| {
        let sticky = object.is_folder() && object.meta.mode & STICKY != 0;
        let strange = object.meta.uid != stranger.uid && object.meta.gid != stranger.gid;
        (strange && !sticky && decide(object, &stranger, W).allowed).then(|| object.nfs4.is_some())
    };
    media(site, host, cases, is_open, |top, node, has_acl| {
        all.add(top, node);
        if has_acl { &mut by_acl } else { &mut by_mode }.add(top, node);
    });
    let example = all.example(site, host)?;
    let count = counted(all.count, "entry");
    let message = format!("anyone may write {count} on {host}, such as {}", example.path);
    let finding = on_host(&RULE, &example).says(message);
    if let Some(mount) = mount_with_owners(site, &example) {
        let (dmask, fmask) = mount.masks();
        let masks = (dmask | u16::from(W), fmask | u16::from(W));
        return Some(finding.remedy(Remedy::of(mount_with_masks(
            host,
            mount,
            mount.access(),
            masks,
        ))));
    }
    let of_acls = by_acl.example(site, host).map(|example| {
        let words = format!(
            "take writing from EVERYONE@ in the NFSv4 ACLs of {}, such as that of {} \
             (nfs4_editfacl)",
            counted(by_acl.count, "entry"),
            example.path
        );
        Step::on(host, words)
    });
    let of_modes = (by_mode.count > 0).then(|| without_others(site, host, cases, &by_mode));
    let mut remedy = of_modes.unwrap_or_default();
    remedy.steps.extend(of_acls);
    Some(finding.remedy(remedy))
}

/// Takes writing from others below the places where somebody has it by the mode, and says who loses
/// what by that; if a service needs it, in words alone.
fn without_others(site: &Site, host: &Name, cases: &[UsedPath], open: &AlikeEntries) -> Remedy {
    let tops = open.tops(site, host);
    let nodes = tops.iter().filter_map(|top| match site.tree(host)?.find(top) {
        Lookup::Found(node) => Some(node),
        _ => None,
    });
    let change = |at| Change { host: host.clone(), at, below: true, edit: Edit::NotByOthers };
    let changes: Vec<Change> = nodes.map(change).collect();
    let after = changes.iter().fold(site.clone(), |site, change| site.supposing(change.clone()));
    let losing: BTreeSet<&Name> = cases
        .chunks(1)
        .filter(|case| !stays_usable(case, site, &after))
        .map(|case| &case[0].service.name)
        .collect();
    if !losing.is_empty() {
        let names: Vec<String> = losing.iter().map(ToString::to_string).collect();
        return Remedy::of(vec![Step::on(
            host,
            format!(
                "give {} what they need by a group or an ACL entry, and then take writing from \
                 others (chmod o-w): without it they could not do what they have to",
                names.join(", ")
            ),
        )]);
    }
    // Each of them wherever it is, and none that is as it should be.
    let find = tops.iter().fold(Command::new("find"), |find, top| find.arg(top));
    let command = find.args("! -type l ! ( -type d -perm -1000 ) -perm -0002 -exec chmod o-w {} +");
    let stranger = Subject::new(NOBODY - 1, NOBODY - 1, []);
    let effects = effects(site, &after, &changes, &stranger, false);
    Remedy { steps: vec![Step::run(host, command)], effects }
}

/// The mount of a place, if its options say the modes of everything on it.
fn mount_with_owners<'s>(site: &'s Site, place: &Place) -> Option<&'s MountEntry> {
    let mount = site.mounts(&place.host)?.at(&place.path)?;
    mount.has_owners_by_option().then_some(mount)
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::kernel::nfs4::Nfs4Acl;
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
        scene.tree("granary", "f 0666 0:0 /loft/media/films/.tarvek-held/000001");
        assert_eq!(scene.messages_of(&RULE), "", "what was taken away is nobody's any more");
        scene.tree("granary", "d 0777 0:0 /loft/media/films/in\nf 0666 0:0 /loft/media/films/in/x");
        let told = "anyone may write 2 entries on granary, such as /loft/media/films/in → on \
                    granary: find /loft/media/films '!' -type l '!' '(' -type d -perm -1000 ')' \
                    -perm -0002 -exec chmod o-w '{}' +";
        assert_eq!(scene.messages_of(&RULE), told);
    }

    #[test]
    fn who_needs_it_is_named_before_it_is_taken() {
        let mut scene = Scene::local().with_intake();
        scene.tree("granary", "d 0777 0:0 /loft/media/intake/done");
        let told = scene.messages_of(&RULE);
        assert!(told.contains("give drover what they need by a group"), "{told}");
        let mut scene = Scene::local();
        scene.tree("granary", "f 0666 0:0 /loft/media/films/list");
        let open = Nfs4Acl::of_text(["A::EVERYONE@:rw"]);
        scene.nfs4("granary", "/loft/media/films/list", open);
        let told = scene.messages_of(&RULE);
        assert!(told.ends_with("(nfs4_editfacl)") && !told.contains("chmod"), "{told}");
    }
}
