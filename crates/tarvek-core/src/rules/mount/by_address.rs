//! `mount/by-address`.

use std::net::IpAddr;

use crate::layout::mount::MountSource;
use crate::rules::mount::{of_mount, server};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::part::Part;
use crate::words::remedy::Step;
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
    let mut findings = Vec::new();
    for mount in site.layout.mounts.iter().filter(|mount| mount.protocol.is_network()) {
        let MountSource::Literal(source) = &mount.from else { continue };
        let Some(server) = server(source.raw(), mount.protocol) else { continue };
        if server.trim_matches(['[', ']']).parse::<IpAddr>().is_err() {
            continue;
        }
        let name = site.host_named(server).map(|host| {
            let address = site.layout.host(host).and_then(|host| {
                host.addresses.iter().find(|known| known.raw().parse::<IpAddr>().is_err())
            });
            address.unwrap_or(host)
        });
        let edit = match name {
            Some(name) => {
                let part = Part::mount(&mount.host, &mount.at);
                site.layout.set(part, "from", source.raw().replacen(server, name.raw(), 1))
            }
            None => Step::words(format!(
                "in the layout, name the server in the source of {} by its name",
                mount.at
            )),
        };
        let name = name.map_or_else(|| "its name".to_owned(), ToString::to_string);
        let real = format!("write {name} into what mounts {} as well", mount.at);
        let steps = vec![edit, Step::on(&mount.host, real)];
        let server = shown(server.as_bytes());
        let message = format!("{} is mounted from {server}, an address", mount.at);
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
                    server in the source of /mnt/media by its name; on millrace: write its name \
                    into what mounts /mnt/media as well";
        assert_eq!(from("10.9.9.9:/loft/media"), told);
        assert!(from("[fe80::1]:/loft/media").contains("[fe80::1]"));
    }
}
