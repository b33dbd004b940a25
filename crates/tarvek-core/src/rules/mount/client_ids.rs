//! `mount/client-ids`.

use crate::judge::along::judge;
use crate::judge::verdict::{Refusal, Verdict};
use crate::rules::case::Case;
use crate::site::join::Site;
use crate::words::finding::Finding;
use crate::words::remedy::Step;
use crate::words::rule::{Rule, Severity};

/// Options that shut a service out.
pub static RULE: Rule = Rule {
    id: "mount/client-ids",
    severity: Severity::Blocker,
    title: "The options of an SMB mount shut a service out",
    means: "A client checks by itself what the options uid=, gid=, file_mode= and dir_mode= say of every file of an SMB mount, whatever the server would allow (mount.cifs(8)).",
    hurts: "The server lets the user in, and the client shuts the service out: it sees nothing, or can't write.",
    fix: "Give the mount the uid and gid of the service, or modes that let it in.",
    example: "The mount has uid=0 and dir_mode=0700; lantern runs as 840.",
};

/// Judges one place that a service uses.
pub fn find(site: &Site, case: &Case) -> Vec<Finding> {
    let Some(route) = &case.route else { return Vec::new() };
    let answer = judge(site, route, case.need());
    let Verdict::Refused { why, refusal: Refusal::Options(_), .. } = &answer.verdict else {
        return Vec::new();
    };
    let at = answer.decided_at.clone();
    let of_mount =
        |mount: &&crate::layout::mount::Mount| mount.host == at.host && at.path.within(&mount.at);
    let mounts = site.layout.mounts.iter().filter(of_mount);
    let mount = mounts.max_by_key(|mount| mount.at.components().count());
    let point = mount.map_or(&at.path, |mount| &mount.at);
    let subject = route
        .hops
        .iter()
        .rev()
        .find(|hop| hop.to.host == at.host)
        .map_or(&case.subject, |hop| &hop.subject);
    let ids = format!("uid={},gid={}", subject.uid, subject.gid);
    let steps = vec![
        Step::words(format!("set {ids} in the options of {point} in the layout")),
        Step::on(&at.host, format!("set {ids} where {point} is mounted, and mount it anew")),
    ];
    let finding =
        case.finding(&RULE).at(&at).known(answer.evidence).says(why.clone()).remedy(steps);
    vec![match mount {
        Some(mount) => finding.line(mount.origin.line),
        None => finding,
    }]
}

#[cfg(test)]
mod tests {
    use super::RULE;
    use crate::tests::{Scene, mounts};
    use crate::words::options::MountOptions;
    use crate::words::terms::Protocol;

    #[test]
    fn a_client_lets_its_service_in() {
        let mut scene = Scene::over(Protocol::Smb);
        assert_eq!(scene.told(&RULE), "");
        scene.layout.mounts[0].options = MountOptions::read("ro,nofail,uid=0,gid=0,dir_mode=0700");
        let table = "1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 0:9 / /mnt/media cifs //granary.lan/media ro,uid=0,gid=0,dir_mode=0700";
        scene.facts("millrace").mounts = Some(mounts(table));
        let told = scene.told(&RULE);
        assert!(told.ends_with("set uid=840,gid=840 in the options of /mnt/media in the layout; on millrace: set uid=840,gid=840 where /mnt/media is mounted, and mount it anew"), "{told}");
    }
}
