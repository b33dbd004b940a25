//! `share/recycle-kept`.

use crate::facts::tree::{Listing, Lookup};
use crate::layout::share::Share;
use crate::rules::share::of_share;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::offer::SmbOffer;
use crate::words::path::{AbsPath, components};
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

/// Judges every share whose deleted files are kept.
pub fn find(site: &Site, _: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for share in &site.layout.shares {
        let Some(offer) = share.smb.as_ref().filter(|offer| offer.recycle) else { continue };
        let bins = bins(share, offer);
        let found: Vec<Finding> =
            bins.iter().filter_map(|path| of_bin(site, share, path)).collect();
        let is_seen = site.tree(&share.host).is_some_and(|tree| match tree.find(&share.path) {
            Lookup::Found(node) => tree.listing(node) == Listing::Complete,
            _ => false,
        });
        if found.is_empty() && !is_seen {
            let (path, name) = (&bins[0], &share.name);
            let message = format!(
                "what is deleted from {name} over SMB is kept in {path}; how much that is was not \
                 seen"
            );
            let step = Step::on(&share.host, format!("look into {path}, or let a timer empty it"));
            let at = Place::new(&share.host, path);
            findings.push(of_share(&RULE, share).at(&at).says(message).remedy(step));
        }
        findings.extend(found);
    }
    findings
}

/// Where a share may keep them: in the folder that is named, as far as its name is fixed (`%U` is
/// the user), else in those that are usual.
fn bins(share: &Share, offer: &SmbOffer) -> Vec<AbsPath> {
    match &offer.recycle_folder {
        Some(named) => {
            let parts = components(named.raw().as_bytes());
            // What leads out of the share is none of it.
            let fixed = parts.take_while(|part| !part.contains(&b'%') && *part != b"..");
            let path = fixed.fold(share.path.clone(), |path, part| path.child(part));
            vec![if path == share.path { path.child(BINS[0]) } else { path }]
        }
        None => BINS.iter().map(|bin| share.path.child(bin)).collect(),
    }
}

/// What a bin holds, if it was seen and holds something.
fn of_bin(site: &Site, share: &Share, path: &AbsPath) -> Option<Finding> {
    let tree = site.tree(&share.host)?;
    let Lookup::Found(node) = tree.find(path) else { return None };
    let files: Vec<u64> = tree
        .below(node)
        .map(|node| tree.meta(node))
        .filter(|meta| !meta.is_folder())
        .map(|meta| meta.size)
        .collect();
    if files.is_empty() {
        return None;
    }
    let size = bytes(files.iter().sum());
    let count = counted(files.len() as u64, "file");
    let message = format!("{path} keeps {count} of what was deleted, {size}");
    let words = format!("empty {path} when nobody wants anything of it back");
    let finding = of_share(&RULE, share).at(&Place::new(&share.host, path));
    let finding = finding.known(Evidence::Observed).says(message);
    Some(finding.remedy(Step::on(&share.host, words)))
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
        let offer = scene.layout.shares[0].smb.as_mut().unwrap();
        offer.recycle_folder = Some("bin/%U".into());
        assert_eq!(scene.messages_of(&RULE), "", "another folder is the bin");
        scene.tree("granary", "f 0644 0:0 /loft/media/bin/mira/A (2001).mkv");
        assert!(scene.messages_of(&RULE).starts_with("/loft/media/bin keeps 1 file"));
        scene.layout.shares[0].smb.as_mut().unwrap().recycle = false;
        assert_eq!(scene.messages_of(&RULE), "");
    }

    #[test]
    fn a_bin_that_nobody_looked_into_is_told_of_as_well() {
        let mut scene = Scene::over(Protocol::Smb);
        scene.layout.shares[0].smb.as_mut().unwrap().recycle = true;
        scene.unseen("granary");
        let told = "what is deleted from media over SMB is kept in /loft/media/.recycle; how much \
                    that is was not seen";
        assert!(scene.messages_of(&RULE).starts_with(told), "{}", scene.messages_of(&RULE));
    }
}
