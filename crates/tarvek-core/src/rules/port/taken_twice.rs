//! `port/taken-twice`.

use crate::layout::service::Service;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::about::About;
use crate::words::finding::Finding;
use crate::words::part::Part;
use crate::words::remedy::Step;
use crate::words::rule::{Rule, Severity};

/// Two services at one port.
pub static RULE: Rule = Rule {
    id: "port/taken-twice",
    severity: Severity::Blocker,
    title: "Two services publish one port",
    means: "Two services of a host publish the same port and protocol, on the same address or on \
            all.",
    hurts: "The second one to start fails, and which one that is changes from boot to boot.",
    fix: "Give one of them another port.",
    example: "lantern and joiner both publish 7080.",
};

/// Judges every pair of services of a host.
pub fn find(site: &Site, _: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    let services = &site.layout.services;
    for (n, later) in services.iter().enumerate() {
        for written in &later.ports {
            let Some(port) = Port::of(written) else { continue };
            let earlier = services[..n].iter().filter(|earlier| earlier.host == later.host);
            let clashes = |earlier: &&Service| {
                let mut theirs = earlier.ports.iter().filter_map(|written| Port::of(written));
                theirs.any(|other| port.meets(&other))
            };
            let Some(earlier) = { earlier }.find(clashes) else { continue };
            let message = format!(
                "{} and {} both publish {}/{} on {}",
                earlier.name,
                later.name,
                port.text(),
                port.protocol,
                later.host
            );
            let steps = vec![
                another(site, later, written, &port),
                Step::on(
                    &later.host,
                    format!("recreate {}'s container with that port", later.name),
                ),
            ];
            let finding = RULE
                .finding(About::Service(later.name.clone()))
                .on(&later.host)
                .line(later.origin.line)
                .says(message)
                .remedy(steps);
            // Ports stand in one line of the layout, and in several of what they were adopted from.
            let part = Part::Port { service: later.name.clone(), port: written.as_str().into() };
            let spot = site.layout.adopted.parts.get(&part);
            findings.push(match spot {
                Some(spot) => finding.written(spot),
                None => finding,
            });
        }
    }
    findings
}

/// The step that publishes a service at a port that is free.
pub(super) fn another(site: &Site, service: &Service, written: &str, port: &Port) -> Step {
    let (first, last) = port.numbers;
    let free = free(site, service, first, &port.protocol);
    if first != last {
        let name = &service.name;
        return Step::words(format!("in the layout, give {name} other ports; {free} is free"));
    }
    let part = Part::Port { service: service.name.clone(), port: written.into() };
    site.layout.set(part, "", port.moved_to(written, free))
}

/// A published port or range of ports, as the layout writes it:
/// `[ADDRESS:]HOST[:INSIDE][/PROTOCOL]`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Port {
    /// The address that it is published on; all of them unless one is named.
    pub(super) address: Option<String>,
    /// The first one and the last.
    pub(super) numbers: (u16, u16),
    pub(super) protocol: String,
}

impl Port {
    pub(super) fn of(written: &str) -> Option<Self> {
        let (rest, protocol) = written.split_once('/').unwrap_or((written, "tcp"));
        let (address, numbers) = match rest.strip_prefix('[').and_then(|rest| rest.split_once("]:"))
        {
            Some((address, numbers)) => (Some(address), numbers),
            None => match rest.split_once(':') {
                Some((first, numbers)) if first.contains('.') => (Some(first), numbers),
                _ => (None, rest),
            },
        };
        let published = numbers.split(':').next()?;
        let (first, last) = published.split_once('-').unwrap_or((published, published));
        Some(Self {
            address: address.map(str::to_owned),
            numbers: (first.parse().ok()?, last.parse().ok()?),
            protocol: protocol.to_owned(),
        })
    }

    /// The same as it was written, at another port of the host; inside it stays where it was.
    fn moved_to(&self, written: &str, number: u16) -> String {
        let (rest, protocol) = match written.split_once('/') {
            Some((rest, protocol)) => (rest, format!("/{protocol}")),
            None => (written, String::new()),
        };
        let address = match &self.address {
            Some(address) if rest.starts_with('[') => format!("[{address}]:"),
            Some(address) => format!("{address}:"),
            None => String::new(),
        };
        let numbers = rest[address.len()..].to_owned();
        let inside = numbers.split_once(':').map_or(numbers.as_str(), |(_, inside)| inside);
        format!("{address}{number}:{inside}{protocol}")
    }

    /// Whether both can't be published at once.
    pub(super) fn meets(&self, other: &Self) -> bool {
        let apart = matches!((&self.address, &other.address), (Some(a), Some(b)) if a != b);
        let overlap = self.numbers.0 <= other.numbers.1 && other.numbers.0 <= self.numbers.1;
        overlap && self.protocol == other.protocol && !apart
    }

    /// The port, or the range.
    pub(super) fn text(&self) -> String {
        match self.numbers {
            (first, last) if first == last => first.to_string(),
            (first, last) => format!("{first}-{last}"),
        }
    }
}

/// The next port of a service's host that no service publishes and nothing listens at.
pub(super) fn free(site: &Site, service: &Service, from: u16, protocol: &str) -> u16 {
    let of_host = site.layout.services.iter().filter(|other| other.host == service.host);
    let published = of_host.flat_map(|other| &other.ports).filter_map(|written| Port::of(written));
    let mut taken: Vec<(u16, u16)> =
        published.filter(|port| port.protocol == protocol).map(|port| port.numbers).collect();
    let listening = site.facts(&service.host).into_iter().flat_map(|facts| &facts.told.listening);
    let listening = listening.filter(|port| port.protocol == protocol);
    taken.extend(listening.map(|port| (port.number, port.number)));
    taken.sort_unstable();
    // The first number from one on that lies in no range.
    let first_free = |from: u16| {
        let mut next = u32::from(from);
        for (first, last) in &taken {
            if u32::from(*first) <= next && next <= u32::from(*last) {
                next = u32::from(*last) + 1;
            }
        }
        u16::try_from(next).ok()
    };
    first_free(from).or_else(|| first_free(1024)).unwrap_or(from)
}

#[cfg(test)]
pub(crate) mod tests {
    use super::{Port, RULE};
    use crate::rules::promise::{Promise, intake};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            intake(|scene| {
                scene.service("lantern").ports = vec!["7080".into()];
                scene.service("joiner").ports = vec!["7080".into()];
            })
        },
        by_hand: |scene| scene.service("joiner").ports = vec!["7081".into()],
    };

    #[test]
    fn a_port_has_one_service() {
        let mut scene = Scene::local().with_intake();
        let mut both = |first: &[&str], second: &[&str]| {
            let owned = |ports: &[&str]| ports.iter().map(|port| (*port).to_owned()).collect();
            scene.service("lantern").ports = owned(first);
            scene.service("joiner").ports = owned(second);
            scene.messages_of(&RULE)
        };
        for (first, second) in [
            (&["7080"][..], &["7081:7080"][..]),
            (&["7080"], &["7080/udp"]),
            (&["127.0.0.1:7080:80"], &["10.20.0.7:7080:80"]),
        ] {
            assert_eq!(both(first, second), "", "{first:?} {second:?}");
        }
        let told = "lantern and joiner both publish 7080/tcp on granary → in the layout line 5: \
                    change port 127.0.0.1:7080:80 of joiner to 127.0.0.1:7082:80; on granary: \
                    recreate joiner's container with that port";
        assert_eq!(both(&["7080", "7081"], &["127.0.0.1:7080:80"]), told);
        let told = both(&["9000-9010"], &["9005-9006:80-81"]);
        assert!(told.contains("both publish 9005-9006/tcp") && told.contains("9011 is free"));
        let port = Port::of("[::1]:53:5300/udp").unwrap();
        assert_eq!(
            (port.address.as_deref(), port.numbers.0, port.protocol.as_str()),
            (Some("::1"), 53, "udp")
        );
    }
}
