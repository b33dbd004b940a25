//! `share/guests-read`.

use crate::rules::case::Case;
use crate::rules::real::in_smb;
use crate::rules::share::{guests_write, of_share};
use crate::site::join::Site;
use crate::words::finding::Finding;
use crate::words::remedy::Step;
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
pub fn find(site: &Site, _: &[Case]) -> Vec<Finding> {
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
            Step::words(format!(
                "set guests = false in the smb of {} in the layout, if that is not meant",
                share.name
            )),
            in_smb(&share.host),
        ];
        findings.push(of_share(&RULE, share).says(message).remedy(steps));
    }
    findings
}

#[cfg(test)]
mod tests {
    use super::RULE;
    use crate::tests::Scene;
    use crate::words::terms::Protocol;

    #[test]
    fn guests_are_told_of() {
        let mut scene = Scene::over(Protocol::Smb);
        assert_eq!(scene.told(&RULE), "");
        scene.layout.shares[0].smb.as_mut().unwrap().guests = true;
        assert!(scene.told(&RULE).starts_with(
            "whoever gives no name may read /loft/media of granary → set guests = false"
        ));
        scene.layout.shares[0].smb.as_mut().unwrap().writable = true;
        assert_eq!(scene.told(&RULE), "", "that is worse, and another rule's");
    }
}
