//! `identity/*`: who a service is when it arrives at the files.

use std::collections::BTreeMap;

use super::{Rule, Severity};
use crate::access::{Need, Refusal, decide, judge as judge_need};
use crate::check::{Case, Finding, Where};
use crate::identity::{NOBODY, Subject};
use crate::layout::{Account, Host, Protocol, RunAs, Service, ServiceRole};
use crate::party::seen_as;
use crate::route::{End, Evidence, Hop, HopKind, Route, View, follow};
use crate::site::Site;
use crate::text::shown;

/// A number that the storage host has no account for.
pub static UNKNOWN_ACCOUNT: Rule = Rule {
    id: "identity/unknown-account",
    severity: Severity::Risk,
    title: "A service's number has no account on the storage host",
    means: "The uid under which the service arrives at the files belongs to no account of the host that holds them.",
    hurts: "Access works by numbers, but nobody sees who owns what the service makes, and the number may be given to somebody \
            else one day.",
    fix: "Make an account with that number on the storage host; `tarvek emit accounts` writes the command.",
    example: "lantern runs as 972 on millrace; granary has no uid 972.",
};

/// One name with two numbers.
pub static NUMBER_MISMATCH: Rule = Rule {
    id: "identity/number-mismatch",
    severity: Severity::Risk,
    title: "One name has different numbers on two hosts that share over NFS",
    means: "NFS with AUTH_SYS sends numbers. A name that means one number on the client and another on the server is two \
            accounts, however alike a listing may look.",
    hurts: "Files belong to somebody else than they seem to, and access goes by the number.",
    fix: "Give the account or group the same number on both hosts, and its files the new one (chown on what it owns).",
    example: "keepers is 2100 on granary and 1005 on millrace.",
};

/// A service that is root without need.
pub static RUNS_AS_ROOT: Rule = Rule {
    id: "identity/runs-as-root",
    severity: Severity::Risk,
    title: "A service runs as root",
    means: "The service's account is uid 0 on its host. No media service needs that for its files.",
    hurts: "Rights mean nothing to root: a fault in the program can read, change and delete everything that is mapped into it.",
    fix: "Give the service an account of its own, and set runs_as to it.",
    example: "drover has runs_as = \"0:0\".",
};

/// A container whose account nobody has set.
pub static RUN_AS_UNSET: Rule = Rule {
    id: "identity/run-as-unset",
    severity: Severity::Risk,
    title: "Nobody says whom a service runs as",
    means: "The service runs in a container, and no account is set for it. Then the image decides, which is root with most; \
            others take the account from variables such as PUID and PGID.",
    hurts: "What it makes belongs to root, or to an account that nobody chose, and other services can't use it.",
    fix: "Set runs_as; for an image that takes its account from the environment, set its variables to the same numbers.",
    example: "joiner has a map and no runs_as.",
};

/// A namespace that makes files nobody's.
pub static SHIFTED: Rule = Rule {
    id: "identity/shifted",
    severity: Severity::Blocker,
    title: "A user namespace shifts the ids away from the files' owners",
    means: "Inside its user namespace the service has the right numbers; outside, where the files are, they are others. \
            Without the shift the account could read the library.",
    hurts: "All files look as if they belonged to nobody, and only what everyone may do is possible.",
    fix: "Give the shifted number what it needs; or map the account's own number into the namespace (a range of one id); or let \
          the engine mount the folder with the namespace's ids (an idmapped mount).",
    example: "kelp is a system container whose ids start at 100000: 972 in it is 100972 on millrace.",
};

/// An id that the server replaces.
pub static SQUASHED: Rule = Rule {
    id: "identity/squashed",
    severity: Severity::Risk,
    title: "The server takes a service for somebody else",
    means: "The export replaces the service's uid: root by nobody, or everyone by one account.",
    hurts: "The service can do what that account can, whatever rights its own account has; what it makes belongs to it.",
    fix: "Run the service under an account of its own (root is replaced unless the export says no_root_squash, which is worse), or \
          take all_squash off the export.",
    example: "drover runs as root on millrace and arrives on granary as 65534.",
};

/// Groups that are lost on the way.
pub static TOO_MANY_GROUPS: Rule = Rule {
    id: "identity/too-many-groups",
    severity: Severity::Risk,
    title: "Access depends on a group that does not travel",
    means: "An AUTH_SYS credential carries 16 groups besides the primary one. The account has more, and the one that would let it \
            in is among those that are left behind.",
    hurts: "Access fails over NFS although it works on the storage host.",
    fix: "Let the server look the groups up itself (manage-gids in nfs.conf), or take the account out of groups it does not need.",
    example: "archivist is in 23 groups; keepers has the highest number of them.",
};

/// One account for two jobs.
pub static SHARED_ACCOUNT: Rule = Rule {
    id: "identity/shared-account",
    severity: Severity::Note,
    title: "One account does two jobs",
    means: "Two services run under one account, or a serving one under the account of a person.",
    hurts: "What one of them needs, all of them may do, and nobody can tell who did it.",
    fix: "Give each service an account of its own, with a group where they have to share files.",
    example: "lantern serves as 1101, which is mira, who may change everything.",
};

/// Judges one root.
pub(super) fn judge(site: &Site, case: &Case, findings: &mut Vec<Finding>) {
    let Some(route) = &case.route else { return };
    let base = |rule: super::RuleId, message: String, remedy: String| {
        let (host, path) = route.here();
        Finding {
            rule,
            severity: rule.severity,
            evidence: route.evidence(),
            subject: case.subject_text(),
            message,
            place: Where {
                host: Some(host),
                path: Some(path),
                line: Some(case.service.origin.line),
            },
            remedy,
            affects: vec![case.affected()],
            effects: Vec::new(),
            because: None,
        }
    };
    let service = &case.service.name;
    if let End::Refused { why, errno: "EINVAL", .. } = &route.end {
        let message = format!("{service} can't run as {}: {why}", case.subject);
        let remedy = "set runs_as to an id that the namespace maps, or widen its ranges".to_owned();
        findings.push(base(&SHIFTED, message, remedy));
        return;
    }
    let read = judge_need(site, route, Need::Read);
    if read.allowed != Some(false) {
        return;
    }
    if shift_decides(site, route) {
        let arrived = route.trail.last().map_or(&route.subject, |step| &step.subject);
        let message = format!(
            "{service} is {} inside its namespace and {arrived} where the files are, which can't read {}",
            route.subject, route.asked
        );
        let remedy = format!(
            "map {} into the namespace as itself, or mount with its ids (idmap = true), or give {} the rights",
            route.subject.uid, arrived.uid
        );
        findings.push(base(&SHIFTED, message, remedy));
    }
    if let Some(lost) = lost_group(site, route, &read.refusal) {
        let server = read.decided_at.0.clone();
        let message = format!(
            "{service} has {} further groups, and gid {lost}, which would let it read {}, does not travel",
            route.subject.groups.len(),
            route.asked
        );
        let remedy = format!(
            "on {server}: manage-gids=y in the [mountd] section of nfs.conf, and declare manage_gids = true"
        );
        findings.push(base(&TOO_MANY_GROUPS, message, remedy));
    }
}

/// Whether the same account could read the root if no namespace shifted its ids.
pub(super) fn shift_decides(site: &Site, route: &Route) -> bool {
    let shifted =
        route.hops.iter().any(|hop| hop.kind == HopKind::Mapping && hop.changed_by.is_some());
    if !shifted {
        return false;
    }
    let plain = site.without_namespaces();
    let route = follow(&plain, &route.view, &route.asked, &route.subject);
    judge_need(&plain, &route, Need::Read).allowed == Some(true)
}

/// The group that was left behind and would grant what was refused.
fn lost_group(site: &Site, route: &Route, refusal: &Option<Refusal>) -> Option<u32> {
    let Some(Refusal::Permission { host, node, subject, want }) = refusal else { return None };
    // Where the server looks groups up, it is its own lists that count.
    let looked_up = |host: &str| site.layout.host(host).is_some_and(|host| host.manage_gids);
    let cut = |hop: &Hop| {
        hop.kind == HopKind::Mount && hop.changed_by.is_some() && !looked_up(&hop.host_out)
    };
    route.hops.iter().find(|hop| cut(hop))?;
    let object = site.object(host, *node)?;
    let lost = route.subject.groups.iter().filter(|gid| !subject.is_in(**gid));
    lost.copied().find(|gid| {
        let groups = subject.groups.iter().copied().chain([*gid]);
        let with = Subject { groups: groups.collect(), ..subject.clone() };
        decide(&object, &with, *want).allowed
    })
}

/// Judges the services and hosts of the site.
pub(super) fn judge_site(site: &Site, _: &[Case], findings: &mut Vec<Finding>) {
    for service in &site.layout.services {
        run_as(service, findings);
        arrivals(site, service, findings);
    }
    shared_accounts(site, findings);
    mismatches(site, findings);
}

fn of_service(rule: super::RuleId, service: &Service, message: String, remedy: String) -> Finding {
    let name = shown(service.name.as_bytes());
    Finding {
        rule,
        severity: rule.severity,
        evidence: Evidence::Declared,
        subject: format!("service:{name}"),
        message,
        place: Where {
            host: Some(service.host.clone()),
            path: None,
            line: Some(service.origin.line),
        },
        remedy,
        affects: service
            .libraries
            .iter()
            .map(|library| format!("library:{}", shown(library.name.as_bytes())))
            .collect(),
        effects: Vec::new(),
        because: None,
    }
}

fn run_as(service: &Service, findings: &mut Vec<Finding>) {
    let name = shown(service.name.as_bytes());
    let root = match &service.runs_as {
        RunAs::Numbers(uid, _) => *uid == 0,
        RunAs::Account(account) => account == "root",
        RunAs::Unset => false,
    };
    if root && service.userns.as_ref().is_none_or(|ns| *ns == crate::layout::UserNs::Host) {
        let message = format!("{name} runs as root on {}", service.host);
        let remedy = format!("make an account for {name}, and set runs_as to its UID:GID");
        findings.push(of_service(&RUNS_AS_ROOT, service, message, remedy));
    }
    if service.runs_as == RunAs::Unset && service.map.is_some() {
        let message =
            format!("no account is set for {name}, so that its image decides: root, with most");
        let remedy = "set runs_as = \"UID:GID\"; for an image that takes it from the environment, PUID and PGID to the same"
            .to_owned();
        findings.push(of_service(&RUN_AS_UNSET, service, message, remedy));
    }
}

/// As whom a service arrives at the places that it uses, each host once.
fn arrivals(site: &Site, service: &Service, findings: &mut Vec<Finding>) {
    let view = View::Service(service.name.clone());
    let (subject, _) = site.subject_of(service);
    let name = shown(service.name.as_bytes());
    let (mut unknown, mut squashed) = (Vec::new(), Vec::new());
    for path in places(site, service) {
        let route = follow(site, &view, &path, &subject);
        let Some(step) = route.trail.last() else { continue };
        let (host, arrived) = (step.host.as_str(), &step.subject);
        let mut before = &route.subject;
        for hop in &route.hops {
            let replaced = hop.kind == HopKind::Share && hop.subject.uid != before.uid;
            let by_export = matches!(hop.share, Some((_, Protocol::Nfs)));
            if replaced && by_export && !squashed.contains(&hop.host) {
                squashed.push(hop.host.clone());
                let by = hop.changed_by.clone().unwrap_or_default();
                let message = format!(
                    "{name} is {before} on {} and arrives on {} as {}: {by}",
                    service.host, hop.host, hop.subject
                );
                let remedy = format!(
                    "run {name} under an account of its own that the export leaves as it is"
                );
                let mut finding = of_service(&SQUASHED, service, message, remedy);
                finding.place.path = Some(route.here().1);
                findings.push(finding);
            }
            before = &hop.subject;
        }
        let accounts: Vec<&Account> = site.accounts(host).collect();
        let has_account = accounts.iter().any(|account| account.uid == arrived.uid);
        let nobody = matches!(arrived.uid, 0 | NOBODY) || arrived.doubt.is_some();
        // Where no account is known at all, nothing can be missed.
        if !accounts.is_empty() && !has_account && !nobody && !unknown.contains(&host.to_owned()) {
            unknown.push(host.to_owned());
            let uid = arrived.uid;
            let message = format!("{name} arrives on {host} as uid {uid}, which is nobody's there");
            let remedy = format!(
                "on {host}: groupadd -g {gid} {name}; useradd -r -u {uid} -g {gid} -M -s /usr/sbin/nologin {name}",
                gid = arrived.gid
            );
            let mut finding = of_service(&UNKNOWN_ACCOUNT, service, message, remedy);
            finding.place.host = Some(host.to_owned());
            findings.push(finding);
        }
    }
}

/// What a service uses: its libraries, and its part of intakes.
fn places(site: &Site, service: &Service) -> Vec<crate::path::AbsPath> {
    let libraries = service.libraries.iter().flat_map(|library| &library.roots);
    let mut places: Vec<_> = libraries.filter_map(|root| root.path.clone().ok()).collect();
    for intake in &site.layout.intakes {
        if let Some(fetch) = intake.fetch.as_ref().filter(|fetch| fetch.service == service.name) {
            places.extend(fetch.partial.clone().into_iter().chain([fetch.done.clone()]));
        }
        if let Some(sort) = intake.sort.as_ref().filter(|sort| sort.service == service.name) {
            places.extend([sort.reads.clone(), sort.files_into.clone()]);
        }
    }
    places
}

fn shared_accounts(site: &Site, findings: &mut Vec<Finding>) {
    let mut users: BTreeMap<(String, u32), Vec<&Service>> = BTreeMap::new();
    for service in &site.layout.services {
        // Root is a finding of its own, and so is nobody knows whom.
        let (subject, _) = site.subject_of(service);
        if service.runs_as == RunAs::Unset && service.map.is_some() || subject.uid == 0 {
            continue;
        }
        users.entry((service.host.clone(), subject.uid)).or_default().push(service);
    }
    for ((host, uid), services) in users {
        let names: Vec<String> = services.iter().map(|s| shown(s.name.as_bytes())).collect();
        if services.len() > 1 {
            let message = format!("{} all run as uid {uid} on {host}", names.join(" and "));
            let remedy =
                "give each an account of its own, in one group where they share files".to_owned();
            findings.push(of_service(&SHARED_ACCOUNT, services[0], message, remedy));
            continue;
        }
        let serves = services[0].roles.contains(&ServiceRole::Serve);
        let person = site.accounts(&host).find(|account| {
            let own = site.layout.services.iter().any(|service| service.name == account.name);
            account.uid == uid && !own && (1000..NOBODY).contains(&uid)
        });
        if let Some(person) = person.filter(|_| serves) {
            let account = shown(person.name.as_bytes());
            let message = format!("{} serves as {account}, the account of a person", names[0]);
            let remedy = format!("make an account for {}, and set runs_as to it", names[0]);
            findings.push(of_service(&SHARED_ACCOUNT, services[0], message, remedy));
        }
    }
}

fn mismatches(site: &Site, findings: &mut Vec<Finding>) {
    for (client, server) in nfs_pairs(site) {
        let numbers = |host: &str| -> BTreeMap<(&'static str, String), u32> {
            let accounts = site.accounts(host).map(|a| (("account", a.name.clone()), a.uid));
            let groups = site.groups(host).map(|group| (("group", group.name.clone()), group.gid));
            // What was seen counts before what is declared; later entries of a map win.
            let mut all: Vec<_> = accounts.chain(groups).collect();
            all.reverse();
            all.into_iter().collect()
        };
        let on_server = numbers(&server);
        for ((what, name), number) in numbers(&client) {
            let Some(other) =
                on_server.get(&(what, name.clone())).filter(|other| **other != number)
            else {
                continue;
            };
            // The system's own accounts differ everywhere, and hold no media.
            let meant = number.max(*other) >= 1000 || is_declared(site, &[&client, &server], &name);
            if !meant || number.min(*other) == 0 || *other == NOBODY {
                continue;
            }
            let name = shown(name.as_bytes());
            findings.push(Finding {
                rule: &NUMBER_MISMATCH,
                severity: NUMBER_MISMATCH.severity,
                evidence: Evidence::Declared,
                subject: format!("{what}:{name}"),
                message: format!(
                    "the {what} {name} is {number} on {client} and {other} on {server}, which {client} mounts from over NFS"
                ),
                place: Where { host: Some(client.clone()), ..Where::default() },
                remedy: match what {
                    "account" => format!("on {client}: usermod -u {other} {name}"),
                    _ => format!("on {client}: groupmod -g {other} {name}"),
                },
                affects: Vec::new(),
                effects: Vec::new(),
                because: None,
            });
        }
    }
}

/// Whether the layout speaks of an account, group or service of that name.
fn is_declared(site: &Site, hosts: &[&str], name: &str) -> bool {
    let on_host = |host: &Host| {
        host.accounts.iter().any(|account| account.name == name)
            || host.groups.iter().any(|group| group.name == name)
    };
    hosts.iter().filter_map(|host| site.layout.host(host)).any(on_host)
        || site.layout.service(name).is_some()
}

/// Which hosts mount from which over NFS.
fn nfs_pairs(site: &Site) -> Vec<(String, String)> {
    let mut pairs = Vec::new();
    for mount in site.layout.mounts.iter().filter(|mount| mount.protocol == Protocol::Nfs) {
        let view = View::Host(mount.host.clone());
        let server = follow(site, &view, &mount.at, &Subject::new(0, 0, [])).here().0;
        if server != mount.host {
            pairs.push((mount.host.clone(), server));
        }
    }
    for share in site.layout.shares.iter().filter(|share| !share.nfs.is_empty()) {
        for host in site.layout.hosts.iter().filter(|host| host.name != share.host) {
            let view = View::Host(host.name.clone());
            let observed = site.facts(&host.name).is_some();
            if observed
                && seen_as(site, &view, &Subject::new(0, 0, []), &share.host, &share.path).is_some()
            {
                pairs.push((host.name.clone(), share.host.clone()));
            }
        }
    }
    pairs.sort();
    pairs.dedup();
    pairs
}
