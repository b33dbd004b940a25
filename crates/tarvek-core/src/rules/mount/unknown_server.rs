//! `mount/unknown-server`.

use std::net::IpAddr;

use crate::rules::mount::network::{NetworkMount, network_mounts};
use crate::rules::mount::server;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::part::Part;
use crate::words::path::AbsPath;
use crate::words::remedy::{Remedy, Step};
use crate::words::rule::{Rule, Severity};
use crate::words::terms::Protocol;
use crate::words::text::{nearest, shown};

/// A server that the layout does not know.
pub static RULE: Rule = Rule {
    id: "mount/unknown-server",
    severity: Severity::Blocker,
    title: "A mount names a server that the layout does not know",
    means: "The source of a mount names a server by a name or an address that no host of the \
            layout goes by. It may be a host that is there under another name, a misspelt one, or \
            one that is not declared yet.",
    hurts: "Where the way goes on, who arrives there and what is offered can't be told, so that \
            nothing behind the mount can be called ready.",
    fix: "Add the name or address to the addresses of the host that it is; or correct the source; \
          or declare the server as a host, with its shares.",
    example: "millrace mounts 10.20.0.9:/loft/media, and granary is declared with granary.lan only.",
};

/// Judges every network mount whose source is written out. Of those that a host alone has, only
/// what something leads through.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let all = network_mounts(site);
    let found = all.iter().filter_map(|mount| Some((mount, of_mount(site, cases, mount)?)));
    found
        .filter(|(mount, finding)| mount.is_declared() || !finding.affects.is_empty())
        .map(|(_, finding)| finding)
        .collect()
}

fn of_mount(site: &Site, cases: &[UsedPath], mount: &NetworkMount) -> Option<Finding> {
    let source = mount.source.as_ref()?;
    let server = server(source.raw(), mount.protocol)?;
    if site.host_named(server).is_some() {
        return None;
    }
    let finding = mount.finding(&RULE, cases);
    let known = mounted_from(site, mount);
    // What nothing leads through stands in nobody's way, nor does a name where the mount table has
    // another one, which is followed.
    let is_in_the_way = known.is_none() && !finding.affects.is_empty();
    let severity = if is_in_the_way { RULE.severity } else { Severity::Risk };
    let names: Vec<&str> = site.layout.hosts.iter().map(|host| host.name.raw()).collect();
    let written = shown(server.as_bytes());
    let message = format!(
        "{} is mounted from {written}, and no host of the layout is called that; it has {}",
        mount.name(),
        names.join(", ")
    );
    let declare = format!(
        "in the layout, declare {written} as a host with its shares, or add it to the addresses of \
         the host that it is"
    );
    let finding = finding.weighs(severity).says(message);
    let guess = || meant(site, mount, server).map(|host| (host, "nothing here proves it"));
    let known = known.map(|host| (host, "what is mounted there comes from it"));
    Some(match known.or_else(guess) {
        Some((host, why)) => {
            let add = site.layout.add(Part::Host(host.clone()), "addresses", server);
            let effects = vec![format!("{written} is then taken for {host}: {why}")];
            finding.remedy(Remedy { steps: vec![add], effects }).or_else(Step::words(declare))
        }
        None => finding.remedy(Step::words(declare)),
    })
}

/// The host of the layout from which the mount table has what is mounted there.
fn mounted_from<'s>(site: &'s Site, mount: &NetworkMount) -> Option<&'s Name> {
    let table = site.mounts(mount.host).filter(|_| mount.is_on_host())?;
    let seen = table.mounted_at(mount.at)?;
    let source = String::from_utf8_lossy(&seen.source);
    let host = site.host_named(server(&source, seen.network()?)?)?;
    site.layout.host(host).map(|host| &host.name)
}

/// The host that is likely meant: the one that offers what is mounted, if it is the only one, else
/// one of a name like it.
fn meant<'s>(site: &'s Site, mount: &NetworkMount, server: &str) -> Option<&'s Name> {
    let source = mount.source.as_ref()?.raw();
    let shares = site.layout.shares.iter();
    let mut offering: Vec<&Name> = match mount.protocol {
        Protocol::Nfs => {
            let path = AbsPath::new(&source.as_bytes()[source.find(":/")? + 1..]).ok()?;
            let above = |at: &AbsPath| path.within(at);
            shares.filter(|s| !s.nfs.is_empty() && above(&s.path)).map(|s| &s.host).collect()
        }
        _ => {
            let name = source.trim_start_matches(['/', '\\']).split(['/', '\\']).nth(1)?;
            let called = |known: &Name| known.raw().eq_ignore_ascii_case(name);
            shares.filter(|s| s.smb.is_some() && called(&s.name)).map(|s| &s.host).collect()
        }
    };
    offering.retain(|host| *host != mount.host);
    offering.dedup();
    let by_name = || {
        let is_number = server.parse::<IpAddr>().is_ok();
        let hosts = site.layout.hosts.iter().filter(|host| host.name != *mount.host && !is_number);
        let label = server.split('.').next().unwrap_or(server);
        let near = nearest(label, hosts.map(|host| host.name.raw()))?;
        site.layout.hosts.iter().map(|host| &host.name).find(|name| name.raw() == near)
    };
    match offering.as_slice() {
        [one] => Some(one),
        _ => by_name(),
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::layout::mount::MountSource;
    use crate::rules::promise::{Promise, nothing, over};
    use crate::tests::Scene;
    use crate::words::rule::Severity;
    use crate::words::terms::Protocol;

    fn from(scene: &mut Scene, source: &str) {
        scene.layout.mounts[0].from = MountSource::Literal(source.into());
        scene.facts("millrace").mounts = None;
    }

    pub(crate) const PROMISE: Promise = Promise {
        scene: || over(Protocol::Nfs, |scene| from(scene, "attic.example:/loft/media")),
        by_hand: nothing,
    };

    #[test]
    fn a_server_that_nobody_knows_may_be_one_that_offers_this() {
        for (protocol, known, unknown, elsewhere) in [
            (Protocol::Nfs, "granary.lan:/loft/media", "10.9.9.9:/loft/media", "10.9.9.9:/else"),
            (Protocol::Smb, "//granary.lan/media", "//10.9.9.9/MEDIA", "//10.9.9.9/else"),
        ] {
            let mut scene = Scene::over(protocol);
            assert_eq!(scene.messages_of(&RULE), "");
            from(&mut scene, known);
            assert_eq!(scene.messages_of(&RULE), "");
            from(&mut scene, unknown);
            let told = "/mnt/media is mounted from 10.9.9.9, and no host of the layout is called \
                        that; it has granary, millrace → in the layout: add \"10.9.9.9\" to \
                        addresses of host granary";
            assert!(scene.messages_of(&RULE).starts_with(told), "{}", scene.messages_of(&RULE));
            let findings = scene.findings();
            let found = findings.iter().find(|finding| finding.rule == &RULE).unwrap();
            assert_eq!((found.severity, found.affects.len()), (Severity::Blocker, 1));
            from(&mut scene, elsewhere);
            let told = scene.messages_of(&RULE);
            assert!(told.contains("→ in the layout, declare 10.9.9.9 as a host"), "{told}");
            scene.service("lantern").libraries.clear();
            let findings = scene.findings();
            let found = findings.iter().find(|finding| finding.rule == &RULE).unwrap();
            assert_eq!(found.severity, Severity::Risk, "nothing leads through it");
        }
        let mut scene = Scene::over(Protocol::Nfs);
        scene.layout.mounts[0].from = MountSource::Literal("10.9.9.9:/else".into());
        let findings = scene.findings();
        let found = findings.iter().find(|finding| finding.rule == &RULE).unwrap();
        assert_eq!(found.severity, Severity::Risk, "what is mounted there is followed");
        assert!(found.remedy.effects[0].ends_with("granary: what is mounted there comes from it"));
        let mut scene = Scene::over(Protocol::Nfs);
        from(&mut scene, "granry.lan:/else");
        assert!(scene.messages_of(&RULE).contains("to addresses of host granary"));
    }
}
