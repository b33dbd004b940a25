//! `share/nested`.

use crate::layout::share::Share;
use crate::rules::share::of_share;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};
use crate::words::terms::Access;

/// A share in a share.
pub static RULE: Rule = Rule {
    id: "share/nested",
    severity: Severity::Note,
    title: "One share lies inside another, with other rights",
    means: "Two shares of a host nest, and one lets in or lets write others than the other.",
    hurts: "What one share keeps from somebody, they reach through the other one.",
    fix: "Offer one folder in one way, or give both the same rights.",
    example: "films lies in media; media is read-only, films writable.",
};

/// Judges every share with the nearest one that it lies in.
pub fn find(site: &Site, _: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for inner in &site.layout.shares {
        let above = site.layout.shares.iter().filter(|outer| {
            outer.host == inner.host && inner.path.within(&outer.path) && inner.path != outer.path
        });
        let Some(outer) = above.max_by_key(|outer| outer.path.components().count()) else {
            continue;
        };
        let Some(differ) = differ(outer, inner) else { continue };
        let message =
            format!("{} lies in the share {}, and {differ} differ", inner.path, outer.name);
        let remedy = format!(
            "in the layout, give {} and {} the same {differ}, or keep one of the two shares",
            outer.name, inner.name
        );
        findings.push(of_share(&RULE, inner).says(message).remedy(remedy));
    }
    findings
}

/// What two offers differ in, over a protocol that both are offered over.
fn differ(outer: &Share, inner: &Share) -> Option<&'static str> {
    let writers = |share: &Share| {
        let exports = share.nfs.iter().filter(|export| export.access == Access::ReadWrite);
        let mut clients: Vec<_> = exports.map(|export| export.clients.clone()).collect();
        clients.sort();
        clients
    };
    let clients = |share: &Share| {
        let mut clients: Vec<_> = share.nfs.iter().map(|export| export.clients.clone()).collect();
        clients.sort();
        clients
    };
    if !outer.nfs.is_empty() && !inner.nfs.is_empty() {
        if clients(outer) != clients(inner) {
            return Some("clients");
        }
        if writers(outer) != writers(inner) {
            return Some("rights to write");
        }
    }
    let (Some(outer), Some(inner)) = (&outer.smb, &inner.smb) else { return None };
    if (outer.guests, &outer.only, &outer.deny) != (inner.guests, &inner.only, &inner.deny) {
        return Some("lists of who may connect");
    }
    let rights =
        (outer.writable, &outer.write, &outer.read) != (inner.writable, &inner.write, &inner.read);
    rights.then_some("rights to write")
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, over};
    use crate::tests::{Scene, share};
    use crate::words::terms::{Access, Protocol};

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            over(Protocol::Nfs, |scene| {
                scene.layout.shares.push(share("films", "/loft/media/films"));
                scene.layout.shares[1].smb = None;
                scene.layout.shares[1].nfs[0].clients = "10.20.0.0/24".into();
            })
        },
        by_hand: |scene| scene.layout.shares[1].nfs[0].clients = "*".into(),
    };

    #[test]
    fn shares_that_nest_agree() {
        let mut scene = Scene::over(Protocol::Nfs);
        scene.layout.shares.push(share("films", "/loft/media/films"));
        assert_eq!(scene.messages_of(&RULE), "");
        scene.layout.shares[1].nfs[0].access = Access::ReadWrite;
        let told = "/loft/media/films lies in the share media, and rights to write differ → in the \
                    layout, give media and films the same rights to write, or keep one of the two \
                    shares";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.layout.shares[1].nfs[0].clients = "10.20.0.0/24".into();
        assert!(scene.messages_of(&RULE).contains("and clients differ"));
        scene.layout.shares[1].path = crate::tests::abs("/loft/mediaeval");
        assert_eq!(scene.messages_of(&RULE), "");
    }
}
