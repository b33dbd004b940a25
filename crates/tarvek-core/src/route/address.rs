//! Paths as clients write them in addresses: `smb://` and `nfs://` resolve through what a host has
//! mounted, `file://` is a path of its own (RFC 8089 and RFC 3986 for the form).

use crate::layout::mount::MountSource;
use crate::route::source::Remote;
use crate::site::join::Site;
use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::terms::{Os, Protocol};

/// The path that an address means on a host; `None` if the text is no address.
///
/// # Errors
/// Why it means none.
pub fn resolve(site: &Site, host: &Name, written: &[u8]) -> Option<Result<Vec<u8>, String>> {
    let text = std::str::from_utf8(written).ok()?;
    let (scheme, rest) = text.split_once("://")?;
    let protocol = match scheme.to_ascii_lowercase().as_str() {
        "file" => None,
        "smb" | "cifs" => Some(Protocol::Smb),
        "nfs" => Some(Protocol::Nfs),
        _ => return None,
    };
    let (authority, path) = match rest.find('/') {
        Some(at) => rest.split_at(at),
        None => (rest, ""),
    };
    let server = authority.rsplit_once('@').map_or(authority, |(_, server)| server);
    let path = decoded(path);
    let server = match protocol {
        // A port stands behind the server; an address of IPv6 is in brackets.
        Some(_) => server
            .rsplit_once(':')
            .filter(|(_, port)| port.bytes().all(|b| b.is_ascii_digit()))
            .map_or(server, |(s, _)| s),
        None => server,
    };
    Some(match protocol {
        None if server.is_empty() || server.eq_ignore_ascii_case("localhost") => Ok(drive(path)),
        None => unc(site, host, server, &path),
        Some(_) if server.is_empty() => Err(format!("{} names no server", Name::from(text))),
        Some(protocol) => mounted(site, host, protocol, server, &path),
    })
}

/// `/M:/films` of an address is `M:/films`.
fn drive(path: Vec<u8>) -> Vec<u8> {
    match path.as_slice() {
        [b'/', letter, b':', ..] if letter.is_ascii_alphabetic() => path[1..].to_vec(),
        _ => path,
    }
}

fn unc(site: &Site, host: &Name, server: &str, path: &[u8]) -> Result<Vec<u8>, String> {
    match site.os(host) {
        Os::Windows => Ok([b"\\\\", server.as_bytes(), path].concat()),
        _ => Err(format!("only a Windows client opens a path of {} so", Name::from(server))),
    }
}

/// The path under which a host has mounted what an address names.
fn mounted(
    site: &Site,
    host: &Name,
    protocol: Protocol,
    server: &str,
    path: &[u8],
) -> Result<Vec<u8>, String> {
    let source = match protocol {
        Protocol::Nfs => [server.as_bytes(), b":", path].concat(),
        _ => [b"//", server.as_bytes(), path].concat(),
    };
    let wanted = Remote::parse(site, &source, protocol);
    let same_server = |other: &Remote| {
        wanted.as_ref().is_some_and(|wanted| {
            wanted.server == other.server || wanted.host.is_some() && wanted.host == other.host
        })
    };
    // A server that the site does not know offers what it is asked for by name.
    let below = |other: &Remote, written: &Name| -> Option<Vec<u8>> {
        let wanted = wanted.as_ref()?;
        match (&wanted.path, &other.path) {
            (Some(path), Some(mounted)) => path.below(mounted).map(<[u8]>::to_vec),
            _ => {
                let written = written.raw().replace('\\', "/");
                let text = String::from_utf8_lossy(&source).to_lowercase();
                let rest = text.strip_prefix(&written.to_lowercase())?;
                let rest = (rest.is_empty() || rest.starts_with('/'))
                    .then(|| source[source.len() - rest.len()..].to_vec())?;
                Some(rest)
            }
        }
    };
    let mut found: Vec<(AbsPath, Vec<u8>)> = Vec::new();
    for mount in site.layout.mounts.iter().filter(|m| m.host == *host && m.protocol == protocol) {
        let written = match &mount.from {
            MountSource::Share(_) => site.layout.source(&mount.from),
            MountSource::Literal(source) => source.clone(),
        };
        if let Some(remote) = Remote::of_mount(site, mount).filter(same_server) {
            found.extend(below(&remote, &written).map(|rest| (mount.at.clone(), rest)));
        }
    }
    let entries = site.mounts(host).into_iter().flat_map(|table| table.entries());
    for entry in entries.filter(|entry| entry.network() == Some(protocol)) {
        let written = Name::from(String::from_utf8_lossy(&entry.source).as_ref());
        if let Some(remote) = Remote::parse(site, &entry.source, protocol).filter(same_server) {
            found.extend(below(&remote, &written).map(|rest| (entry.point.clone(), rest)));
        }
    }
    // The mount that is nearest to it shows it.
    let nearest = found.into_iter().min_by_key(|(_, rest)| rest.len());
    if let Some((at, rest)) = nearest {
        return Ok(at.join(&rest).as_bytes().to_vec());
    }
    if protocol == Protocol::Smb && site.os(host) == Os::Windows {
        return Ok([b"\\\\", server.as_bytes(), path].concat());
    }
    let source = Name::from(String::from_utf8_lossy(&source).as_ref());
    Err(format!("{host} has not mounted {source}"))
}

/// `%20` is a space (RFC 3986, section 2.1).
fn decoded(text: &str) -> Vec<u8> {
    let mut bytes = Vec::with_capacity(text.len());
    let mut rest = text.as_bytes();
    while let Some((&byte, after)) = rest.split_first() {
        let pair = after.get(..2).filter(|_| byte == b'%');
        let value =
            pair.and_then(|pair| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok());
        bytes.push(value.unwrap_or(byte));
        rest = if value.is_some() { &after[2..] } else { after };
    }
    bytes
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tests::Scene;

    #[test]
    fn an_address_means_what_the_host_has_mounted() {
        let site = Scene::over(Protocol::Nfs).site();
        let mean = |written: &str| {
            let path = resolve(&site, &"millrace".into(), written.as_bytes())?;
            Some(path.map(|path| String::from_utf8(path).unwrap()))
        };
        let ok = |path: &str| Some(Ok(path.to_owned()));
        assert_eq!(mean("nfs://granary/loft/media/films"), ok("/mnt/media/films"));
        assert_eq!(mean("nfs://mira@granary:2049/loft/media/a%20b"), ok("/mnt/media/a b"));
        assert_eq!(mean("file:///srv/a%2fb%zz"), ok("/srv/a/b%zz"));
        assert_eq!(mean("file:///M:/films"), ok("M:/films"));
        assert_eq!(mean("/plain"), None);
        assert_eq!(mean("gopher://x/y"), None);
        for odd in ["nfs://granary/other", "smb://granary/media", "smb:///x", "file://granary/x"] {
            assert!(matches!(mean(odd), Some(Err(_))), "{odd}");
        }
    }
}
