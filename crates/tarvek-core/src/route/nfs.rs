//! Who arrives over NFS, and through which export (`exports(5)`, RFC 5531).

use std::net::{IpAddr, Ipv4Addr};

use crate::kernel::subject::{NOBODY, Subject};
use crate::layout::share::Share;
use crate::route::spot::{Arrival, MountVia, OfferVia};
use crate::site::join::Site;
use crate::words::name::Name;
use crate::words::offer::{NfsExport, Squash};
use crate::words::terms::Access;

/// How many supplementary groups an AUTH_SYS credential carries (RFC 5531, appendix A).
const AUTH_SYS_GROUPS: usize = 16;

/// Over NFS the numbers travel, at most 16 further groups with them, and the export may replace
/// them (`exports(5)`).
pub(super) fn arrive(
    site: &Site,
    client: &Name,
    server: &Name,
    share: Option<&Share>,
    local: &Subject,
    via: &mut MountVia,
) -> Arrival {
    let mut sent = auth_sys(local);
    if site.layout.host(server).is_some_and(|host| host.manage_gids) {
        sent = looked_up(site, server, &sent);
        if sent.groups != local.groups {
            via.sent = Some((sent.clone(), format!("{server} looks the groups up itself")));
        }
    } else if sent.groups != local.groups {
        let (some, all) = (sent.groups.len(), local.groups.len());
        let by = format!("AUTH_SYS carries only {some} of the {all} further groups");
        via.sent = Some((sent.clone(), by));
    }
    let open = |share, remark| {
        let offer = OfferVia { share, access: Access::ReadWrite, remark, changed_by: None };
        Arrival { subject: sent.clone(), offer }
    };
    let Some(share) = share else {
        return open(None, "the layout declares no share for it".to_owned());
    };
    let Some(export) = export_for(site, share, client) else {
        return open(Some(share.name.clone()), format!("no NFS export of it names {client}"));
    };
    let subject = squashed(&sent, export);
    let changed_by = (subject != sent).then(|| format!("{} of the export", export.squash.option()));
    let remark = format!("exported {} to {}", export.access.word(), export.clients);
    let offer =
        OfferVia { share: Some(share.name.clone()), access: export.access, remark, changed_by };
    Arrival { subject, offer }
}

/// What travels of somebody in an AUTH_SYS credential (RFC 5531, appendix A): the numbers, and of
/// the supplementary groups the first 16 in the order in which a kernel keeps them, which is
/// ascending. Capabilities stay where they are.
fn auth_sys(subject: &Subject) -> Subject {
    let groups = subject.groups.iter().copied().take(AUTH_SYS_GROUPS);
    Subject { doubt: subject.doubt.clone(), ..Subject::new(subject.uid, subject.gid, groups) }
}

/// Whom a server sees that looks the groups up itself, the account's own among them, whatever the
/// credential carries (getgrouplist(3)).
fn looked_up(site: &Site, server: &Name, sent: &Subject) -> Subject {
    let account = site.account_numbered(server, sent.uid);
    let found = account.map(|account| site.login(server, account));
    let groups = found.into_iter().flat_map(|login| {
        let own = login.gid;
        login.groups.into_iter().chain([own])
    });
    Subject { doubt: sent.doubt.clone(), ..Subject::new(sent.uid, sent.gid, groups) }
}

/// What an NFS server makes of a credential (`exports(5)`): squashing replaces uid 0, gid 0 and
/// supplementary gid 0 each by itself.
fn squashed(sent: &Subject, export: &NfsExport) -> Subject {
    let (anonuid, anongid) = (export.anonuid.unwrap_or(NOBODY), export.anongid.unwrap_or(NOBODY));
    let gid = |gid: u32| if gid == 0 { anongid } else { gid };
    let groups = sent.groups.iter().copied();
    let seen = match export.squash {
        Squash::None => Subject::new(sent.uid, sent.gid, groups),
        Squash::All => return Subject::new(anonuid, anongid, []),
        Squash::Root => {
            let uid = if sent.uid == 0 { anonuid } else { sent.uid };
            Subject::new(uid, gid(sent.gid), groups.map(gid))
        }
    };
    Subject { doubt: sent.doubt.clone(), ..seen }
}

/// How closely an export names a client; the closest counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Named {
    Host,
    Network,
    Wildcard,
    Anyone,
}

/// Whether a server certainly keeps a client out: none of its exports names it, and every number
/// that it could have is known.
pub(crate) fn refuses(site: &Site, share: &Share, client: &Name) -> bool {
    let known = site.layout.host(client).into_iter().flat_map(|host| &host.addresses);
    let numbered = { known }.any(|address| address.raw().parse::<IpAddr>().is_ok());
    let by_name = |export: &NfsExport| {
        !export.clients.raw().contains('/') && !export.clients.raw().starts_with('@')
    };
    export_for(site, share, client).is_none() && (numbered || share.nfs.iter().all(by_name))
}

/// The export that applies to a client. Clients match by kind – single host, network, wildcard, `*`
/// – and within one kind the first listed wins (`exports(5)`). `None` if no export is for this
/// client, or it can't be told.
pub(crate) fn export_for<'a>(
    site: &Site,
    share: &'a Share,
    client: &Name,
) -> Option<&'a NfsExport> {
    let declared = site.layout.host(client);
    let names = || {
        let addresses = declared.iter().flat_map(|host| host.addresses.iter().map(Name::raw));
        std::iter::once(client.raw()).chain(addresses)
    };
    let numbers = || names().filter_map(|name| name.parse::<IpAddr>().ok());
    let named = |export: &NfsExport| {
        let clients = export.clients.raw();
        let wild = clients.contains(['*', '?']);
        if names().any(|name| name.eq_ignore_ascii_case(clients)) {
            Some(Named::Host)
        } else if numbers().any(|number| in_network(clients, number)) {
            Some(Named::Network)
        } else if clients == "*" {
            Some(Named::Anyone)
        } else if wild && names().any(|name| wildcard(clients.as_bytes(), name.as_bytes())) {
            Some(Named::Wildcard)
        } else {
            None
        }
    };
    let best = share.nfs.iter().filter_map(|export| Some((named(export)?, export)));
    // `min_by_key` keeps the first of equals.
    let certain = best.min_by_key(|(named, _)| *named).map(|(_, export)| export);
    // A client that is declared by name only may well be in the one network that is listed.
    certain.or_else(|| match share.nfs.as_slice() {
        [only] if numbers().next().is_none() && only.clients.raw().contains('/') => Some(only),
        _ => None,
    })
}

fn in_network(clients: &str, address: IpAddr) -> bool {
    let Some((network, mask)) = clients.split_once('/') else { return false };
    let bits = |address: IpAddr| match address {
        IpAddr::V4(v4) => (u128::from(u32::from(v4)) << 96, 32),
        IpAddr::V6(v6) => (u128::from(v6), 128),
    };
    let Ok(network) = network.parse::<IpAddr>() else { return false };
    let ((network_bits, width), (address_bits, address_width)) = (bits(network), bits(address));
    if width != address_width {
        return false;
    }
    let length = match mask.parse::<u32>() {
        Ok(length) if length <= width => length,
        Ok(_) => return false,
        // A dotted mask, as `exports(5)` allows for IPv4.
        Err(_) => match mask.parse::<Ipv4Addr>() {
            Ok(mask) if width == 32 => u32::from(mask).leading_ones(),
            _ => return false,
        },
    };
    length == 0 || (network_bits ^ address_bits) >> (128 - length) == 0
}

/// `*` and `?` match within one label: they do not match dots (`exports(5)`).
fn wildcard(pattern: &[u8], name: &[u8]) -> bool {
    match (pattern, name) {
        ([], []) => true,
        ([b'*', rest @ ..], _) => {
            wildcard(rest, name)
                || matches!(name, [c, after @ ..] if *c != b'.' && wildcard(pattern, after))
        }
        ([b'?', rest @ ..], [c, after @ ..]) => *c != b'.' && wildcard(rest, after),
        ([p, rest @ ..], [c, after @ ..]) => p.eq_ignore_ascii_case(c) && wildcard(rest, after),
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::layout::host::Host;
    use crate::layout::site::Layout;
    use crate::words::path::AbsPath;
    use crate::words::terms::Origin;

    fn export(clients: &str, squash: Squash) -> NfsExport {
        NfsExport {
            clients: clients.into(),
            access: Access::ReadOnly,
            squash,
            anonuid: Some(900),
            anongid: None,
            crossmnt: false,
            options: vec![],
        }
    }

    #[test]
    fn squashing_replaces_each_id_by_itself() {
        for (squash, subject, seen) in [
            (Squash::Root, Subject::new(0, 0, [0, 7]), "900:65534 +7"),
            (Squash::Root, Subject::new(1000, 0, [5]), "1000:65534 +5"),
            (Squash::Root, Subject::new(1000, 5, [0]), "1000:5 +65534"),
            (Squash::All, Subject::new(1000, 5, [6]), "900:65534"),
            (Squash::None, Subject::new(0, 0, []), "0:0"),
        ] {
            assert_eq!(squashed(&subject, &export("*", squash)).to_string(), seen, "{subject}");
        }
    }

    #[test]
    fn no_more_than_sixteen_groups_travel() {
        let subject = Subject::new(1000, 5, 100..120);
        assert_eq!(auth_sys(&subject).groups, (100..116).collect::<Vec<_>>());
    }

    #[test]
    fn the_closest_export_counts_and_of_equals_the_first() {
        let millrace = Host {
            name: "millrace".into(),
            addresses: vec!["millrace.lan".into(), "10.20.0.3".into()],
            ..Host::default()
        };
        let kelp = Host { name: "kelp".into(), ..Host::default() };
        let layout = Layout { hosts: vec![millrace, kelp], ..Layout::default() };
        let site = Site::join(layout, Vec::new()).unwrap();
        for (clients, client, chosen) in [
            (&["*", "10.20.0.0/24", "millrace.lan"][..], "millrace", Some("millrace.lan")),
            (&["*", "mill*", "10.20.0.0/24"], "millrace", Some("10.20.0.0/24")),
            (&["*", "mill*"], "millrace", Some("mill*")),
            (&["10.20.0.0/16", "10.20.0.0/24"], "millrace", Some("10.20.0.0/16")),
            (&["10.21.0.0/24"], "millrace", None),
            // Of a client without a number nobody knows whether it is in a network, if there are
            // several to choose from.
            (&["10.21.0.0/24"], "kelp", Some("10.21.0.0/24")),
            (&["10.21.0.0/24", "10.20.0.0/24"], "kelp", None),
        ] {
            let share = Share {
                name: "media".into(),
                host: "granary".into(),
                path: AbsPath::root(),
                nfs: clients.iter().map(|clients| export(clients, Squash::Root)).collect(),
                smb: None,
                also: Vec::new(),
                origin: Origin::default(),
            };
            let found = export_for(&site, &share, &client.into());
            assert_eq!(found.map(|export| export.clients.raw()), chosen, "{clients:?} {client}");
        }
    }

    #[test]
    fn clients_match_networks_and_wildcards() {
        for (clients, address, inside) in [
            ("10.20.0.0/24", "10.20.0.7", true),
            ("10.20.0.0/24", "10.20.1.7", false),
            ("10.20.0.0/255.255.0.0", "10.20.1.7", true),
            ("0.0.0.0/0", "192.0.2.1", true),
            ("2001:db8::/32", "2001:db8:1::7", true),
            ("10.20.0.0/24", "2001:db8::1", false),
        ] {
            assert_eq!(
                in_network(clients, address.parse().unwrap()),
                inside,
                "{clients} {address}"
            );
        }
        for (pattern, name, matches) in [
            ("*.lan", "millrace.lan", true),
            ("*.lan", "a.b.lan", false),
            ("mill?ace", "millrace", true),
            ("mill*", "granary", false),
        ] {
            assert_eq!(wildcard(pattern.as_bytes(), name.as_bytes()), matches, "{pattern} {name}");
        }
    }
}
