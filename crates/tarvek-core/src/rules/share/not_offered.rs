//! `share/not-offered`.

use crate::layout::share::Share;
use crate::remedy::apply_on_host::{reload_exports, reload_smb};
use crate::remedy::offer::client_address;
use crate::route::nfs::refuses;
use crate::route::source::Remote;
use crate::rules::mount::network::{NetworkMount, network_mounts};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::part::Part;
use crate::words::remedy::Step;
use crate::words::rule::{Rule, Severity};
use crate::words::terms::Access;
use crate::words::terms::Protocol;
use crate::words::text::{nearest, shown};
use crate::words::value::Value;

/// A mount of what is not there to be mounted.
pub static RULE: Rule = Rule {
    id: "share/not-offered",
    severity: Severity::Blocker,
    title: "A mount refers to what its host does not offer",
    means: "The source of a mount is no share of the host that it names, or none that is offered \
            over this protocol or to this client.",
    hurts: "The mount fails, or after the next change of the server it will: services see the \
            empty folder beneath.",
    fix: "Offer it to the client, or mount what is offered.",
    example: "millrace mounts granary:/loft/photos; granary exports /loft/media only.",
};

/// Judges every network mount whose server is known.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for mount in network_mounts(site) {
        let Some(remote) = mount.remote(site) else { continue };
        let Some(host) = &remote.host else { continue };
        let Some((message, steps)) = fault(site, &mount, &remote, host) else { continue };
        findings.push(mount.finding(&RULE, cases).says(message).remedy(steps));
    }
    findings
}

/// What is not offered, and what would offer it.
fn fault(
    site: &Site,
    mount: &NetworkMount,
    remote: &Remote,
    host: &Name,
) -> Option<(String, Vec<Step>)> {
    let word = mount.protocol.word();
    let offers = |share: &&Share| match mount.protocol {
        Protocol::Smb => share.smb.is_some(),
        _ => !share.nfs.is_empty(),
    };
    let with_server = |step: Step| match mount.protocol {
        Protocol::Smb => vec![step, reload_smb(host)],
        _ => vec![step, reload_exports(host)],
    };
    let offered = |share: &Share| offered(site, share, mount);
    if let Some(share) = remote.share.as_ref().and_then(|name| site.layout.share(name)) {
        let Share { name, .. } = share;
        if !offers(&share) {
            let message =
                format!("{} mounts {name} over {word}, over which it is not offered", mount.host);
            let step = match mount.protocol {
                Protocol::Nfs => offered(share),
                _ => Step::words(format!("in the layout, add {word} to the share {name}")),
            };
            return Some((message, with_server(step)));
        }
        if mount.protocol == Protocol::Nfs && refuses(site, share, mount.host) {
            let message =
                format!("{} mounts {name}, which {host} exports to others only", mount.host);
            return Some((message, with_server(offered(share))));
        }
        return None;
    }
    // What a host offers is only known where it is known to offer anything.
    let source = mount.source.as_ref()?;
    let shares: Vec<&Share> =
        site.layout.shares.iter().filter(|share| share.host == *host).filter(offers).collect();
    if shares.is_empty() {
        return None;
    }
    let called = |share: &&Share| match mount.protocol {
        Protocol::Smb => share.name.raw().to_owned(),
        _ => String::from_utf8_lossy(share.path.as_bytes()).into_owned(),
    };
    let names: Vec<String> = shares.iter().map(called).collect();
    let shown_names: Vec<String> = names.iter().map(|name| shown(name.as_bytes())).collect();
    let message = format!(
        "{} mounts {}, and {host} offers {} over {word}",
        mount.host,
        shown(source.raw().as_bytes()),
        shown_names.join(", ")
    );
    let wanted = offered_name(source.raw(), mount.protocol);
    let near = wanted.and_then(|(before, wanted)| {
        Some((before, nearest(wanted, names.iter().map(String::as_str))?))
    });
    let steps = match near {
        Some((before, near)) => mount.set_source(site, &format!("{before}{near}")),
        None => with_server(Step::words(format!(
            "in the layout, declare what {} mounts as a share of {host} over {word}, or mount one \
             of those",
            mount.host
        ))),
    };
    Some((message, steps))
}

/// What is before the name of what is offered in a source, and that name: a share and nothing below
/// it, or a path.
fn offered_name(source: &str, protocol: Protocol) -> Option<(&str, &str)> {
    let at = match protocol {
        Protocol::Smb => {
            let plain = source.trim_end_matches(['/', '\\']);
            let server = source.len() - source.trim_start_matches(['/', '\\']).len();
            let at = server + source[server..].find(['/', '\\'])? + 1;
            let is_share_alone = !plain.get(at..)?.contains(['/', '\\']);
            is_share_alone.then_some(at)?
        }
        _ => source.find(":/")? + 1,
    };
    Some((&source[..at], source[at..].trim_end_matches(['/', '\\'])))
}

/// An export of a share to a host, as it mounts it.
fn offered(site: &Site, share: &Share, mount: &NetworkMount) -> Step {
    let Some(client) = client_address(site, mount.host) else {
        return Step::words(format!(
            "declare the addresses of {}, and add one of them to nfs of share {}",
            mount.host, share.name
        ));
    };
    let mut export = vec![("clients", client.into())];
    if !mount.is_read_only {
        export.push(("access", Access::ReadWrite.word().into()));
    }
    site.layout.add(Part::Share(share.name.clone()), "nfs", Value::table(export))
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::layout::mapping::{EngineMount, MapSource};
    use crate::layout::mount::MountSource;
    use crate::rules::promise::{Promise, over};
    use crate::tests::{Scene, share};
    use crate::words::options::MountOptions;
    use crate::words::terms::Protocol;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            over(Protocol::Nfs, |scene| {
                scene.layout.shares[0].nfs[0].clients = "10.99.0.0/16".into()
            })
        },
        by_hand: |scene| {
            let mut export = scene.layout.shares[0].nfs[0].clone();
            export.clients = "10.20.0.3".into();
            scene.layout.shares[0].nfs.push(export);
        },
    };

    #[test]
    fn what_is_mounted_is_offered_to_whoever_mounts_it() {
        let mut scene = Scene::over(Protocol::Nfs);
        assert_eq!(scene.messages_of(&RULE), "");
        scene.layout.shares[0].nfs[0].clients = "10.99.0.0/16".into();
        let told = "millrace mounts media, which granary exports to others only → in the layout \
                    line 3: add { clients = \"10.20.0.3\" } to nfs of share media; on granary: put \
                    what `tarvek emit exports` writes in place, and run exportfs -ra";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.host("millrace").addresses = vec!["millrace.lan".into()];
        assert_eq!(scene.messages_of(&RULE), "", "its number is not known");
        scene.layout.shares[0].nfs.clear();
        assert!(scene.messages_of(&RULE).starts_with(
            "millrace mounts media over nfs, over which it is \
                                               not offered → in the layout line 3: add { clients \
                                               = \"millrace.lan\" } to nfs"
        ));
        scene.layout.shares[0] = share("media", "/loft/media");
        scene.layout.mounts[0].from = MountSource::Literal("granary.lan:/loft/photos".into());
        assert!(scene.messages_of(&RULE).starts_with(
            "millrace mounts granary.lan:/loft/photos, and \
                                               granary offers /loft/media over nfs → in the \
                                               layout, declare"
        ));
        scene.layout.mounts[0].from = MountSource::Literal("elsewhere:/loft/photos".into());
        assert_eq!(scene.messages_of(&RULE), "");
    }

    #[test]
    fn a_misspelt_share_is_told_by_its_name() {
        let mut scene = Scene::over(Protocol::Nfs);
        scene.layout.mounts[0].from = MountSource::Literal("granary.lan:/loft/medai/".into());
        let told = scene.messages_of(&RULE);
        assert!(told.contains("set from = \"granary.lan:/loft/media\""), "{told}");
        let mut scene = Scene::over(Protocol::Smb);
        scene.layout.mounts[0].from = MountSource::Literal("//granary.lan/medias".into());
        let told = scene.messages_of(&RULE);
        assert!(told.contains("set from = \"//granary.lan/media\""), "{told}");
        let told = |from: &str| {
            let mut scene = Scene::over(Protocol::Smb);
            let engine = EngineMount {
                from: MountSource::Literal(from.into()),
                below: None,
                protocol: Protocol::Smb,
                options: MountOptions::read("ro"),
                user: Some("lantern".into()),
                credentials: None,
                volume: None,
            };
            let map = scene.service("lantern").map.as_mut().unwrap();
            map[0].source = MapSource::Share(Box::new(engine));
            scene.messages_of(&RULE)
        };
        assert_eq!(told("//granary.lan/media"), "");
        let wrong = told("//granary.lan/medai");
        assert!(
            wrong.contains("set source = \"//granary.lan/media\" for lantern's mapping"),
            "{wrong}"
        );
    }
}
