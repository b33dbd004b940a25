//! `share/child-dataset-hidden`.

use crate::remedy::apply_on_host::reload_exports;
use crate::remedy::offer::{client_of, set_export};
use crate::route::end::End;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::remedy::Step;
use crate::words::rule::{Rule, Severity};

/// A dataset that clients see as an empty folder.
pub static RULE: Rule = Rule {
    id: "share/child-dataset-hidden",
    severity: Severity::Blocker,
    title: "A child dataset is hidden from NFS clients",
    means: "A dataset is mounted below an exported folder, and it is neither exported itself nor \
            included by crossmnt. The \
            server shows clients the empty folder on which it is mounted.",
    hurts: "On the storage host everything is in place; every client finds an empty folder.",
    fix: "Export the child dataset too, and mount it if the clients use NFSv3; or set crossmnt on \
          the parent's export.",
    example: "loft/media is exported, loft/media/photos is a dataset of its own: the photo library \
              is empty.",
};

/// Judges one root.
pub fn find(site: &Site, case: &UsedPath) -> Vec<Finding> {
    let Some(route) = &case.route else { return Vec::new() };
    let End::HiddenChild { at, share } = &route.end else { return Vec::new() };
    let point = &at.path;
    let message = format!(
        "{} leads into the dataset at {point}, which the share {share} does not include",
        route.asked
    );
    let declared = site.layout.share(share);
    let edit = declared.and_then(|declared| {
        set_export(site, declared, client_of(route, &at.host)?, "crossmnt", true)
    });
    let words =
        || Step::words(format!("in the layout, declare {point} as a share of its own over NFS"));
    let remedy = vec![edit.unwrap_or_else(words), reload_exports(&at.host)];
    vec![case.finding(&RULE).at(at).says(message).remedy(remedy)]
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, over};
    use crate::tests::{Scene, mounts, share};
    use crate::words::terms::Protocol;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            over(Protocol::Nfs, |scene| {
                scene.facts("granary").mounts = Some(mounts(
                    "1 0 0:1 / / zfs root rw\n2 1 0:2 / /loft/media zfs loft/media rw\n\
                         3 2 0:3 / /loft/media/films zfs loft/media/films rw",
                ));
            })
        },
        by_hand: |scene| scene.layout.shares[0].nfs[0].crossmnt = true,
    };

    #[test]
    fn a_child_dataset_is_exported_by_itself_or_crossed_into() {
        let mut scene = Scene::over(Protocol::Nfs);
        assert_eq!(scene.messages_of(&RULE), "");
        scene.facts("granary").mounts = Some(mounts(
            "1 0 0:1 / / zfs root rw\n2 1 0:2 / /loft/media zfs loft/media rw\n3 2 0:3 / \
             /loft/media/films zfs loft/media/films rw",
        ));
        let told = "/media/films leads into the dataset at /loft/media/films, which the share \
                    media does not include → in the layout line 3: add { clients = \"10.20.0.3\", \
                    access = \"ro\", squash = \"root\", crossmnt = true } to nfs of share media; \
                    on granary: put what `tarvek emit exports` writes in place, and run exportfs \
                    -ra";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.layout.shares[0].nfs[0].crossmnt = true;
        assert_eq!(scene.messages_of(&RULE), "");
        scene.layout.shares[0].nfs[0].crossmnt = false;
        scene.layout.shares.push(share("films", "/loft/media/films"));
        assert_eq!(scene.messages_of(&RULE), "");
    }
}
