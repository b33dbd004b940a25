//! `share/recycle-kept`.

use crate::facts::tree::Lookup;
use crate::rules::share::of_share;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::place::Place;
use crate::words::remedy::Step;
use crate::words::rule::{Rule, Severity};
use crate::words::text::{bytes, counted};

/// A bin that nobody empties.
pub static RULE: Rule = Rule {
    id: "share/recycle-kept",
    severity: Severity::Note,
    title: "A recycle bin keeps what was deleted",
    means: "An SMB share moves what is deleted into a folder of its own, and that holds something.",
    hurts: "Space that was thought to be free is not; scans may find the deleted files again.",
    fix: "Empty it, or let a timer do so.",
    example: "media keeps 41 GiB in .recycle.",
};

/// What the server calls the folder unless told otherwise (vfs_recycle(8)), and what many call it.
const BINS: [&[u8]; 3] = [b".recycle", b"#recycle", b".Recycle"];

/// Judges every share whose deleted files are kept, and whose folder was seen.
pub fn find(site: &Site, _: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for share in &site.layout.shares {
        let keeps = share.smb.as_ref().is_some_and(|offer| offer.recycle);
        let Some(tree) = site.tree(&share.host).filter(|_| keeps) else { continue };
        for bin in BINS {
            let path = share.path.child(bin);
            let Lookup::Found(node) = tree.find(&path) else { continue };
            let files: Vec<u64> = tree
                .below(node)
                .map(|node| tree.meta(node))
                .filter(|meta| !meta.is_folder())
                .map(|meta| meta.size)
                .collect();
            if files.is_empty() {
                continue;
            }
            let size = bytes(files.iter().sum());
            let message = format!(
                "{path} keeps {} of what was deleted, {size}",
                counted(files.len() as u64, "file")
            );
            let step = Step::on(
                &share.host,
                format!("empty {path} when nobody wants anything of it back"),
            );
            let finding = of_share(&RULE, share).at(&Place::new(&share.host, &path));
            findings.push(finding.known(Evidence::Observed).says(message).remedy(step));
        }
    }
    findings
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, done, over};
    use crate::tests::Scene;
    use crate::words::terms::Protocol;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            over(Protocol::Smb, |scene| {
                scene.layout.shares[0].smb.as_mut().unwrap().recycle = true;
                scene.tree("granary", "f 0644 0:0 /loft/media/.recycle/A (2001).mkv");
            })
        },
        by_hand: |scene| done(scene.without("granary", "/loft/media/.recycle/A (2001).mkv")),
    };

    #[test]
    fn a_bin_that_holds_something_is_told_of() {
        let mut scene = Scene::over(Protocol::Smb);
        scene.tree("granary", "d 0755 0:0 /loft/media/.recycle");
        scene.layout.shares[0].smb.as_mut().unwrap().recycle = true;
        assert_eq!(scene.messages_of(&RULE), "");
        scene.tree("granary", "f 0644 0:0 /loft/media/.recycle/mira/A (2001).mkv");
        scene.change("granary", "/loft/media/.recycle/mira/A (2001).mkv", |meta| {
            meta.size = 3 << 30
        });
        let told = "/loft/media/.recycle keeps 1 file of what was deleted, 3.0 GiB → on granary: \
                    empty /loft/media/.recycle when nobody wants \
                    anything of it back";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.layout.shares[0].smb.as_mut().unwrap().recycle = false;
        assert_eq!(scene.messages_of(&RULE), "");
    }
}
