//! `mount/open-credentials`.

use crate::kernel::subject::Subject;
use crate::route::follow;
use crate::route::hops::View;
use crate::rules::mount::of_mount;
use crate::site::join::Site;
use crate::used::used_path::{UsedPath, end_of};
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::place::Place;
use crate::words::remedy::{Command, Step};
use crate::words::rule::{Rule, Severity};

/// A file of passwords that others read.
pub static RULE: Rule = Rule {
    id: "mount/open-credentials",
    severity: Severity::Risk,
    title: "Others can read a credentials file",
    means: "The file that holds the name and password of an SMB mount is readable for others than \
            its owner.",
    hurts: "Every account of the host, and whoever gets into one, has the password of the share.",
    fix: "chmod 0600.",
    example: "/etc/granary.cred has mode 0644.",
};

/// Judges every credentials file that was seen.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for mount in &site.layout.mounts {
        let Some(file) = &mount.credentials else { continue };
        let route = follow(site, &View::host(&mount.host), file, &Subject::new(0, 0, []));
        let Some((_, meta)) = end_of(site, &route).filter(|(_, meta)| meta.mode & 0o077 != 0)
        else {
            continue;
        };
        let message = format!(
            "{file} has mode {:04o}: others than its owner can get at the password in it",
            meta.mode
        );
        let step = Step::run(&mount.host, Command::new("chmod 0600").operand(file));
        let finding = of_mount(&RULE, mount, cases).at(&Place::new(&mount.host, file));
        findings.push(finding.known(Evidence::Observed).says(message).remedy(step));
    }
    findings
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, nothing, over};
    use crate::tests::{Scene, abs};
    use crate::words::terms::Protocol;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            over(Protocol::Smb, |scene| {
                scene.layout.mounts[0].credentials = Some(abs("/etc/granary.cred"));
                scene.tree("millrace", "f 0644 0:0 /etc/granary.cred");
            })
        },
        by_hand: nothing,
    };

    #[test]
    fn a_file_of_passwords_is_its_owners() {
        let mut scene = Scene::over(Protocol::Smb);
        scene.layout.mounts[0].credentials = Some(abs("/etc/granary.cred"));
        assert_eq!(scene.messages_of(&RULE), "", "nobody looked");
        scene.tree("millrace", "f 0640 0:0 /etc/granary.cred");
        let told = "/etc/granary.cred has mode 0640: others than its owner can get at the password \
                    in it → on millrace: chmod 0600 \
                    /etc/granary.cred";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.tree("millrace", "f 0600 0:0 /etc/granary.cred");
        assert_eq!(scene.messages_of(&RULE), "");
    }
}
