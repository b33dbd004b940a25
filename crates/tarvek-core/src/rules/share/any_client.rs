//! `share/any-client`.

use std::collections::{BTreeSet, HashMap};
use std::net::Ipv4Addr;

use crate::layout::share::Share;
use crate::remedy::apply_on_host::reload_exports;
use crate::rules::mount::network::network_mounts;
use crate::rules::share::of_share;
use crate::site::join::Site;
use crate::used::used_path::{UsedPath, stays_usable};
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::offer::NfsExport;
use crate::words::part::Part;
use crate::words::remedy::{Remedy, Step};
use crate::words::rule::{Rule, Severity};
use crate::words::terms::{Access, Protocol};

/// An export to the whole world.
pub static RULE: Rule = Rule {
    id: "share/any-client",
    severity: Severity::Risk,
    title: "Any machine may mount a writable export",
    means: "A folder is exported writable to every address.",
    hurts: "Whoever reaches the server can mount it and, since NFS believes the numbers that \
            clients send, be any account but root.",
    fix: "Export it to the hosts or the network that need it.",
    example: "/loft/media is exported to * with rw.",
};

/// Judges every export.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    let clients = clients(site);
    for share in &site.layout.shares {
        for export in &share.nfs {
            if !any(export.clients.raw()) || export.access == Access::ReadOnly {
                continue;
            }
            let message =
                format!("{} is exported writable to {}: to everybody", share.path, export.clients);
            let clients = clients.get(&share.name).cloned().unwrap_or_default();
            let remedy = narrowed(site, cases, (share, export), &clients);
            findings.push(of_share(&RULE, share).says(message).remedy(remedy));
        }
    }
    findings
}

/// The hosts that mount each share over NFS.
fn clients(site: &Site) -> HashMap<Name, BTreeSet<&Name>> {
    let mut all: HashMap<Name, BTreeSet<&Name>> = HashMap::new();
    for mount in network_mounts(site).iter().filter(|mount| mount.protocol == Protocol::Nfs) {
        if let Some(share) = mount.remote(site).and_then(|far| far.share) {
            all.entry(share).or_default().insert(mount.host);
        }
    }
    all
}

/// The export to the network in which all hosts are that mount it; in words, where that is not
/// known.
fn narrowed(
    site: &Site,
    cases: &[UsedPath],
    (share, export): (&Share, &NfsExport),
    clients: &BTreeSet<&Name>,
) -> Remedy {
    let reload = reload_exports(&share.host);
    let names: Vec<String> = clients.iter().map(ToString::to_string).collect();
    if let Some(network) = network_of(site, clients) {
        let part = Part::Export { share: share.name.clone(), clients: export.clients.clone() };
        let steps = vec![site.layout.set(part, "clients", network.as_str()), reload.clone()];
        let after = site.after(&steps);
        if !site.is_trial && after.is_some_and(|after| stays_usable(cases, site, &after)) {
            let effects = vec![format!(
                "who is not in {network}, where {} {}, can then no longer mount it",
                names.join(" and "),
                if names.len() == 1 { "is" } else { "are" }
            )];
            return Remedy { steps, effects };
        }
    }
    let known = match names.is_empty() {
        true => String::new(),
        false => format!(" (mounted by {})", names.join(" and ")),
    };
    let words = format!(
        "in the layout, name the hosts or the network that need {} as its clients{known}",
        share.name
    );
    Remedy::of(vec![Step::words(words), reload])
}

/// The network of 256 addresses in which some hosts are, if all of them are in one.
fn network_of(site: &Site, hosts: &BTreeSet<&Name>) -> Option<String> {
    let mut networks = BTreeSet::new();
    for host in hosts {
        let addresses = &site.layout.host(host)?.addresses;
        let number = addresses.iter().find_map(|known| known.raw().parse::<Ipv4Addr>().ok())?;
        let [a, b, c, _] = number.octets();
        networks.insert(format!("{a}.{b}.{c}.0/24"));
    }
    let one = networks.pop_first();
    one.filter(|_| networks.is_empty())
}

/// Whether clients are all there are.
pub(super) fn any(clients: &str) -> bool {
    matches!(clients, "*" | "0.0.0.0/0" | "::/0" | "0.0.0.0/0.0.0.0")
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, over};
    use crate::tests::Scene;
    use crate::words::terms::{Access, Protocol};

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            over(Protocol::Nfs, |scene| scene.layout.shares[0].nfs[0].access = Access::ReadWrite)
        },
        by_hand: |scene| scene.layout.shares[0].nfs[0].clients = "millrace.lan".into(),
    };

    #[test]
    fn everybody_may_read_at_most() {
        let mut scene = Scene::over(Protocol::Nfs);
        assert_eq!(scene.messages_of(&RULE), "");
        scene.layout.shares[0].nfs[0].access = Access::ReadWrite;
        let told = "/loft/media is exported writable to *: to everybody → in the layout line 3: set \
                    clients = \"10.20.0.0/24\" for client * in the nfs of share media; on granary: \
                    put what `tarvek emit exports` writes in place, and run exportfs -ra";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.host("millrace").addresses = vec!["millrace.lan".into()];
        let told = "/loft/media is exported writable to *: to everybody → in the layout, name the \
                    hosts or the network that need media as its clients (mounted by millrace)";
        assert!(scene.messages_of(&RULE).starts_with(told), "{}", scene.messages_of(&RULE));
        scene.layout.shares[0].nfs[0].clients = "10.20.0.0/24".into();
        assert_eq!(scene.messages_of(&RULE), "");
    }
}
