//! `access/root-unreadable`.

use crate::judge::access_check::judge;
use crate::judge::verdict::Need;
use crate::remedy::rights;
use crate::route::end::End;
use crate::rules::access::admission;
use crate::rules::identity::shifted;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};

/// A root that the account can't read.
pub static RULE: Rule = Rule {
    id: "access/root-unreadable",
    severity: Severity::Blocker,
    title: "The serving account can't read a library's root",
    means: "On the way to the root, or at the root itself, the kernel refuses the account that the \
            service runs as. The \
            finding names the first folder that refuses, and the entry that decides.",
    hurts: "The folder is there and its files are there, but the service shows nothing, or a \
            folder that can't be opened.",
    fix: "Give the account read and search at the folder named, and below it, by an ACL entry that \
          new files inherit; or \
          put it into a group that has them.",
    example: "The photos belong to mira:keepers with mode 0750, and the service's account is not \
              in keepers.",
};

/// Judges one root.
pub fn find(site: &Site, case: &UsedPath) -> Vec<Finding> {
    let Some(route) = &case.route else { return Vec::new() };
    let not_admitted = match &route.end {
        End::NotAdmitted { at, .. } => Some(at),
        _ => None,
    };
    let read = judge(site, route, Need::Read);
    if !read.is_refused() || route.entry().is_none() && not_admitted.is_none() {
        return Vec::new();
    }
    let message = format!(
        "{} ({}) can't read {}: {}: {}",
        case.service.name,
        case.subject,
        route.asked,
        not_admitted.unwrap_or(&read.decided_at).on(),
        read.reason()
    );
    let finding = case
        .finding(&RULE)
        .at(not_admitted.unwrap_or(&read.decided_at))
        .line(case.service.origin.line)
        .known(read.evidence)
        .says(message)
        .because(shifted::decides(site, route, Need::Read).then_some(&shifted::RULE));
    vec![match not_admitted {
        Some(_) => finding.remedy(admission::remedy(site, route).unwrap_or_default()),
        None => rights::readable(site, route, finding),
    }]
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::check::board::{Stages, State};
    use crate::check::report::check;
    use crate::kernel::subject::{IdMap, IdRange};
    use crate::layout::service::UserNs;
    use crate::rules::identity::shifted;
    use crate::rules::promise::{Promise, done, local, nothing};
    use crate::tests::{Scene, mounts};
    use crate::words::terms::Protocol;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || local(|scene| done(scene.tree("granary", "d 2770 1101:2100 /loft/media/films"))),
        by_hand: nothing,
    };

    #[test]
    fn the_first_folder_that_refuses_is_named_with_the_entry_that_opens_it() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.tree("granary", "d 0750 1101:2100 /loft/media/films");
        let told = "lantern (840:840) can't read /media/films: /loft/media/films on granary: \
                    other::--- does not let 840:840 enter it \
                    (mode 0750 mira:keepers) → on granary: setfacl -R -m \
                    u:lantern:rX,d:u:lantern:rX /loft/media/films";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.tree("granary", "d 0700 0:0 /loft/media");
        let told = scene.messages_of(&RULE);
        assert!(
            told.contains("/loft/media on granary: other::--- does not let 840:840 search it"),
            "{told}"
        );
        assert!(told.contains("setfacl -m u:lantern:x /loft/media; setfacl -R -m"), "{told}");
    }

    #[test]
    fn what_the_wide_grant_would_take_below_is_given_back_or_told() {
        let mut scene = Scene::local();
        scene.tree("granary", "d 0750 1101:2100 /loft/media/films");
        scene.tree(
            "granary",
            "d 0775 0:840 /loft/media/films/own
             f 0664 0:840 /loft/media/films/own/a.mkv
             f 0664 0:840 /loft/media/films/b.mkv
             d 0755 0:0 /loft/media/films/named
             f 0600 0:0 /loft/media/films/named/c.mkv",
        );
        scene.run("granary", &["setfacl", "-m", "u:840:rwx", "/loft/media/films/named"]);
        let told = scene.messages_of(&RULE);
        let all = "on granary: setfacl -R -m u:lantern:rX,d:u:lantern:rX /loft/media/films;";
        let steps = told.split_once(all).expect(&told).1;
        for step in [
            "setfacl -R -m u:lantern:rwX,d:u:lantern:rwX /loft/media/films/own",
            "setfacl -m u:lantern:rw /loft/media/films/b.mkv",
            "setfacl -m u:lantern:rwX,d:u:lantern:rwX /loft/media/films/named",
        ] {
            assert!(steps.contains(step), "{told}");
        }
        assert_eq!(steps.matches("setfacl").count(), 3, "{told}");
        // Where that would be many commands, it is said.
        for n in 0..9 {
            scene.tree("granary", &format!("f 0664 0:840 /loft/media/films/b{n}.mkv"));
        }
        let findings = scene.findings();
        let remedy = &findings.iter().find(|finding| finding.rule == &RULE).unwrap().remedy;
        assert_eq!(remedy.steps.len(), 1);
        let taken =
            "service:lantern could then no longer write 13 entries, such as /loft/media/films/";
        let taken = taken.split_once(" could").unwrap();
        let is_told = |effect: &String| effect.contains(taken.0) && effect.contains(taken.1);
        assert!(remedy.effects.iter().any(is_told), "{remedy:#?}");
    }

    #[test]
    fn a_share_that_does_not_admit_the_mounts_user_refuses_everything() {
        let mut scene = Scene::over(Protocol::Smb);
        assert_eq!(scene.messages_of(&RULE), "");
        scene.layout.shares[0].smb.as_mut().unwrap().only.push("@keepers".into());
        let told = "lantern (840:840) can't read /media/films: /loft/media on granary: the share \
                    does not admit lantern → in the layout line 3: add \"lantern\" to only of the \
                    smb of share media; on granary: put what `tarvek emit smb` writes in place, \
                    and run smbcontrol smbd reload-config";
        assert_eq!(scene.messages_of(&RULE), told);
        // The board says that it is mounted, and that it is the share that refuses.
        let board = check(&scene.site()).board;
        let Stages { mounted, exists, readable, .. } = board[0].stages;
        assert_eq!((mounted, exists, readable), (State::Ok, State::Unknown, State::Fail));
        assert_eq!(board[0].verdict.to_string(), "the share does not admit lantern");
    }

    #[test]
    fn a_shifted_namespace_brings_it_about() {
        let mut scene = Scene::local();
        scene.tree("granary", "d 0750 840:840 /loft/media/films");
        let range = IdRange { inside: 0, outside: 100_000, count: 65_536 };
        scene.service("lantern").userns = Some(UserNs::Ranges(IdMap::both(vec![range])));
        let findings = scene.findings();
        let finding = findings.iter().find(|finding| finding.rule == &RULE).unwrap();
        assert_eq!(finding.because, Some(&shifted::RULE));
    }

    /// What has no owners and modes of its own is mounted with others.
    #[test]
    fn on_fat_the_options_of_the_mount_are_changed() {
        let mut scene = Scene::local();
        scene.tree("granary", "d 0750 1101:2100 /loft/media");
        scene.tree("granary", "d 0750 1101:2100 /loft/media/films");
        scene.facts("granary").mounts = Some(mounts(
            "1 0 8:1 / / ext4 /dev/sda1 rw\n\
             2 1 8:9 / /loft/media exfat /dev/sdb1 rw,uid=1101,gid=2100,fmask=0137,dmask=0027",
        ));
        let told = scene.messages_of(&RULE);
        let (_, remedy) = told.split_once(" → ").unwrap();
        assert_eq!(
            remedy,
            "on granary: umount /loft/media; mount -t exfat -o \
             rw,uid=1101,gid=2100,dmask=0022,fmask=0133 /dev/sdb1 /loft/media; write \
             dmask=0022,fmask=0133 where /loft/media is mounted at boot"
        );
    }
}
