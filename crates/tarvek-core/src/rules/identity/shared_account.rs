//! `identity/shared-account`.

use std::collections::BTreeMap;

use crate::kernel::subject::NOBODY;
use crate::layout::service::{RunAs, Service, ServiceRole};
use crate::remedy::apply_on_host::run_as_account;
use crate::rules::identity::of_service;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::remedy::Step;
use crate::words::rule::{Rule, Severity};

/// One account for two jobs.
pub static RULE: Rule = Rule {
    id: "identity/shared-account",
    severity: Severity::Note,
    title: "One account does two jobs",
    means: "Two services run under one account, or a serving one under the account of a person.",
    hurts: "What one of them needs, all of them may do, and nobody can tell who did it.",
    fix: "Give each service an account of its own, with a group where they have to share files.",
    example: "lantern serves as 1101, which is mira, who may change everything.",
};

/// Judges the services.
pub fn find(site: &Site, _: &[UsedPath]) -> Vec<Finding> {
    let mut users: BTreeMap<(&Name, u32), Vec<&Service>> = BTreeMap::new();
    for service in &site.layout.services {
        // Root is a finding of its own, and so is nobody knows whom.
        let (subject, _) = site.subject_of(service);
        let is_unknown = subject.doubt.is_some() || subject.uid == 0;
        if service.runs_as == RunAs::Unset && service.map.is_some() || is_unknown {
            continue;
        }
        users.entry((&service.host, subject.uid)).or_default().push(service);
    }
    let told = |((host, uid), services): ((&Name, u32), Vec<&Service>)| {
        let finding = of_service(site, &RULE, services[0]);
        let name = &services[0].name;
        if services.len() > 1 {
            let names: Vec<String> = services.iter().map(|s| s.name.to_string()).collect();
            let message = format!("{} all run as uid {uid} on {host}", names.join(" and "));
            let words = "in the layout, give each an account of its own as its runs_as, in one \
                         group where they share files";
            let anew = services.iter().map(|service| run_as_account(service));
            let remedy: Vec<Step> = [Step::words(words)].into_iter().chain(anew).collect();
            return Some(finding.says(message).remedy(remedy));
        }
        let serves = services[0].roles.contains(&ServiceRole::Serve);
        let person = person(site, host, uid).filter(|_| serves)?;
        let words = format!("make an account for {name}, and in the layout set runs_as to it");
        let remedy = vec![Step::words(words), run_as_account(services[0])];
        let message = format!("{name} serves as {person}, the account of a person");
        Some(finding.says(message).remedy(remedy))
    };
    users.into_iter().filter_map(told).collect()
}

/// The person whose account has a number.
fn person<'a>(site: &'a Site, host: &Name, uid: u32) -> Option<&'a Name> {
    let own = |name: &Name| site.layout.services.iter().any(|service| service.name == *name);
    let mut accounts = site.accounts(host);
    let account = accounts.find(|account| account.uid == uid && !own(&account.name))?;
    (1000..NOBODY).contains(&uid).then_some(&account.name)
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::layout::service::RunAs;
    use crate::rules::promise::{Promise, intake};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || intake(|scene| scene.service("lantern").runs_as = RunAs::Numbers(841, None)),
        by_hand: |scene| scene.service("lantern").runs_as = RunAs::Numbers(840, Some(840)),
    };

    #[test]
    fn two_services_or_a_service_and_a_person_are_two_jobs() {
        let mut scene = Scene::local().with_intake();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.service("lantern").runs_as = RunAs::Account("mira".into());
        let told = "lantern serves as mira, the account of a person → make an account for lantern, \
                    and in the layout set runs_as to it; on granary: recreate lantern's container \
                    as that account";
        assert!(scene.messages_of(&RULE).starts_with(told), "{}", scene.messages_of(&RULE));
        scene.service("lantern").runs_as = RunAs::Numbers(841, None);
        let told = "lantern and drover all run as uid 841 on granary → in the layout, give each an \
                    account of its own as its runs_as, in one group where they share files; on \
                    granary: recreate lantern's container";
        assert!(scene.messages_of(&RULE).starts_with(told), "{}", scene.messages_of(&RULE));
    }
}
