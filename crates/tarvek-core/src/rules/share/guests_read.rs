//! `share/guests-read`.

use crate::remedy::apply_on_host::reload_smb;
use crate::rules::share::{guests_write, of_share};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::part::Part;
use crate::words::remedy::Remedy;
use crate::words::rule::{Rule, Severity};

/// A share that anybody reads.
pub static RULE: Rule = Rule {
    id: "share/guests-read",
    severity: Severity::Note,
    title: "Guests may read a share",
    means: "An SMB share lets in whoever gives no name.",
    hurts: "Everybody in the network sees what is in it.",
    fix: "If that is not meant, let in accounts only: guests = false.",
    example: "media is open to guests.",
};

/// Judges every SMB offer.
pub fn find(site: &Site, _: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for share in &site.layout.shares {
        let Some(offer) = share.smb.as_ref().filter(|offer| offer.guests && !guests_write(offer))
        else {
            continue;
        };
        let whom =
            if offer.guest_only { "everybody, whoever they are," } else { "whoever gives no name" };
        let message = format!("{whom} may read {} of {}", share.path, share.host);
        let steps = vec![
            site.layout.set(Part::SmbOffer(share.name.clone()), "guests", false),
            reload_smb(&share.host),
        ];
        let effects = vec!["whoever gives no name can then no longer connect".to_owned()];
        let remedy = Remedy { steps, effects };
        findings.push(of_share(&RULE, share).says(message).remedy(remedy));
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
            over(Protocol::Smb, |scene| scene.layout.shares[0].smb.as_mut().unwrap().guests = true)
        },
        by_hand: |scene| scene.layout.shares[0].smb.as_mut().unwrap().guests = false,
    };

    #[test]
    fn guests_are_told_of() {
        let mut scene = Scene::over(Protocol::Smb);
        assert_eq!(scene.messages_of(&RULE), "");
        scene.layout.shares[0].smb.as_mut().unwrap().guests = true;
        assert!(scene.messages_of(&RULE).starts_with(
            "whoever gives no name may read /loft/media of granary → in the layout line 3: set \
             guests = false"
        ));
        scene.layout.shares[0].smb.as_mut().unwrap().writable = true;
        assert_eq!(scene.messages_of(&RULE), "", "that is worse, and another rule's");
    }
}
