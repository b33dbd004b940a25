//! `mount/client-ids`.

use crate::judge::access_check::judge;
use crate::judge::verdict::{Refusal, Verdict};
use crate::rules::mount::{mount_above, set_ids};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};

/// Options that shut a service out.
pub static RULE: Rule = Rule {
    id: "mount/client-ids",
    severity: Severity::Blocker,
    title: "The options of an SMB mount shut a service out",
    means: "A client checks by itself what the options uid=, gid=, file_mode= and dir_mode= say of \
            every file of an SMB mount, whatever the server would allow (mount.cifs(8)).",
    hurts: "The server lets the user in, and the client shuts the service out: it sees nothing, or \
            can't write.",
    fix: "Give the mount the uid and gid of the service, or modes that let it in.",
    example: "The mount has uid=0 and dir_mode=0700; lantern runs as 840.",
};

/// Judges one place that a service uses.
pub fn find(site: &Site, case: &UsedPath) -> Vec<Finding> {
    let Some(route) = &case.route else { return Vec::new() };
    let answer = judge(site, route, case.need());
    let Verdict::Refused { why, refusal: Refusal::Options(_), .. } = &answer.verdict else {
        return Vec::new();
    };
    let at = answer.decided_at.clone();
    let mount = mount_above(site, &at);
    let subject = route
        .hops
        .iter()
        .rev()
        .find(|hop| hop.to.host == at.host)
        .map_or(&case.subject, |hop| &hop.subject);
    let steps = set_ids(site, &at, &[("uid", subject.uid), ("gid", subject.gid)]);
    let finding =
        case.finding(&RULE).at(&at).known(answer.evidence).says(why.clone()).remedy(steps);
    vec![match mount {
        Some(mount) => finding.line(mount.origin.line),
        None => finding,
    }]
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, over};
    use crate::tests::{Scene, mounts};
    use crate::words::options::MountOptions;
    use crate::words::terms::Protocol;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            over(Protocol::Smb, |scene| {
                let table = "1 0 8:1 / / ext4 /dev/sda1 rw\n\
                                 2 1 0:9 / /mnt/media cifs //granary.lan/media \
                                 ro,uid=0,gid=0,dir_mode=0700";
                scene.facts("millrace").mounts = Some(mounts(table));
            })
        },
        by_hand: |scene| {
            let table = "1 0 8:1 / / ext4 /dev/sda1 rw\n\
                             2 1 0:9 / /mnt/media cifs //granary.lan/media \
                             ro,uid=840,gid=840,dir_mode=0700";
            scene.facts("millrace").mounts = Some(mounts(table));
        },
    };

    #[test]
    fn a_client_lets_its_service_in() {
        let mut scene = Scene::over(Protocol::Smb);
        assert_eq!(scene.messages_of(&RULE), "");
        scene.layout.mounts[0].options = MountOptions::read("ro,nofail,uid=0,gid=0,dir_mode=0700");
        let table = "1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 0:9 / /mnt/media cifs //granary.lan/media \
                     ro,uid=0,gid=0,dir_mode=0700";
        scene.facts("millrace").mounts = Some(mounts(table));
        let told = scene.messages_of(&RULE);
        assert!(
            told.ends_with(
                "set options = \"ro,nofail,dir_mode=0700,uid=840,gid=840\" for \
                                millrace's mount at /mnt/media; on millrace: change the line of \
                                fstab or the unit that mounts /mnt/media in the same way, and \
                                remount it"
            ),
            "{told}"
        );
    }
}
