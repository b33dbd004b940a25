//! `layout/config-in-media`.

use crate::route::follow;
use crate::route::hops::View;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::about::About;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};

/// A service's own files among the media.
pub static RULE: Rule = Rule {
    id: "layout/config-in-media",
    severity: Severity::Risk,
    title: "A service keeps its configuration inside a media share",
    means: "The configuration folder of a service lies in a folder that is shared.",
    hurts: "Whoever browses the share can read and delete it, scans may take its pictures for \
            media, and databases do badly over \
            a network.",
    fix: "Give it a folder of its own, on the local disk of the host that runs the service.",
    example: "lantern's configuration is in /loft/media/.lantern.",
};

/// Judges the configuration folder of every service.
pub fn find(site: &Site, _: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for service in &site.layout.services {
        let Some(config) = &service.config else { continue };
        let (subject, _) = site.subject_of(service);
        let route = follow(site, &View::host(&service.host), config, &subject);
        let end = route.here();
        let holds = |path| end.path.within(path);
        let mut shares = site.layout.shares.iter();
        let Some(share) = shares.find(|s| s.host == end.host && holds(&s.path)) else { continue };
        let (name, host) = (&service.name, &service.host);
        let message =
            format!("the configuration of {name} lies in the share {}: {}", share.name, end.path);
        let remedy = format!("move it to a folder of {host}'s own disk, such as /srv/{name}");
        let finding = RULE.finding(About::Service(name.clone())).at(end);
        findings.push(finding.line(service.origin.line).says(message).remedy(remedy));
    }
    findings
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, local};
    use crate::tests::{Scene, abs, share};
    use crate::words::terms::Protocol;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            local(|scene| {
                scene.layout.shares.push(share("media", "/loft/media"));
                scene.service("lantern").config = Some(abs("/loft/media/.lantern"));
                scene.service("lantern").backup = Some("rill".into());
                scene.tree("granary", "d 0750 840:840 /loft/media/.lantern");
            })
        },
        by_hand: |scene| {
            scene.tree("granary", "d 0750 840:840 /srv/lantern");
            scene.service("lantern").config = Some(abs("/srv/lantern"));
        },
    };

    #[test]
    fn a_configuration_folder_is_followed_to_where_it_is() {
        let mut scene = Scene::over(Protocol::Nfs);
        scene.service("lantern").config = Some(abs("/srv/lantern"));
        assert_eq!(scene.messages_of(&RULE), "");
        scene.service("lantern").config = Some(abs("/mnt/media/.lantern"));
        let told = "the configuration of lantern lies in the share media: /loft/media/.lantern → \
                    move it to a folder of millrace's own \
                    disk, such as /srv/lantern";
        assert_eq!(scene.messages_of(&RULE), told);
    }
}
