//! `mount/no-share-named`.

use crate::layout::share::Share;
use crate::rules::mount::network::{NetworkMount, network_mounts};
use crate::rules::mount::server;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
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
    let all = network_mounts(site);
    let all = all.iter().filter(|mount| mount.protocol == Protocol::Smb);
    all.filter_map(|mount| of_mount(site, cases, mount)).collect()
}

fn of_mount(site: &Site, cases: &[UsedPath], mount: &NetworkMount) -> Option<Finding> {
    let source = mount.source.as_ref()?;
    let parts = source.raw().split(['/', '\\']).filter(|part| !part.is_empty()).count();
    let server = server(source.raw(), mount.protocol).filter(|_| parts < 2)?;
    let host = site.host_named(server);
    let offered = site.layout.shares.iter().filter(|s| Some(&s.host) == host && s.smb.is_some());
    let offered: Vec<&Share> = offered.collect();
    let steps = match offered.as_slice() {
        [one] => mount.set_source(site, &format!("//{server}/{}", one.name.raw())),
        many => {
            let names: Vec<String> = many.iter().map(|share| share.name.to_string()).collect();
            let one = match names.is_empty() {
                true => "a share of it".to_owned(),
                false => format!("one of its shares ({})", names.join(", ")),
            };
            mount.source_by_hand(&format!("name {one}"))
        }
    };
    let server = shown(server.as_bytes());
    let message = format!("{} is to be mounted from {server}, without a share", mount.name());
    Some(mount.finding(&RULE, cases).says(message).remedy(steps))
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
                    on millrace: write //granary.lan/media as the source into the line of fstab or \
                    the unit that mounts /mnt/media, and mount it again";
        assert_eq!(from("//granary.lan/"), told);
        assert!(from("\\\\elsewhere").contains("name a share of it"));
    }
}
