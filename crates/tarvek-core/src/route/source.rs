//! What a mount's source means: the host and folder behind it, and the share that offers it.

use crate::layout::{Mount, MountSource, NfsExport, Protocol, Share};
use crate::path::AbsPath;
use crate::site::Site;

/// The far side of a network mount.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Remote {
    /// The server as written.
    pub(super) server: String,
    /// The host of the site that it is, if the site knows one.
    pub(super) host: Option<String>,
    /// The folder on the server, where it can be told.
    pub(super) path: Option<AbsPath>,
    /// The share that offers it.
    pub(super) share: Option<String>,
    /// How it is reached.
    pub(super) protocol: Protocol,
}

impl Remote {
    /// The far side of a declared network mount.
    pub(super) fn of_mount(site: &Site, mount: &Mount) -> Option<Self> {
        match &mount.from {
            MountSource::Share(name) => Self::of_share(site, name, mount.protocol),
            MountSource::Literal(text) => Self::parse(site, text.as_bytes(), mount.protocol),
        }
    }

    /// A share of the layout.
    pub(super) fn of_share(site: &Site, name: &str, protocol: Protocol) -> Option<Self> {
        let share = site.layout.share(name)?;
        Some(Self {
            server: share.host.clone(),
            host: Some(share.host.clone()),
            path: Some(share.path.clone()),
            share: Some(share.name.clone()),
            protocol,
        })
    }

    /// A source as a mount table or fstab writes it: `server:/path` for NFS (`nfs(5)`), `//server/share/sub` for SMB
    /// (`mount.cifs(8)`).
    pub(super) fn parse(site: &Site, source: &[u8], protocol: Protocol) -> Option<Self> {
        match protocol {
            Protocol::Nfs => {
                let cut = source.windows(2).position(|pair| pair == b":/")?;
                let server = String::from_utf8_lossy(&source[..cut]).into_owned();
                let path = AbsPath::new(&source[cut + 1..]).ok()?;
                let host = site.host_named(&server).map(str::to_owned);
                // The innermost share that offers it over NFS.
                let share = site
                    .layout
                    .shares
                    .iter()
                    .filter(|s| Some(&s.host) == host.as_ref() && !s.nfs.is_empty())
                    .filter(|s| path.within(&s.path))
                    .max_by_key(|s| s.path.as_bytes().len());
                let share = share.map(|share| share.name.clone());
                Some(Self { server, host, path: Some(path), share, protocol })
            }
            Protocol::Smb => {
                let text: Vec<u8> =
                    source.iter().map(|&b| if b == b'\\' { b'/' } else { b }).collect();
                let mut parts = crate::path::components(text.strip_prefix(b"//")?);
                let server = String::from_utf8_lossy(parts.next()?).into_owned();
                let wanted = String::from_utf8_lossy(parts.next()?).into_owned();
                let host = site.host_named(&server).map(str::to_owned);
                let share = site.layout.shares.iter().find(|s| {
                    Some(&s.host) == host.as_ref()
                        && s.smb.is_some()
                        && s.name.eq_ignore_ascii_case(&wanted)
                });
                let path = share
                    .map(|share| parts.fold(share.path.clone(), |path, part| path.child(part)));
                let share = share.map(|share| share.name.clone());
                Some(Self { server, host, path, share, protocol })
            }
            Protocol::Disk | Protocol::Bind => None,
        }
    }
}

/// The export that applies to a client. Clients match by kind – single host, network, wildcard, `*` – and within one
/// kind the first listed wins (`exports(5)`). `None` if no export is for this client, or it can't be told.
pub(super) fn export_for<'a>(site: &Site, share: &'a Share, client: &str) -> Option<&'a NfsExport> {
    let declared = site.layout.host(client);
    let names = || {
        std::iter::once(client)
            .chain(declared.iter().flat_map(|host| host.addresses.iter().map(String::as_str)))
    };
    let numbers = || names().filter_map(|name| name.parse::<std::net::IpAddr>().ok());
    let kind = |export: &NfsExport| {
        let clients = export.clients.as_str();
        if names().any(|name| name.eq_ignore_ascii_case(clients)) {
            return Some(0);
        }
        if numbers().any(|number| in_network(clients, number)) {
            return Some(1);
        }
        if clients == "*" {
            return Some(3);
        }
        let wild = clients.contains(['*', '?']);
        (wild && names().any(|name| wildcard(clients.as_bytes(), name.as_bytes()))).then_some(2)
    };
    let best = share.nfs.iter().filter_map(|export| Some((kind(export)?, export)));
    // `min_by_key` keeps the first of equals.
    let certain = best.min_by_key(|(kind, _)| *kind).map(|(_, export)| export);
    // A client that is declared by name only may well be in the one network that is listed.
    certain.or_else(|| match share.nfs.as_slice() {
        [only] if numbers().next().is_none() && is_network(&only.clients) => Some(only),
        _ => None,
    })
}

fn is_network(clients: &str) -> bool {
    clients.contains('/')
}

fn in_network(clients: &str, address: std::net::IpAddr) -> bool {
    use std::net::IpAddr;
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
        Err(_) => match mask.parse::<std::net::Ipv4Addr>() {
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
