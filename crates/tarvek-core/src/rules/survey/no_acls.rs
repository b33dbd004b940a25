//! `survey/no-acls`.

use crate::rules::survey::{leading_to, of_host};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};

/// A survey without ACLs.
pub static RULE: Rule = Rule {
    id: "survey/no-acls",
    severity: Severity::Risk,
    title: "ACLs were not collected",
    means: "The host had no tool that tells POSIX ACLs, so that access there was judged by mode \
            bits alone.",
    hurts: "Whoever is let in or kept out by an ACL entry is judged wrongly.",
    fix: "Put getfacl on the host (the package is usually called acl), or survey it with tarvek \
          itself, and collect again.",
    example: "A box with BusyBox only; the share grants the serving account by a named entry that \
              the listing lacks.",
};

/// Judges the hosts that libraries lead to.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (host, facts) in site.observed() {
        let affected = leading_to(cases, host);
        if let Some(why) = facts.told.lacks("acl").filter(|_| !affected.is_empty()) {
            let message = format!("access on {host} is judged by mode bits alone: {why}");
            let remedy = format!("install getfacl on {host}, and collect again");
            findings.push(of_host(&RULE, host).says(message).remedy(remedy).affects(affected));
        }
    }
    findings
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, local};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            local(|scene| {
                let lacks = ("acl".to_owned(), "there is no getfacl".into());
                scene.facts("granary").told.lacking.push(lacks);
            })
        },
        by_hand: |scene| scene.facts("granary").told.lacking.clear(),
    };

    #[test]
    fn a_host_whose_acls_nobody_could_tell_is_judged_by_mode_bits() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        let lacks = ("acl".to_owned(), "there is no getfacl".into());
        scene.facts("granary").told.lacking.push(lacks);
        let told = "access on granary is judged by mode bits alone: there is no getfacl → install \
                    getfacl on granary, and collect again";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.service("lantern").libraries.clear();
        assert_eq!(scene.messages_of(&RULE), "", "no library leads there");
    }
}
