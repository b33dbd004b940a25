//! `share/everyone-writes`.

use crate::remedy::apply_on_host::reload_smb;
use crate::rules::share::{guests_write, of_share};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::remedy::Step;
use crate::words::rule::{Rule, Severity};

/// A share that anybody changes.
pub static RULE: Rule = Rule {
    id: "share/everyone-writes",
    severity: Severity::Risk,
    title: "Guests or everyone may write to a share",
    means: "An SMB share is writable for guests, or for every account that there is.",
    hurts: "Any machine in the network, and whatever gets into one, can change or encrypt what is \
            in it.",
    fix: "Let in those who need it (only), and name who writes (write).",
    example: "media has writable = true and no only.",
};

/// Judges every SMB offer.
pub fn find(site: &Site, _: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for share in &site.layout.shares {
        let Some(offer) = &share.smb else { continue };
        let whom = if guests_write(offer) {
            "whoever gives no name"
        } else if offer.writable && offer.only.is_empty() {
            "every account"
        } else {
            continue;
        };
        let message = format!("{whom} may write to {} of {}", share.path, share.host);
        let words = format!(
            "in the layout, set guests = false and writable = false in the smb of {}, and name who \
             needs it: only = [\"@group\"], write = [\"@group\"]",
            share.name
        );
        findings.push(
            of_share(&RULE, share)
                .says(message)
                .remedy(vec![Step::words(words), reload_smb(&share.host)]),
        );
    }
    findings
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, over};
    use crate::tests::Scene;
    use crate::words::terms::Protocol;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            over(Protocol::Smb, |scene| {
                scene.layout.shares[0].smb.as_mut().unwrap().writable = true
            })
        },
        by_hand: |scene| {
            let offer = scene.layout.shares[0].smb.as_mut().unwrap();
            offer.writable = false;
            offer.write = vec!["@keepers".into()];
        },
    };

    #[test]
    fn who_writes_is_named() {
        let mut scene = Scene::over(Protocol::Smb);
        assert_eq!(scene.messages_of(&RULE), "");
        scene.layout.shares[0].smb.as_mut().unwrap().writable = true;
        assert!(scene.messages_of(&RULE).starts_with(
            "every account may write to /loft/media of granary → in the layout, set guests"
        ));
        scene.layout.shares[0].smb.as_mut().unwrap().only = vec!["@keepers".into()];
        assert_eq!(scene.messages_of(&RULE), "");
        scene.layout.shares[0].smb.as_mut().unwrap().guests = true;
        assert_eq!(scene.messages_of(&RULE), "", "guests are not among those who are let in");
        scene.layout.shares[0].smb.as_mut().unwrap().only.clear();
        assert!(scene.messages_of(&RULE).starts_with("whoever gives no name may write"));
    }
}
