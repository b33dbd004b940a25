//! `mount/*`: what should be mounted, and what is.

use super::{Rule, Severity};
use crate::check::{Case, Finding, Where};
use crate::facts::mounts::MountTable;
use crate::layout::Protocol;
use crate::path::AbsPath;
use crate::route::{Evidence, NotMounted};
use crate::site::Site;
use crate::text::{counted, shell_quoted, shown};

/// A mount that is declared and absent.
pub static NOT_MOUNTED: Rule = Rule {
    id: "mount/not-mounted",
    severity: Severity::Blocker,
    title: "Declared or in fstab, but not mounted",
    means: "The mount table of the host has nothing at the mount point, so the folder beneath is seen instead.",
    hurts: "A scan sees an empty folder and may drop every title it knew; what a service writes there fills the system disk, \
            and is hidden as soon as the mount comes back.",
    fix: "Mount it, and find out why it was not: the server was off, the network came up late, the fstab line lacks nofail \
          or automount. Move away what was written beneath first.",
    example: "After a power cut the application host was up before the storage host; /mnt/granary/media stayed empty.",
};

/// Judges every mount that should be there, used by a library or not.
pub(super) fn judge_site(site: &Site, cases: &[Case], findings: &mut Vec<Finding>) {
    let mut seen: Vec<(String, AbsPath)> = Vec::new();
    let on_the_way =
        cases.iter().filter_map(|case| case.route.as_ref()).flat_map(|r| r.not_mounted.clone());
    for absent in declared_absent(site).into_iter().chain(on_the_way) {
        let place = (absent.host.clone(), absent.point.clone());
        if seen.contains(&place) {
            continue;
        }
        seen.push(place);
        let affects = cases.iter().filter(|case| {
            let absents = case.route.iter().flat_map(|route| &route.not_mounted);
            absents
                .into_iter()
                .any(|other| other.host == absent.host && other.point == absent.point)
        });
        findings.push(not_mounted(site, &absent, affects.map(Case::affected).collect()));
    }
}

/// Whether something is mounted exactly there, or would be on first use.
fn is_mounted(table: &MountTable, point: &AbsPath) -> bool {
    table.at(point).is_some_and(|mount| mount.point == *point)
}

fn declared_absent(site: &Site) -> Vec<NotMounted> {
    let mut absent = Vec::new();
    for (host, facts) in site.observed() {
        let Some(table) = &facts.mounts else { continue };
        let declared = site.layout.mounts.iter().filter(|mount| mount.host == host);
        let declared = declared.filter(|mount| !is_mounted(table, &mount.at));
        absent.extend(declared.map(|mount| NotMounted::declared(site, mount)));
        let fstab =
            facts.fstab.iter().filter(|line| line.at_boot() && !is_mounted(table, &line.point));
        absent.extend(fstab.map(|line| NotMounted::of_fstab(host, line)));
    }
    absent
}

fn not_mounted(site: &Site, absent: &NotMounted, affects: Vec<String>) -> Finding {
    let by = if absent.origin.is_some() { "the layout declares" } else { "fstab has" };
    let beneath = match super::path::entries_in(site, &absent.host, &absent.point) {
        Some(0) => "; the folder beneath is empty".to_owned(),
        Some(count) => format!("; {} beneath will be hidden once it is", counted(count, "entry")),
        None => String::new(),
    };
    Finding {
        rule: &NOT_MOUNTED,
        severity: NOT_MOUNTED.severity,
        evidence: Evidence::Observed,
        subject: format!("host:{} mount:{}", absent.host, absent.point),
        message: format!(
            "{by} {} at {}, but nothing is mounted there{beneath}",
            shown(absent.source.as_bytes()),
            absent.point
        ),
        place: Where {
            host: Some(absent.host.clone()),
            path: Some(absent.point.clone()),
            line: absent.origin.map(|origin| origin.line),
        },
        remedy: remedy(site, absent),
        affects,
        effects: Vec::new(),
        because: None,
    }
}

/// With an fstab line the mount point is enough; without one the whole command has to be said.
fn remedy(site: &Site, absent: &NotMounted) -> String {
    let point = shell_quoted(absent.point.as_bytes());
    let in_fstab = site
        .facts(&absent.host)
        .is_some_and(|facts| facts.fstab.iter().any(|line| line.point == absent.point));
    if in_fstab {
        return format!("on {}: mount {point}", absent.host);
    }
    let share = absent.source.split_once(':').and_then(|(_, name)| site.layout.share(name));
    let source = match (share, absent.protocol) {
        (Some(share), Protocol::Nfs) => format!("{}:{}", address(site, &share.host), share.path),
        (Some(share), Protocol::Smb) => format!("//{}/{}", address(site, &share.host), share.name),
        _ => absent.source.clone(),
    };
    let kind = match absent.protocol {
        Protocol::Nfs => "-t nfs ",
        Protocol::Smb => "-t cifs ",
        Protocol::Bind => "--bind ",
        Protocol::Disk => "",
    };
    // Options that only fstab reads mean nothing to mount(8) on the command line.
    let plain = |option: &&String| {
        !matches!(option.as_str(), "nofail" | "_netdev") && !option.starts_with("x-")
    };
    let options: Vec<&str> = absent.options.iter().filter(plain).map(String::as_str).collect();
    let options =
        if options.is_empty() { String::new() } else { format!("-o {} ", options.join(",")) };
    let source = shell_quoted(source.as_bytes());
    format!("on {}: mount {kind}{options}{source} {point}", absent.host)
}

fn address<'a>(site: &'a Site, host: &'a str) -> &'a str {
    site.layout.host(host).and_then(|host| host.addresses.first()).map_or(host, String::as_str)
}
