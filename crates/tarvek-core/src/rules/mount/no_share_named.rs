//! `mount/no-share-named`.

use crate::layout::mount::MountSource;
use crate::layout::share::Share;
use crate::rules::mount::{of_mount, server};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::part::Part;
use crate::words::remedy::Step;
use crate::words::rule::{Rule, Severity};
use crate::words::terms::Protocol;
use crate::words::text::shown;

/// A source that is no share.
pub static RULE: Rule = Rule {
    id: "mount/no-share-named",
    severity: Severity::Blocker,
    title: "An SMB mount names no share",
    means: "The source of an SMB mount names a server, and no share of it.",
    hurts: "A server can't be mounted as a whole: the mount fails, and what is mapped from it is \
            an empty folder.",
    fix: "Name one of its shares.",
    example: "//granary is mounted at /mnt/media; it offers //granary/media.",
};

/// Judges every SMB mount whose source is written out.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for mount in site.layout.mounts.iter().filter(|mount| mount.protocol == Protocol::Smb) {
        let MountSource::Literal(source) = &mount.from else { continue };
        let parts = source.raw().split(['/', '\\']).filter(|part| !part.is_empty()).count();
        let Some(server) = server(source.raw(), mount.protocol).filter(|_| parts < 2) else {
            continue;
        };
        let host = site.host_named(server);
        let offered =
            site.layout.shares.iter().filter(|s| Some(&s.host) == host && s.smb.is_some());
        let offered: Vec<&Share> = offered.collect();
        let edit = match offered.as_slice() {
            [one] => {
                let part = Part::mount(&mount.host, &mount.at);
                site.layout.set(part, "from", format!("//{server}/{}", one.name.raw()))
            }
            many => {
                let names: Vec<String> = many.iter().map(|share| share.name.to_string()).collect();
                let one = match names.is_empty() {
                    true => "a share of it".to_owned(),
                    false => format!("one of its shares: {}", names.join(", ")),
                };
                Step::words(format!("in the layout, name {one} in the source of {}", mount.at))
            }
        };
        let real = format!("name it in what mounts {} as well", mount.at);
        let steps = vec![edit, Step::on(&mount.host, real)];
        let server = shown(server.as_bytes());
        let message = format!("{} is to be mounted from {server}, without a share", mount.at);
        findings.push(of_mount(&RULE, mount, cases).says(message).remedy(steps));
    }
    findings
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::layout::mount::MountSource;
    use crate::rules::promise::{Promise, over};
    use crate::tests::Scene;
    use crate::words::terms::Protocol;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            over(Protocol::Smb, |scene| {
                scene.layout.mounts[0].from = MountSource::Literal("//granary.lan".into());
                scene.facts("millrace").mounts = None;
            })
        },
        by_hand: |scene| scene.layout.mounts[0].from = MountSource::Share("media".into()),
    };

    #[test]
    fn a_server_is_no_share() {
        let mut scene = Scene::over(Protocol::Smb);
        let mut from = |source: &str| {
            scene.layout.mounts[0].from = MountSource::Literal(source.into());
            scene.messages_of(&RULE)
        };
        assert_eq!(from("//granary.lan/media"), "");
        let told = "/mnt/media is to be mounted from granary.lan, without a share → in the layout \
                    line 4: set from = \"//granary.lan/media\" for millrace's mount at /mnt/media; \
                    on millrace: name it in what mounts /mnt/media as well";
        assert_eq!(from("//granary.lan/"), told);
        assert!(from("\\\\elsewhere").contains("name a share of it"));
    }
}
