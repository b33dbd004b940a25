//! `share/child-dataset-hidden`.

use crate::remedy::apply_on_host::reload_exports;
use crate::remedy::offer::{client_of, set_export};
use crate::route::attached::attached_below;
use crate::route::end::End;
use crate::route::follow;
use crate::route::hops::Route;
use crate::site::join::Site;
use crate::used::mapped::{Mapped, mapped};
use crate::used::used_path::UsedPath;
use crate::words::about::About;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::place::Place;
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

/// Judges one place that a service uses, and what is below it.
pub fn find(site: &Site, case: &UsedPath) -> Vec<Finding> {
    let Some(route) = &case.route else { return Vec::new() };
    let below = case.library().is_some();
    let hidden = hidden(site, route, below).into_iter();
    hidden.map(|hidden| hidden.told(site, case.finding(&RULE))).collect()
}

/// Judges what services map besides, so that it is told before a library is chosen there.
pub fn find_in_site(site: &Site, _: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for service in &site.layout.services {
        for Mapped { mapping, route } in mapped(site, service) {
            for hidden in hidden(site, &route, true) {
                let finding = RULE.finding(About::Service(service.name.clone()));
                findings.push(hidden.told(site, finding.line(mapping.origin.line)));
            }
        }
    }
    findings
}

/// A dataset that is not seen, and how.
struct Hidden {
    route: Route,
    at: Place,
    share: Name,
}

/// The datasets that are hidden at the end of a way, or below it.
fn hidden(site: &Site, route: &Route, below: bool) -> Vec<Hidden> {
    let of = |route: Route| match &route.end {
        End::HiddenChild { at, share } => {
            let (at, share) = (at.clone(), share.clone());
            Some(Hidden { route, at, share })
        }
        _ => None,
    };
    let places = if below { attached_below(site, route) } else { Vec::new() };
    let ways = places.iter().map(|path| follow(site, &route.view, path, &route.subject));
    let mut all: Vec<Hidden> = ways.chain([route.clone()]).filter_map(of).collect();
    // What is below one that is hidden is told with it.
    let tops: Vec<Place> = all.iter().map(|hidden| hidden.at.clone()).collect();
    all.sort_by(|a, b| a.at.cmp(&b.at));
    all.dedup_by(|a, b| a.at == b.at);
    all.retain(|hidden| {
        let at = &hidden.at;
        !tops.iter().any(|top| top != at && top.host == at.host && at.path.within(&top.path))
    });
    all
}

impl Hidden {
    fn told(&self, site: &Site, finding: Finding) -> Finding {
        let (point, share) = (&self.at.path, &self.share);
        let message = format!(
            "{} leads into the dataset at {point}, which the share {share} does not include",
            self.route.asked
        );
        let declared = site.layout.share(share);
        let edit = declared.and_then(|declared| {
            set_export(site, declared, client_of(&self.route, &self.at.host)?, "crossmnt", true)
        });
        let words = || {
            Step::words(format!("in the layout, declare {point} as a share of its own over NFS"))
        };
        let remedy = vec![edit.unwrap_or_else(words), reload_exports(&self.at.host)];
        finding.at(&self.at).says(message).remedy(remedy)
    }
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
        scene.root("/media");
        assert_eq!(scene.messages_of(&RULE), told, "it is below the root");
        let findings = scene.findings();
        let found = findings.iter().find(|finding| finding.rule == &RULE).unwrap();
        assert_eq!(found.affects.len(), 1);
        scene.service("lantern").libraries.clear();
        assert_eq!(scene.messages_of(&RULE), told, "no library is declared yet");
        scene.layout.shares.push(share("films", "/loft/media/films"));
        assert_eq!(scene.messages_of(&RULE), "");
    }
}
