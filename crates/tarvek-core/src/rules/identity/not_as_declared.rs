//! `identity/not-as-declared`.

use crate::facts::host::HostFacts;
use crate::layout::host::Host;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::about::About;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::part::Part;
use crate::words::remedy::{Command, Step, add_to_group};
use crate::words::rule::{Rule, Severity};
use crate::words::terms::{Account, Group};

/// People who are not as the layout says.
pub static RULE: Rule = Rule {
    id: "identity/not-as-declared",
    severity: Severity::Risk,
    title: "An account, group or membership is not as the layout says",
    means: "The layout declares an account or group that the host does not have, or a membership \
            that is not so there. (Other numbers are told by layout/differs-from-host.)",
    hurts: "What is granted to the group reaches nobody whom the host does not know in it; files \
            are owned by a number without a name.",
    fix: "Make the account or group, or change the membership; or correct the layout.",
    example: "The layout puts lantern into keepers; on granary it is in no group besides its own.",
};

/// Judges every host that is declared and whose accounts were seen.
pub fn find(site: &Site, _: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (name, facts) in site.observed() {
        let Some(host) = site.layout.host(name) else { continue };
        for (part, message, step) in
            groups(host, facts).into_iter().chain(accounts(site, host, facts))
        {
            let about = match &part {
                Part::Account { name, .. } => About::Account(name.clone()),
                Part::Group { name, .. } => About::Group(name.clone()),
                _ => About::Host(name.clone()),
            };
            let finding = RULE.finding(about).on(name).line(host.origin.line);
            // People of a host stand in its line.
            let spot = site.layout.adopted.parts.get(&part);
            let finding = spot.into_iter().fold(finding, Finding::written);
            findings.push(finding.known(Evidence::Observed).says(message).remedy(step));
        }
    }
    findings
}

/// The part that is otherwise on its host, how, and what to do.
type Difference = (Part, String, Step);

fn groups(host: &Host, facts: &HostFacts) -> Vec<Difference> {
    let is_there = |group: &Group| facts.groups.iter().any(|seen| seen.name == group.name);
    let missing = host.groups.iter().filter(|group| !facts.groups.is_empty() && !is_there(group));
    let told = missing.map(|group| {
        let Group { name, gid } = group;
        let message = format!("{} has no group {name}, which the layout declares", host.name);
        let step = match facts.groups.iter().find(|seen| seen.gid == *gid) {
            Some(other) => Step::on(
                &host.name,
                format!("gid {gid} belongs to {} there: decide which has it", other.name),
            ),
            None => {
                let command = Command::new("groupadd -g").arg(gid.to_string());
                Step::run(&host.name, command.operand(name.raw()))
            }
        };
        (Part::Group { host: host.name.clone(), name: name.clone() }, message, step)
    });
    told.collect()
}

fn accounts(site: &Site, host: &Host, facts: &HostFacts) -> Vec<Difference> {
    let mut all = Vec::new();
    for account in host.accounts.iter().filter(|_| !facts.accounts.is_empty()) {
        match facts.accounts.iter().find(|seen| seen.name == account.name) {
            None => all.push(missing(host, facts, account)),
            Some(seen) => {
                all.extend(memberships(site, host, account, seen));
            }
        }
    }
    all
}

fn missing(host: &Host, facts: &HostFacts, account: &Account) -> Difference {
    let Account { name, uid, gid, .. } = account;
    let message = format!("{} has no account {name}, which the layout declares", host.name);
    let step = match facts.accounts.iter().find(|seen| seen.uid == *uid) {
        Some(other) => Step::on(
            &host.name,
            format!("uid {uid} belongs to {} there: decide which has it", other.name),
        ),
        None => {
            let mut command =
                Command::new("useradd -r -M -s /usr/sbin/nologin -u").arg(uid.to_string());
            if let Some(gid) = gid {
                command = command.arg("-g").arg(gid.to_string());
            }
            Step::run(&host.name, command.operand(name.raw()))
        }
    };
    (Part::Account { host: host.name.clone(), name: name.clone() }, message, step)
}

/// Groups that an account is in by the layout alone or, of those that the layout declares, by the
/// host alone.
fn memberships(site: &Site, host: &Host, said: &Account, seen: &Account) -> Vec<Difference> {
    let (on, name) = (&host.name, &said.name);
    let part = || Part::Account { host: on.clone(), name: name.clone() };
    let is_in = |account: &Account, group: &Name| {
        account.groups.contains(group)
            || account.gid.is_some() && account.gid == site.gid_of(on, group)
    };
    let known = |group: &&Name| site.gid_of(on, group).is_some();
    let lacking = said.groups.iter().filter(|group| !is_in(seen, group)).filter(known);
    let lacking = lacking.map(|group| {
        let message = format!("the layout has {name} in the group {group}, and {on} has not");
        (part(), message, add_to_group(on, group.raw(), name))
    });
    let declared = |group: &&Name| host.groups.iter().any(|known| known.name == **group);
    let besides = seen.groups.iter().filter(declared).filter(|group| !is_in(said, group));
    // Taking somebody out of a group would take what they have by it.
    let besides = besides.map(|group| {
        let message = format!("{on} has {name} in the group {group}, and the layout has not");
        (part(), message, site.layout.add(part(), "groups", group.raw()))
    });
    lacking.chain(besides).collect()
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, local, nothing};
    use crate::tests::{Scene, account, group};

    pub(crate) const PROMISE: Promise = Promise {
        scene: || local(|scene| scene.host("granary").groups.push(group("viewers", 2300))),
        by_hand: nothing,
    };

    #[test]
    fn accounts_groups_and_memberships_are_told_where_the_host_has_not() {
        let told = |change: fn(&mut Scene)| {
            let mut scene = Scene::local();
            change(&mut scene);
            scene.messages_of(&RULE)
        };
        assert_eq!(told(|_| {}), "");
        assert_eq!(
            told(|scene| scene.host("granary").groups.push(group("viewers", 2300))),
            "granary has no group viewers, which the layout declares → on granary: groupadd -g \
             2300 viewers"
        );
        let taken = told(|scene| scene.host("granary").groups.push(group("viewers", 2100)));
        assert!(taken.contains("gid 2100 belongs to keepers there"), "{taken}");
        assert_eq!(
            told(|scene| scene.host("granary").accounts.push(account("heron", 900, &[]))),
            "granary has no account heron, which the layout declares → on granary: useradd -r -M \
             -s /usr/sbin/nologin -u 900 -g 900 heron"
        );
        let lacking = told(|scene| {
            scene.host("granary").accounts[1].groups.push("keepers".into());
        });
        assert_eq!(
            lacking,
            "the layout has lantern in the group keepers, and granary has not → on granary: \
             usermod -a -G keepers lantern"
        );
        let besides = told(|scene| {
            scene.facts("granary").accounts[2].groups.push("keepers".into());
        });
        assert_eq!(
            besides,
            "granary has lantern in the group keepers, and the layout has not → in the layout: add \
             \"keepers\" to groups of account lantern of granary"
        );
        assert_eq!(
            told(|scene| {
                scene.host("granary").groups.push(group("viewers", 2300));
                scene.facts("granary").groups.clear();
            }),
            "",
            "its groups were not seen"
        );
    }
}
