//! `identity/unknown-account`.

use crate::kernel::subject::NOBODY;
use crate::rules::case::Case;
use crate::rules::identity::{of_service, ways};
use crate::site::join::Site;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::remedy::{Command, Remedy, Step};
use crate::words::rule::{Rule, Severity};

/// A number that the storage host has no account for.
pub static RULE: Rule = Rule {
    id: "identity/unknown-account",
    severity: Severity::Risk,
    title: "A service's number has no account on the storage host",
    means: "The uid under which the service arrives at the files belongs to no account of the host that holds them.",
    hurts: "Access works by numbers, but nobody sees who owns what the service makes, and the number may be given to somebody \
            else one day.",
    fix: "Make an account with that number on the storage host; `tarvek emit accounts` writes the command.",
    example: "lantern runs as 840 on millrace; granary has no uid 840.",
};

/// Judges where each service arrives, each host once.
pub fn find(site: &Site, _: &[Case]) -> Vec<Finding> {
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
            findings.push(finding.remedy(new_account(host, name, uid, arrived.gid)));
        }
    }
    findings
}

fn new_account(host: &Name, name: &Name, uid: u32, gid: u32) -> Remedy {
    let group = Command::new("groupadd -g").arg(gid.to_string()).arg(name.raw());
    let user = Command::new("useradd -r -u").arg(uid.to_string()).arg("-g").arg(gid.to_string());
    let user = user.arg("-M").arg("-s").arg("/usr/sbin/nologin").arg(name.raw());
    Remedy::of(vec![Step::run(host, group), Step::run(host, user)])
}

#[cfg(test)]
mod tests {
    use super::RULE;
    use crate::layout::service::RunAs;
    use crate::tests::Scene;
    use crate::words::terms::Protocol;

    #[test]
    fn a_number_without_an_account_is_nobodys() {
        let mut scene = Scene::over(Protocol::Nfs);
        assert_eq!(scene.told(&RULE), "");
        scene.service("lantern").runs_as = RunAs::Numbers(900, Some(901));
        let told = "lantern arrives on granary as uid 900, which is nobody's there → on granary: groupadd -g 901 lantern; \
                    useradd -r -u 900 -g 901 -M -s /usr/sbin/nologin lantern";
        assert_eq!(scene.told(&RULE), told);
        scene.facts("granary").accounts.clear();
        scene.host("granary").accounts.clear();
        assert_eq!(scene.told(&RULE), "", "nobody knows who has an account there");
    }
}
