//! `share/not-offered`.

use crate::layout::mount::{Mount, MountSource};
use crate::layout::share::Share;
use crate::remedy::apply_on_host::{reload_exports, reload_smb};
use crate::remedy::offer::client_address;
use crate::route::nfs::refuses;
use crate::route::source::Remote;
use crate::rules::mount::of_mount;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::part::Part;
use crate::words::remedy::Step;
use crate::words::rule::{Rule, Severity};
use crate::words::terms::Access;
use crate::words::terms::Protocol;
use crate::words::text::shown;
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
    for mount in site.layout.mounts.iter().filter(|mount| mount.protocol.is_network()) {
        let Some((message, step)) = fault(site, mount) else { continue };
        let remote = Remote::of_mount(site, mount);
        let Some(host) = remote.and_then(|remote| remote.host) else { continue };
        let real = match mount.protocol {
            Protocol::Smb => reload_smb(&host),
            _ => reload_exports(&host),
        };
        findings.push(of_mount(&RULE, mount, cases).says(message).remedy(vec![step, real]));
    }
    findings
}

/// What is not offered, and what would offer it.
fn fault(site: &Site, mount: &Mount) -> Option<(String, Step)> {
    let remote = Remote::of_mount(site, mount)?;
    let host = remote.host.as_ref()?;
    let word = mount.protocol.word();
    let offers = |share: &&Share| match mount.protocol {
        Protocol::Smb => share.smb.is_some(),
        _ => !share.nfs.is_empty(),
    };
    let of_host = || site.layout.shares.iter().filter(|share| share.host == *host);
    let share = remote.share.as_ref().and_then(|name| site.layout.share(name));
    if let Some(share) = share.filter(|share| !offers(share)) {
        let message = format!(
            "{} mounts {} over {word}, over which it is not offered",
            mount.host, share.name
        );
        let step = match mount.protocol {
            Protocol::Nfs => offered(site, share, mount),
            _ => Step::words(format!("in the layout, add {word} to the share {}", share.name)),
        };
        return Some((message, step));
    }
    if let Some(share) = share {
        if mount.protocol == Protocol::Nfs && refuses(site, share, &mount.host) {
            let message = format!(
                "{} mounts {}, which {host} exports to others only",
                mount.host, share.name
            );
            return Some((message, offered(site, share, mount)));
        }
        return None;
    }
    // What a host offers is only known where it is known to offer anything.
    let MountSource::Literal(source) = &mount.from else { return None };
    if !of_host().any(|share| offers(&share)) {
        return None;
    }
    let names: Vec<String> = of_host().filter(offers).map(|share| share.path.to_string()).collect();
    let message = format!(
        "{} mounts {}, and {host} offers {} over {word}",
        mount.host,
        shown(source.raw().as_bytes()),
        names.join(", ")
    );
    Some((
        message,
        Step::words(format!(
            "in the layout, declare what {} mounts as a share of {host} over {word}, or mount one \
             of those",
            mount.host
        )),
    ))
}

/// An export of a share to a host, as it mounts it.
fn offered(site: &Site, share: &Share, mount: &Mount) -> Step {
    let Some(client) = client_address(site, &mount.host) else {
        return Step::words(format!(
            "declare the addresses of {}, and add one of them to nfs of share {}",
            mount.host, share.name
        ));
    };
    let mut export = vec![("clients", client.into())];
    if mount.options.access() == Access::ReadWrite {
        export.push(("access", Access::ReadWrite.word().into()));
    }
    site.layout.add(Part::Share(share.name.clone()), "nfs", Value::table(export))
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::layout::mount::MountSource;
    use crate::rules::promise::{Promise, over};
    use crate::tests::{Scene, share};
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
}
