//! Published ports as engines write them in one line: `[[IP:]HOST:]TARGET[/PROTOCOL]`, each side
//! one port or a range.

use tarvek_core::facts::configured::{PortFact, Transport};
use tarvek_core::words::name::Name;
use tarvek_core::words::word::Word;

/// The ports of one line.
///
/// # Errors
/// Why it is none.
pub(crate) fn short(service: &Name, text: &str) -> Result<PortFact, String> {
    let (ports, protocol) = text.rsplit_once('/').map_or((text, None), |(p, t)| (p, Some(t)));
    let (rest, target) = match ports.rsplit_once(':') {
        Some((rest, target)) => (Some(rest), target),
        None => (None, ports),
    };
    let (host_ip, published) = match rest {
        None => (None, None),
        // An address of IPv6 stands in brackets; Podman leaves the port after it out.
        Some(rest) => match rest.rsplit_once(':') {
            Some((ip, published)) if !rest.ends_with(']') => (Some(ip), Some(published)),
            _ if rest.ends_with(']') => (Some(rest), None),
            _ => (None, Some(rest)),
        },
    };
    let host_ip = host_ip.map(|ip| ip.trim_matches(['[', ']'])).filter(|ip| !ip.is_empty());
    if let Some(ip) = host_ip.filter(|ip| ip.parse::<std::net::IpAddr>().is_err()) {
        return Err(format!("{ip:?} is no address"));
    }
    let published = published.filter(|published| !published.is_empty());
    all(service, host_ip, published, target, protocol)
}

/// The ports of parts that each may be a range.
///
/// # Errors
/// Why they are none.
pub(crate) fn all(
    service: &Name,
    host_ip: Option<&str>,
    published: Option<&str>,
    target: &str,
    protocol: Option<&str>,
) -> Result<PortFact, String> {
    let transport = match protocol {
        None => Transport::default(),
        Some(word) => Transport::named(&word.to_ascii_lowercase())
            .ok_or_else(|| format!("{word:?} is no protocol of a port"))?,
    };
    let targets = range(target)?;
    let published = published.map(range).transpose()?;
    let (first, last) = targets;
    let published = match published {
        None => None,
        Some((from, to)) if to - from == last - first => Some(from),
        // The engine takes one of them that is free.
        Some((from, to)) if first == last && to > from => None,
        Some(_) => return Err("the two ranges of ports are not of one length".into()),
    };
    Ok(PortFact {
        service: service.clone(),
        host_ip: host_ip.map(Name::from),
        published,
        target: first,
        more: last - first,
        transport,
    })
}

fn range(text: &str) -> Result<(u16, u16), String> {
    let port = |text: &str| {
        let number = text.trim().parse::<u16>().ok().filter(|port| *port > 0);
        number.ok_or_else(|| format!("{text:?} is no port"))
    };
    let (first, last) = text.split_once('-').unwrap_or((text, text));
    match (port(first)?, port(last)?) {
        (first, last) if first <= last => Ok((first, last)),
        _ => Err(format!("the range of ports {text} runs backwards")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_form_is_read() {
        let read = |text: &str| {
            let ports = short(&"s".into(), text)?;
            let one = |p: PortFact| {
                let ip = p.host_ip.map(|ip| format!("{ip} ")).unwrap_or_default();
                let published = p.published.map_or("-".into(), |p| p.to_string());
                format!("{ip}{published}>{}/{}", p.target, p.transport.word())
            };
            Ok::<_, String>(ports.each().map(one).collect::<Vec<_>>().join(" "))
        };
        for (text, expected) in [
            ("80", "->80/tcp"),
            ("8080:80", "8080>80/tcp"),
            ("127.0.0.1:8080:80/udp", "127.0.0.1 8080>80/udp"),
            ("127.0.0.1::80", "127.0.0.1 ->80/tcp"),
            ("[::1]:8080:80", "::1 8080>80/tcp"),
            ("[::1]:80", "::1 ->80/tcp"),
            ("::1:8080:80", "::1 8080>80/tcp"),
            ("3000-3001", "->3000/tcp ->3001/tcp"),
            ("9090-9091:8080-8081", "9090>8080/tcp 9091>8081/tcp"),
            ("9000-9005:80", "->80/tcp"),
        ] {
            assert_eq!(read(text).as_deref(), Ok(expected), "{text}");
        }
        for text in ["", "x", "0:1", "70000", "1-2:1-3", "5-3", "x:80:80", "80/icmp", "1:2:3:4"] {
            assert!(read(text).is_err(), "{text}");
        }
    }
}
