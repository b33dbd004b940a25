//! `identity/unknown-account`.

use crate::kernel::subject::NOBODY;
use crate::rules::identity::{of_service, ways};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::part::Part;
use crate::words::remedy::{Command, Remedy, Step};
use crate::words::rule::{Rule, Severity};
use crate::words::value::Value;

/// A number that the storage host has no account for.
pub static RULE: Rule = Rule {
    id: "identity/unknown-account",
    severity: Severity::Risk,
    title: "A service's number has no account on the storage host",
    means: "The uid under which the service arrives at the files belongs to no account of the host \
            that holds them.",
    hurts: "Access works by numbers, but nobody sees who owns what the service makes, and the \
            number may be given to somebody \
            else one day.",
    fix: "Make an account with that number on the storage host; `tarvek emit accounts` writes the \
          command.",
    example: "lantern runs as 840 on millrace; granary has no uid 840.",
};

/// Judges where each service arrives, each host once.
pub fn find(site: &Site, _: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for service in &site.layout.services {
        let mut told: Vec<Name> = Vec::new();
        for route in ways(site, service) {
            let Some(last) = route.trail.last() else { continue };
            let (host, arrived) = (&last.at.host, &last.subject);
            let mut accounts = site.accounts(host).peekable();
            // Where no account is known at all, nothing can be missed.
            let known = accounts.peek().is_none() || accounts.any(|a| a.uid == arrived.uid);
            let nobody = matches!(arrived.uid, 0 | NOBODY) || arrived.doubt.is_some();
            if known || nobody || told.contains(host) {
                continue;
            }
            told.push(host.clone());
            let (name, uid) = (&service.name, arrived.uid);
            let message = format!("{name} arrives on {host} as uid {uid}, which is nobody's there");
            let finding = of_service(&RULE, service).on(host).says(message);
            findings.push(finding.remedy(new_account(site, host, name, uid, arrived.gid)));
        }
    }
    findings
}

/// Under the service's name, or the next one that nobody has there; the group only if there is none
/// of that number.
fn new_account(site: &Site, host: &Name, name: &Name, uid: u32, gid: u32) -> Remedy {
    let taken = |name: &Name| {
        let mut groups = site.groups(host).filter(|group| group.gid != gid);
        site.account(host, name).is_some() || groups.any(|group| group.name == *name)
    };
    let mut names = (1..)
        .map(|n| if n == 1 { name.clone() } else { format!("{}{n}", name.raw()).as_str().into() });
    let name = names.find(|name| !taken(name)).unwrap_or_default();
    let group = Command::new("groupadd -g").arg(gid.to_string()).arg(name.raw());
    let user = Command::new("useradd -r -u").arg(uid.to_string()).arg("-g").arg(gid.to_string());
    let user = user.arg("-M").arg("-s").arg("/usr/sbin/nologin").arg(name.raw());
    let known = site.groups(host).any(|group| group.gid == gid);
    let group = (!known).then(|| Step::run(host, group));
    let mut steps: Vec<Step> = group.into_iter().chain([Step::run(host, user)]).collect();
    if site.layout.host(host).is_some_and(|host| !host.accounts.is_empty()) {
        let part = Part::Account { host: host.clone(), name };
        steps.push(site.layout.set(part, "", Value::table([("uid", uid.into())])));
    }
    Remedy::of(steps)
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::layout::service::RunAs;
    use crate::rules::promise::{Promise, over};
    use crate::tests::{Scene, account};
    use crate::words::terms::Protocol;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            over(Protocol::Nfs, |scene| {
                scene.service("lantern").runs_as = RunAs::Numbers(900, Some(901))
            })
        },
        by_hand: |scene| scene.host("granary").accounts.push(account("lantern2", 900, &[])),
    };

    #[test]
    fn a_number_without_an_account_is_nobodys() {
        let mut scene = Scene::over(Protocol::Nfs);
        assert_eq!(scene.messages_of(&RULE), "");
        scene.service("lantern").runs_as = RunAs::Numbers(900, Some(901));
        let told = "lantern arrives on granary as uid 900, which is nobody's there → on granary: \
                    groupadd -g 901 lantern2; useradd -r -u 900 -g 901 -M -s /usr/sbin/nologin \
                    lantern2; in the layout: set account lantern2 of granary to { uid = 900 }";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.facts("granary").accounts.clear();
        scene.host("granary").accounts.clear();
        assert_eq!(scene.messages_of(&RULE), "", "nobody knows who has an account there");
    }
}
