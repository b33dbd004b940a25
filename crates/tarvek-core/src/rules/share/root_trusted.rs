//! `share/root-trusted`.

use crate::remedy::apply_on_host::reload_exports;
use crate::rules::share::any_client::any;
use crate::rules::share::of_share;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::offer::Squash;
use crate::words::part::Part;
use crate::words::rule::{Rule, Severity};

/// Clients whose root is root.
pub static RULE: Rule = Rule {
    id: "share/root-trusted",
    severity: Severity::Risk,
    title: "Root of a client is root of the export",
    means: "An export has no_root_squash: root of a client acts as root of the server there.",
    hurts: "Whoever is root on one of the clients, or in a container of it without a namespace, \
            can read, change and own everything in the export, and leave programs in it that run \
            as root.",
    fix: "Squash root, and give the account that needs something the right to it.",
    example: "/loft/intake is exported to millrace with no_root_squash.",
};

/// Judges every export.
pub fn find(site: &Site, _: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for share in &site.layout.shares {
        for export in share.nfs.iter().filter(|export| export.squash == Squash::None) {
            let whom = if any(export.clients.raw()) {
                "any machine".to_owned()
            } else {
                export.clients.to_string()
            };
            let message = format!("root of {whom} is root of {} on {}", share.path, share.host);
            let steps = vec![
                site.layout.set(Part::export(share, export), "squash", Squash::Root.word()),
                reload_exports(&share.host),
            ];
            let finding = of_share(&RULE, share).says(message).remedy(steps);
            let worse = any(export.clients.raw());
            findings.push(if worse { finding.weighs(Severity::Blocker) } else { finding });
        }
    }
    findings
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, over};
    use crate::tests::Scene;
    use crate::words::offer::Squash;
    use crate::words::rule::Severity;
    use crate::words::terms::Protocol;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || over(Protocol::Nfs, |scene| scene.layout.shares[0].nfs[0].squash = Squash::None),
        by_hand: |scene| scene.layout.shares[0].nfs[0].squash = Squash::Root,
    };

    #[test]
    fn root_of_another_machine_is_nobody() {
        let mut scene = Scene::over(Protocol::Nfs);
        assert_eq!(scene.messages_of(&RULE), "");
        scene.layout.shares[0].nfs[0].squash = Squash::None;
        assert!(scene.messages_of(&RULE).starts_with(
            "root of any machine is root of /loft/media on granary → in the \
                              layout line 3: set squash"
        ));
        let worst =
            |scene: &Scene| scene.findings().iter().find(|f| f.rule == &RULE).map(|f| f.severity);
        assert_eq!(worst(&scene), Some(Severity::Blocker));
        scene.layout.shares[0].nfs[0].clients = "millrace.lan".into();
        assert_eq!(worst(&scene), Some(Severity::Risk));
    }
}
