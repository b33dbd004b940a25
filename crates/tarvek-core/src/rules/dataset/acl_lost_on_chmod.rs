//! `dataset/acl-lost-on-chmod`.

use crate::rules::dataset::{Used, used};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};

/// ACLs that do not outlive a chmod.
pub static RULE: Rule = Rule {
    id: "dataset/acl-lost-on-chmod",
    severity: Severity::Risk,
    title: "A chmod throws ACLs away",
    means: "The dataset keeps NFSv4 ACLs, and aclmode=discard lets a chmod remove every entry that \
            the mode does not show.",
    hurts: "Services and copying programs change modes all the time; one day a library is readable \
            by its owner only.",
    fix: "Set aclmode=passthrough, or aclmode=restricted if a chmod should rather fail.",
    example: "A sorter copies a film and sets its mode to 0644: the entry for the server is gone.",
};

/// Judges every dataset in which a library lies.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let told = |used: &Used| {
        let (kind, _) = used.property("acltype")?;
        let (mode, evidence) = used.property("aclmode")?;
        let lost = matches!(kind.raw(), "nfsv4" | "nfs4") && mode == "discard";
        let message = format!("{} keeps NFSv4 ACLs and has aclmode=discard", used.dataset.name);
        let finding = used.finding(&RULE).known(evidence).says(message);
        lost.then(|| finding.remedy(used.set("aclmode=passthrough")))
    };
    used(site, cases).iter().filter_map(told).collect()
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, nothing};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || Scene::with_dataset(&[("acltype", "nfsv4")], &[("aclmode", "discard")]),
        by_hand: nothing,
    };

    #[test]
    fn nfsv4_acls_are_lost_where_a_chmod_discards_them() {
        let told = "loft/media keeps NFSv4 ACLs and has aclmode=discard → on granary: zfs set \
                    aclmode=passthrough loft/media";
        for (kind, mode, expected) in
            [("nfsv4", "discard", told), ("nfsv4", "restricted", ""), ("posixacl", "discard", "")]
        {
            let scene = Scene::with_dataset(&[("acltype", kind)], &[("aclmode", mode)]);
            assert_eq!(scene.messages_of(&RULE), expected, "{kind} {mode}");
        }
    }
}
