//! `mount/*`: what should be mounted, and what is.

pub mod boot_hang;
pub mod by_address;
pub mod client_ids;
pub mod contradiction;
pub mod files_beneath;
pub mod inline_password;
pub mod local_disk;
pub(in crate::rules) mod network;
pub mod no_share_named;
pub mod not_mounted;
pub mod not_permanent;
pub mod old_protocol;
pub mod open_credentials;
pub mod same_host;
pub mod service_before_mount;
pub mod soft_writes;
pub mod unknown_server;
pub mod wider_than_needed;
pub mod wrong_source;

use std::net::IpAddr;

use crate::facts::mounts::MountEntry;
use crate::layout::mapping::MapSource;
use crate::layout::mount::{Mount, MountSource};
use crate::layout::share::Share;
use crate::route::end::NotMounted;
use crate::route::hops::{HopKind, Route};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::about::{About, Affected};
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::options::MountOptions;
use crate::words::part::Part;
use crate::words::path::AbsPath;
use crate::words::place::Place;
use crate::words::remedy::{Command, Step};
use crate::words::rule::RuleId;
use crate::words::terms::Protocol;

/// Where engines and desktops mount for themselves.
const OTHERS: [&[u8]; 4] = [b"/var/lib/", b"/run/", b"/snap/", b"/proc/"];

/// Whether an engine or a desktop mounts there for itself.
fn is_made_by_others(point: &AbsPath) -> bool {
    OTHERS.iter().any(|place| point.as_bytes().starts_with(place))
}

/// A finding about a mount of the layout, and what passes it.
pub(super) fn of_mount(rule: RuleId, mount: &Mount, cases: &[UsedPath]) -> Finding {
    let at = Place::new(&mount.host, &mount.at);
    let about = About::Mount { host: mount.host.clone(), at: mount.at.clone() };
    rule.finding(about).at(&at).line(mount.origin.line).affects(affected_through(cases, &at))
}

/// What leads through a mount point.
fn affected_through<'c>(
    cases: &'c [UsedPath],
    point: &'c Place,
) -> impl Iterator<Item = Affected> + 'c {
    let through = |case: &&UsedPath| case.route.as_ref().is_some_and(|way| passes(way, point));
    cases.iter().filter(through).map(UsedPath::affected)
}

/// Whether a way passes a mount point.
fn passes(route: &Route, point: &Place) -> bool {
    let through = |from: &Place| from.host == point.host && from.path.within(&point.path);
    route.hops.iter().any(|hop| hop.kind == HopKind::Mount && through(&hop.from))
}

/// What gives a mount other options: the layout, and what really mounts it.
fn set_options(site: &Site, mount: &Mount, options: &MountOptions) -> Vec<Step> {
    let words = format!(
        "change the line of fstab or the unit that mounts {} in the same way, and remount it",
        mount.at
    );
    // Whoever has a secret there has to write the line: it is known nowhere else.
    let edit = if options.hide_a_secret() {
        let shown = options.to_string();
        Step::words(format!("in the layout, make the options of {} {shown}", mount.at))
    } else {
        site.layout.set(Part::mount(&mount.host, &mount.at), "options", options.to_string())
    };
    vec![edit, Step::on(&mount.host, words)]
}

/// What makes everything that an SMB mount shows belong to somebody (`mount.cifs(8)`, `uid=`,
/// `gid=`).
pub(in crate::rules) fn set_ids(site: &Site, at: &Place, ids: &[(&str, u32)]) -> Vec<Step> {
    let options: Vec<String> = ids.iter().map(|(key, id)| format!("{key}={id}")).collect();
    let options: Vec<&str> = options.iter().map(String::as_str).collect();
    match mount_above(site, at) {
        Some(mount) => set_options(site, mount, &mount.options.with(&options)),
        None => {
            let (ids, point) = (options.join(","), &at.path);
            vec![Step::on(&at.host, format!("set {ids} where {point} is mounted, and remount it"))]
        }
    }
}

/// The declared mount that a place of a host lies on.
fn mount_above<'s>(site: &'s Site, at: &Place) -> Option<&'s Mount> {
    let of_host = site.layout.mounts.iter().filter(|mount| mount.host == at.host);
    let above = of_host.filter(|mount| at.path.within(&mount.at));
    above.max_by_key(|mount| mount.at.components().count())
}

/// The server in a source that is written out: `server:/path`, `//server/share`.
fn server(source: &str, protocol: Protocol) -> Option<&str> {
    let server = match protocol {
        Protocol::Nfs => source.split_once(":/")?.0,
        Protocol::Smb => source.trim_start_matches(['/', '\\']).split(['/', '\\']).next()?,
        Protocol::Disk | Protocol::Bind => return None,
    };
    Some(server).filter(|server| !server.is_empty())
}

/// Whether what is mounted is what a mount of the layout declares, as far as its source can tell.
pub(super) fn is_declared_source(site: &Site, mount: &Mount, seen: &MountEntry) -> bool {
    let source = String::from_utf8_lossy(&seen.source);
    let share = match &mount.from {
        MountSource::Share(name) => site.layout.share(name),
        MountSource::Literal(_) => None,
    };
    match (share, &mount.from, mount.protocol) {
        (Some(share), _, Protocol::Nfs) => exports(site, share, &source),
        (Some(share), _, Protocol::Smb) => offers(site, share, &source),
        (None, MountSource::Literal(written), Protocol::Nfs | Protocol::Smb) => {
            same_source(site, written.raw(), &source, mount.protocol)
        }
        _ => true,
    }
}

/// Whether two sources are one, or may be: of a number that no host of the site is known by, nobody
/// knows whose it is.
fn same_source(site: &Site, declared: &str, seen: &str, protocol: Protocol) -> bool {
    let plain = |source: &str| source.replace('\\', "/").trim_end_matches('/').to_ascii_lowercase();
    let (declared, seen) = (plain(declared), plain(seen));
    let (Some(a), Some(b)) = (server(&declared, protocol), server(&seen, protocol)) else {
        return declared == seen;
    };
    let rest = |source: &str, server: &str| source.replacen(server, "", 1);
    let number = |server: &str| server.trim_matches(['[', ']']).parse::<IpAddr>().is_ok();
    let same_server = match (site.host_named(a), site.host_named(b)) {
        (Some(a), Some(b)) => a == b,
        _ => a == b || number(a) != number(b),
    };
    same_server && rest(&declared, a) == rest(&seen, b)
}

/// Whether a source of NFS is a share.
fn exports(site: &Site, share: &Share, source: &str) -> bool {
    source.rsplit_once(':').is_some_and(|(server, path)| {
        site.host_named(server) == Some(&share.host)
            && path.trim_end_matches('/').as_bytes() == share.path.as_bytes()
    })
}

/// Whether a source of SMB is a share.
fn offers(site: &Site, share: &Share, source: &str) -> bool {
    source.trim_start_matches('/').split_once('/').is_some_and(|(server, name)| {
        site.host_named(server) == Some(&share.host) && name.eq_ignore_ascii_case(share.name.raw())
    })
}

/// The command that mounts what should be mounted. With an fstab line the mount point is enough;
/// without one the whole command has to be said.
fn command(site: &Site, absent: &NotMounted) -> Command {
    let Place { host, path } = &absent.at;
    if site.fstab_at(host, path).is_some() {
        return Command::new("mount").arg(path);
    }
    let named = absent.source.raw().split_once(':').map(|(_, name)| Name::from(name));
    let share = named.and_then(|name| site.layout.share(&name));
    let source = match (share, absent.protocol) {
        (Some(share), Protocol::Nfs) => {
            [address(site, &share.host).raw().as_bytes(), b":", share.path.as_bytes()].concat()
        }
        (Some(share), Protocol::Smb) => {
            format!("//{}/{}", address(site, &share.host).raw(), share.name.raw()).into_bytes()
        }
        _ => absent.source.raw().as_bytes().to_vec(),
    };
    let mut command = Command::new(match absent.protocol {
        Protocol::Nfs => "mount -t nfs",
        Protocol::Smb => "mount -t cifs",
        Protocol::Bind => "mount --bind",
        Protocol::Disk => "mount",
    });
    // Options that only fstab reads mean nothing to mount(8) on the command line.
    let plain =
        |option: &&str| !matches!(*option, "nofail" | "_netdev") && !option.starts_with("x-");
    let mut options: Vec<String> = absent.options.iter().filter(plain).map(str::to_owned).collect();
    options.extend(login(site, absent));
    if !options.is_empty() {
        command = command.arg("-o").arg(options.join(","));
    }
    command.operand(source).arg(path)
}

/// How an SMB mount of the layout says who connects (`mount.cifs(8)`); the password is asked for,
/// or stands in the file.
fn login(site: &Site, absent: &NotMounted) -> Option<String> {
    let at = |mount: &&Mount| mount.host == absent.at.host && mount.at == absent.at.path;
    let mount = site.layout.mounts.iter().find(at)?;
    let said = ["username", "user", "credentials", "guest"];
    if mount.protocol != Protocol::Smb
        || said.iter().any(|key| mount.options.has(key) || mount.options.value(key).is_some())
    {
        return None;
    }
    let file =
        mount.credentials.as_ref().and_then(|file| std::str::from_utf8(file.as_bytes()).ok());
    file.map(|file| format!("credentials={file}"))
        .or_else(|| Some(format!("username={}", mount.user.as_ref()?.raw())))
}

fn address<'a>(site: &'a Site, host: &'a Name) -> &'a Name {
    site.layout.host(host).and_then(|host| host.addresses.first()).unwrap_or(host)
}

/// What services see of a mount point: their containers keep what was there when they were started.
fn start_anew(site: &Site, host: &Name, at: &AbsPath) -> Option<Step> {
    let uses = |from: &AbsPath| from.within(at) || at.within(from);
    let services = site.layout.services.iter().filter(|service| service.host == *host);
    let mapped = services.filter(|service| {
        service.maps().iter().any(|map| match &map.source {
            MapSource::Folder(from) => from.path.as_ref().is_ok_and(uses),
            _ => false,
        })
    });
    let names: Vec<String> = mapped.map(|service| service.name.to_string()).collect();
    (!names.is_empty()).then(|| {
        Step::on(host, format!("restart {} so that it sees the new mount", names.join(", ")))
    })
}
