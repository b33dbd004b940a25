//! `identity/squashed`.

use crate::route::hops::HopKind;
use crate::rules::case::Case;
use crate::rules::identity::{of_service, ways};
use crate::site::join::Site;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::rule::{Rule, Severity};
use crate::words::terms::Protocol;

/// An id that the server replaces.
pub static RULE: Rule = Rule {
    id: "identity/squashed",
    severity: Severity::Risk,
    title: "The server takes a service for somebody else",
    means: "The export replaces the service's uid: root by nobody, or everyone by one account.",
    hurts: "The service can do what that account can, whatever rights its own account has; what it makes belongs to it.",
    fix: "Run the service under an account of its own (root is replaced unless the export says no_root_squash, which is worse), or \
          take all_squash off the export.",
    example: "drover runs as root on millrace and arrives on granary as 65534.",
};

/// Judges where each service arrives, each server once.
pub fn find(site: &Site, _: &[Case]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for service in &site.layout.services {
        let mut told: Vec<Name> = Vec::new();
        for route in ways(site, service) {
            let mut before = &route.subject;
            for hop in &route.hops {
                let replaced = hop.kind == HopKind::Share && hop.subject.uid != before.uid;
                let by_export = matches!(hop.share, Some((Protocol::Nfs, _)));
                let server = &hop.from.host;
                if replaced && by_export && !told.contains(server) {
                    told.push(server.clone());
                    let by = hop.changed_by.as_deref().unwrap_or_default();
                    let (name, host) = (&service.name, &service.host);
                    let message = format!(
                        "{name} is {before} on {host} and arrives on {server} as {}: {by}",
                        hop.subject
                    );
                    let remedy = format!(
                        "run {name} under an account of its own that the export leaves as it is"
                    );
                    let mut finding = of_service(&RULE, service).says(message).remedy(remedy);
                    finding.place.path = Some(route.here().path.clone());
                    findings.push(finding);
                }
                before = &hop.subject;
            }
        }
    }
    findings
}

#[cfg(test)]
mod tests {
    use super::RULE;
    use crate::layout::service::RunAs;
    use crate::layout::share::Squash;
    use crate::tests::Scene;
    use crate::words::terms::Protocol;

    #[test]
    fn an_export_that_replaces_an_id_is_told_once_a_server() {
        let mut scene = Scene::over(Protocol::Nfs);
        assert_eq!(scene.told(&RULE), "");
        scene.layout.shares[0].nfs[0].squash = Squash::All;
        let told = "lantern is 840:840 on millrace and arrives on granary as 65534:65534: all_squash of the export → run lantern \
                    under an account of its own that the export leaves as it is";
        assert_eq!(scene.told(&RULE), told);
        scene.layout.shares[0].nfs[0].squash = Squash::Root;
        scene.service("lantern").runs_as = RunAs::Numbers(0, Some(0));
        assert!(scene.told(&RULE).contains("as 65534:65534: root_squash of the export"));
        scene.layout.shares[0].nfs[0].squash = Squash::None;
        assert_eq!(scene.told(&RULE), "");
    }
}
