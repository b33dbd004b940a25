//! `identity/run-as-unset`.

use crate::layout::service::Service;
use crate::remedy::apply_on_host::run_as_account;
use crate::rules::identity::of_service;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::remedy::Step;
use crate::words::rule::{Rule, Severity};

/// A container whose account nobody has set.
pub static RULE: Rule = Rule {
    id: "identity/run-as-unset",
    severity: Severity::Risk,
    title: "Nobody says whom a service runs as",
    means: "No account is set for the service, and its host has none of its name. In a container \
            the image decides, which is root with most; others take the account from variables \
            such as PUID and PGID. Everything is asked as root and as nobody (uid 65534), and \
            where they get different answers, nothing is called ready.",
    hurts: "What it makes belongs to root, or to an account that nobody chose, and other services \
            can't use it.",
    fix: "Set runs_as to what it really runs as; for an image that takes its account from the \
          environment, set its variables to the same numbers.",
    example: "joiner has a map and no runs_as.",
};

/// Judges the services.
pub fn find(site: &Site, _: &[UsedPath]) -> Vec<Finding> {
    let unset = |service: &&Service| site.subject_of(service).0.otherwise().is_some();
    let services = site.layout.services.iter().filter(unset);
    let told = |service: &Service| {
        let name = &service.name;
        of_service(site, &RULE, service)
            .says(format!(
                "no account is set for {name}, so that its {} decides: root, with most",
                if service.map.is_some() { "image" } else { "start script or unit" }
            ))
            .remedy(vec![
                Step::words(format!("in the layout, set runs_as = \"UID:GID\" for {name}")),
                run_as_account(service),
            ])
    };
    services.map(told).collect()
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::layout::service::RunAs;
    use crate::rules::promise::{Promise, local};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || local(|scene| scene.service("lantern").runs_as = RunAs::Unset),
        by_hand: |scene| scene.service("lantern").runs_as = RunAs::Numbers(840, Some(840)),
    };

    #[test]
    fn an_image_decides_where_nobody_says_anything() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.service("lantern").runs_as = RunAs::Unset;
        assert!(
            scene
                .messages_of(&RULE)
                .starts_with("no account is set for lantern, so that its image decides")
        );
        scene.service("lantern").map = None;
        assert_eq!(
            scene.messages_of(&RULE),
            "",
            "a program on its host has the account of its name"
        );
        scene.layout.hosts.iter_mut().for_each(|host| host.accounts.clear());
        scene.facts("granary").accounts.clear();
        assert!(scene.messages_of(&RULE).contains("its start script or unit decides"));
    }
}
