//! `identity/runs-as-root`.

use crate::layout::service::{RunAs, UserNs};
use crate::remedy::apply_on_host::run_as_account;
use crate::rules::identity::of_service;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::remedy::Step;
use crate::words::rule::{Rule, Severity};

/// A service that is root without need.
pub static RULE: Rule = Rule {
    id: "identity/runs-as-root",
    severity: Severity::Risk,
    title: "A service runs as root",
    means: "The service's account is uid 0 on its host. No media service needs that for its files.",
    hurts: "Rights mean nothing to root: a fault in the program can read, change and delete \
            everything that is mapped into it.",
    fix: "Give the service an account of its own, and set runs_as to it.",
    example: "drover has runs_as = \"0:0\".",
};

/// Judges the services.
pub fn find(site: &Site, _: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for service in &site.layout.services {
        let root = match &service.runs_as {
            RunAs::Numbers(uid, _) => *uid == 0,
            RunAs::Account(account) => *account == "root",
            RunAs::Unset => false,
        };
        if root && service.userns.as_ref().is_none_or(|ns| *ns == UserNs::Host) {
            let name = &service.name;
            let message = format!("{name} runs as root on {}", service.host);
            let words = format!(
                "make an account for {name}, give it the rights that it needs, and in the layout \
                 set runs_as to its UID:GID"
            );
            let remedy = vec![Step::words(words), run_as_account(service)];
            findings.push(of_service(site, &RULE, service).says(message).remedy(remedy));
        }
    }
    findings
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::layout::service::{RunAs, UserNs};
    use crate::rules::promise::{Promise, local};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || local(|scene| scene.service("lantern").runs_as = RunAs::Numbers(0, Some(0))),
        by_hand: |scene| scene.service("lantern").runs_as = RunAs::Numbers(840, Some(840)),
    };

    #[test]
    fn root_is_told_by_number_and_by_name_but_not_inside_a_namespace() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        for root in [RunAs::Numbers(0, None), RunAs::Account("root".into())] {
            scene.service("lantern").runs_as = root;
            let told = "lantern runs as root on granary → make an account for lantern, give it the \
                        rights that it needs, and in the layout set runs_as to its UID:GID; on \
                        granary: recreate lantern's container as that account";
            assert!(scene.messages_of(&RULE).starts_with(told), "{}", scene.messages_of(&RULE));
        }
        scene.service("lantern").userns = Some(UserNs::Rootless("mira".into()));
        assert_eq!(scene.messages_of(&RULE), "");
    }
}
