//! `mount/by-address`.

use std::net::IpAddr;

use crate::rules::mount::network::{NetworkMount, network_mounts};
use crate::rules::mount::server;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};
use crate::words::text::shown;

/// A server that goes by its number.
pub static RULE: Rule = Rule {
    id: "mount/by-address",
    severity: Severity::Note,
    title: "A server is mounted by its address",
    means: "The source of a network mount names the server by its number and not by its name.",
    hurts: "When the server gets another address, every mount of it fails, on every host, and \
            nothing says what was meant.",
    fix: "Give the server a name that every host resolves, and mount by it.",
    example: "10.20.0.2:/loft/media is mounted at /mnt/media.",
};

/// Judges every network mount whose source is written out.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let all = network_mounts(site);
    all.iter().filter_map(|mount| of_mount(site, cases, mount)).collect()
}

fn of_mount(site: &Site, cases: &[UsedPath], mount: &NetworkMount) -> Option<Finding> {
    let source = mount.source.as_ref()?;
    let server = server(source.raw(), mount.protocol)?;
    server.trim_matches(['[', ']']).parse::<IpAddr>().ok()?;
    // What the layout calls a host need not be a name that anybody can look up.
    let name = site.host_named(server).and_then(|host| {
        let mut addresses = site.layout.host(host)?.addresses.iter();
        addresses.find(|known| known.raw().parse::<IpAddr>().is_err())
    });
    let steps = match name {
        Some(name) => mount.set_source(site, &source.raw().replacen(server, name.raw(), 1)),
        None => mount.source_by_hand("name the server by its name"),
    };
    let server = shown(server.as_bytes());
    let message = format!("{} is mounted from {server}, an address", mount.name());
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
            over(Protocol::Nfs, |scene| {
                scene.layout.mounts[0].from = MountSource::Literal("10.9.9.9:/loft/media".into());
                scene.facts("millrace").mounts = None;
            })
        },
        by_hand: |scene| {
            scene.layout.mounts[0].from = MountSource::Literal("granary.lan:/loft/media".into())
        },
    };

    #[test]
    fn a_number_is_no_name() {
        let mut scene = Scene::over(Protocol::Nfs);
        assert_eq!(scene.messages_of(&RULE), "");
        let mut from = |source: &str| {
            scene.layout.mounts[0].from = MountSource::Literal(source.into());
            scene.messages_of(&RULE)
        };
        assert_eq!(from("granary.lan:/loft/media"), "");
        let told = "/mnt/media is mounted from 10.9.9.9, an address → in the layout, name the \
                    server by its name in the source of /mnt/media; on millrace: name the server \
                    by its name in what mounts /mnt/media as well";
        assert_eq!(from("10.9.9.9:/loft/media"), told);
        assert!(from("[fe80::1]:/loft/media").contains("[fe80::1]"));
    }
}
