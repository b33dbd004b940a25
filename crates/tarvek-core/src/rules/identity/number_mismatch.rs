//! `identity/number-mismatch`.

use std::collections::BTreeMap;

use crate::kernel::subject::{NOBODY, Subject};
use crate::route::follow;
use crate::route::hops::View;
use crate::route::seen_as::seen_as;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::about::About;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::part::Part;
use crate::words::place::Place;
use crate::words::remedy::{Command, Remedy, Step};
use crate::words::rule::{Rule, Severity};
use crate::words::terms::Protocol;

/// One name with two numbers.
pub static RULE: Rule = Rule {
    id: "identity/number-mismatch",
    severity: Severity::Risk,
    title: "One name has different numbers on two hosts that share over NFS",
    means: "NFS with AUTH_SYS sends numbers. A name that means one number on the client and \
            another on the server is two \
            accounts, however alike a listing may look.",
    hurts: "Files belong to somebody else than they seem to, and access goes by the number.",
    fix: "Give the account or group the same number on both hosts, and its files the new one \
          (chown on what it owns).",
    example: "keepers is 2100 on granary and 1005 on millrace.",
};

/// What a name is of.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum NumberOf {
    Account,
    Group,
}

/// Judges every two hosts that share over NFS.
pub fn find(site: &Site, _: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (client, server) in nfs_pairs(site) {
        let on_server = numbers(site, &server);
        for ((of, name), number) in numbers(site, &client) {
            let Some(&other) = on_server.get(&(of, name)).filter(|other| **other != number) else {
                continue;
            };
            // The system's own accounts differ everywhere, and hold no media.
            let meant = number.max(other) >= 1000 || is_declared(site, [&client, &server], name);
            if !meant || number.min(other) == 0 || other == NOBODY {
                continue;
            }
            let (about, what) = match of {
                NumberOf::Account => (About::Account(name.clone()), "account"),
                NumberOf::Group => (About::Group(name.clone()), "group"),
            };
            let message = format!(
                "the {what} {name} is {number} on {client} and {other} on {server}, which {client} \
                 mounts from over NFS"
            );
            let finding = RULE.finding(about).on(&client).says(message);
            let declared =
                [&client, &server].into_iter().find(|host| is_declared_on(site, host, name));
            let host = site.layout.host(declared.unwrap_or(&client));
            let finding = match host {
                Some(host) => finding.line(host.origin.line),
                None => finding,
            };
            let remedy = renumbered(site, of, name, (&client, number), (&server, other));
            findings.push(finding.remedy(remedy));
        }
    }
    findings
}

/// One number for both: the server's where the client has it free, else the client's, else one that
/// both have free.
fn renumbered(
    site: &Site,
    of: NumberOf,
    name: &Name,
    client: (&Name, u32),
    server: (&Name, u32),
) -> Remedy {
    let taken = |host: &Name, number: u32| {
        numbers(site, host).iter().any(|((kind, _), other)| *kind == of && *other == number)
    };
    let (mut steps, mut effects) = (Vec::new(), Vec::new());
    let mut change = |(host, from): (&Name, u32), to: u32| {
        let (command, kind, give) = match of {
            NumberOf::Account => ("usermod -u", "-uid", "chown -h"),
            NumberOf::Group => ("groupmod -g", "-gid", "chgrp -h"),
        };
        let command = Command::new(command).arg(to.to_string()).operand(name.raw());
        steps.push(Step::run(host, command));
        effects.push(format!(
            "what {name} owns on {host} keeps the number {from} until it is given over: find / \
             -xdev {kind} {from} -exec {give} {to} {{}} +"
        ));
        let declared = site.layout.host(host).is_some_and(|host| match of {
            NumberOf::Account => host.accounts.iter().any(|account| account.name == *name),
            NumberOf::Group => host.groups.iter().any(|group| group.name == *name),
        });
        if declared {
            let (host, name) = (host.clone(), name.clone());
            steps.push(match of {
                NumberOf::Account => site.layout.set(Part::Account { host, name }, "uid", to),
                NumberOf::Group => site.layout.set(Part::Group { host, name }, "", to),
            });
        }
    };
    if !taken(client.0, server.1) {
        change(client, server.1);
    } else if !taken(server.0, client.1) {
        change(server, client.1);
    } else {
        let first = client.1.max(server.1);
        let free = |number: &u32| !taken(client.0, *number) && !taken(server.0, *number);
        let free = (first + 1..).find(free).unwrap_or(first);
        change(client, free);
        change(server, free);
    }
    Remedy { steps, effects }
}

/// The numbers of accounts and groups. What was seen counts before what is declared.
fn numbers<'a>(site: &'a Site, host: &Name) -> BTreeMap<(NumberOf, &'a Name), u32> {
    let accounts = site.accounts(host).map(|a| ((NumberOf::Account, &a.name), a.uid));
    let groups = site.groups(host).map(|group| ((NumberOf::Group, &group.name), group.gid));
    let mut numbers = BTreeMap::new();
    for (name, number) in accounts.chain(groups) {
        numbers.entry(name).or_insert(number);
    }
    numbers
}

/// Whether the layout speaks of an account, group or service of that name.
fn is_declared(site: &Site, hosts: [&Name; 2], name: &Name) -> bool {
    hosts.into_iter().any(|host| is_declared_on(site, host, name))
        || site.layout.service(name).is_some()
}

/// Whether the layout has an account or group of that name on a host.
fn is_declared_on(site: &Site, host: &Name, name: &Name) -> bool {
    site.layout.host(host).is_some_and(|host| {
        host.accounts.iter().any(|account| account.name == *name)
            || host.groups.iter().any(|group| group.name == *name)
    })
}

/// Which hosts mount from which over NFS.
fn nfs_pairs(site: &Site) -> Vec<(Name, Name)> {
    let root = Subject::new(0, 0, []);
    let mut pairs = Vec::new();
    for mount in site.layout.mounts.iter().filter(|mount| mount.protocol == Protocol::Nfs) {
        let route = follow(site, &View::host(&mount.host), &mount.at, &root);
        if route.here().host != mount.host {
            pairs.push((mount.host.clone(), route.here().host.clone()));
        }
    }
    for share in site.layout.shares.iter().filter(|share| !share.nfs.is_empty()) {
        let place = Place::new(&share.host, &share.path);
        let others = site.layout.hosts.iter().filter(|host| host.name != share.host);
        for host in others.filter(|host| site.facts(&host.name).is_some()) {
            if seen_as(site, &View::host(&host.name), &root, &place).is_some() {
                pairs.push((host.name.clone(), share.host.clone()));
            }
        }
    }
    pairs.sort();
    pairs.dedup();
    pairs
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, nothing, over};
    use crate::tests::{Scene, account, group};
    use crate::words::terms::Protocol;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            over(Protocol::Nfs, |scene| {
                scene.facts("millrace").accounts = vec![account("lantern", 999, &[])]
            })
        },
        by_hand: nothing,
    };

    #[test]
    fn numbers_have_to_agree_where_they_travel() {
        let mut scene = Scene::over(Protocol::Nfs);
        assert_eq!(scene.messages_of(&RULE), "");
        let facts = scene.facts("millrace");
        facts.accounts = vec![account("lantern", 999, &[]), account("daemon", 5, &[])];
        facts.groups = vec![group("keepers", 1005)];
        scene.facts("granary").accounts.push(account("daemon", 6, &[]));
        let told = "the account lantern is 999 on millrace and 840 on granary, which millrace \
                    mounts from over NFS → on millrace: usermod -u 840 lantern; in the layout: set \
                    uid = 840 for account lantern of millrace\nthe group keepers is 1005 on \
                    millrace and 2100 on granary, which millrace mounts from over NFS → on \
                    millrace: groupmod -g 2100 keepers";
        assert_eq!(scene.messages_of(&RULE), told);
        // A number that somebody else has is none to be given.
        scene.facts("millrace").accounts.push(account("ferry", 840, &[]));
        let told = scene.messages_of(&RULE);
        assert!(told.contains("→ on granary: usermod -u 999 lantern;"), "{told}");
        scene.facts("granary").accounts.push(account("warden", 999, &[]));
        let told = scene.messages_of(&RULE);
        assert!(told.contains("→ on millrace: usermod -u 1000 lantern;"), "{told}");
        assert!(told.contains("on granary: usermod -u 1000 lantern"), "{told}");
        let mut scene = Scene::over(Protocol::Smb);
        scene.facts("millrace").groups = vec![group("keepers", 1005)];
        assert_eq!(scene.messages_of(&RULE), "", "over SMB no number travels");
    }
}
