//! `survey/none`.

use crate::route::end::End;
use crate::site::join::Site;
use crate::used::used_path::{UsedPath, unseen_mount};
use crate::words::about::About;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};
use crate::words::text::counted;

/// A host that nobody looked at.
pub static RULE: Rule = Rule {
    id: "survey/none",
    severity: Severity::Risk,
    title: "A host was not looked at",
    means: "Libraries or intakes lead to a host of which there is no survey, or through a mount of \
            such a host, so that only the layout speaks of it.",
    hurts: "Nothing says that the folders are there, can be read or are mounted, so that nothing \
            there is called ready.",
    fix: "Survey the host, and give the survey to check.",
    example: "The layout declares granary, and check was run on millrace with no survey of granary \
              beside it.",
};

/// Judges the hosts that libraries lead to.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for host in site.layout.hosts.iter().filter(|host| site.mounts(&host.name).is_none()) {
        let name = &host.name;
        let blind = |case: &&UsedPath| {
            case.route.as_ref().is_some_and(|route| {
                let is_unseen = route.end == End::Reached && route.entry().is_none();
                let is_end = is_unseen && route.here().host == *name;
                is_end || unseen_mount(site, route).is_some_and(|hop| hop.from.host == *name)
            })
        };
        let affected: Vec<_> = cases.iter().filter(blind).map(UsedPath::affected).collect();
        if affected.is_empty() {
            continue;
        }
        let rows = counted(affected.len() as u64, "row");
        let rest = if affected.len() == 1 { "rests" } else { "rest" };
        let what = match site.facts(name) {
            None => format!("{name} has not been surveyed"),
            Some(_) => format!("the survey of {name} has no mount table"),
        };
        let message = format!("{what}: {rows} of the board {rest} on the layout alone");
        let remedy = format!("collect a listing on {name} and give it with --survey");
        let finding = RULE.finding(About::Host(name.clone())).on(name).line(host.origin.line);
        findings.push(finding.says(message).remedy(remedy).affects(affected));
    }
    findings
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::FILM;
    use crate::rules::promise::{Promise, done, over};
    use crate::tests::Scene;
    use crate::words::terms::Protocol;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            over(Protocol::Nfs, |scene| {
                done(scene.unseen("granary").unread("millrace", "/mnt/media"))
            })
        },
        by_hand: |scene| done(scene.tree("granary", &format!("f 0664 1101:2100 {FILM}"))),
    };

    #[test]
    fn a_host_that_libraries_lead_to_has_to_be_looked_at() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        let told = "granary has not been surveyed: 1 row of the board rests on the layout alone → \
                    collect a listing on granary and give it \
                    with --survey";
        assert_eq!(scene.unseen("granary").messages_of(&RULE), told);
        scene.service("lantern").libraries.clear();
        assert_eq!(scene.messages_of(&RULE), "");
    }
}
