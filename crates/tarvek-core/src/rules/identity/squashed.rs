//! `identity/squashed`.

use crate::kernel::subject::Subject;
use crate::layout::service::Service;
use crate::remedy::apply_on_host::{reload_exports, run_as_account};
use crate::remedy::offer::{client_of, set_export};
use crate::route::follow;
use crate::route::hops::{Hop, HopKind, Route, View};
use crate::rules::identity::{of_service, ways};
use crate::site::join::Site;
use crate::used::used_path::{UsedPath, stays_usable};
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::offer::Squash;
use crate::words::path::AbsPath;
use crate::words::remedy::{Remedy, Step};
use crate::words::rule::{Rule, Severity};
use crate::words::terms::Protocol;

/// An id that the server replaces.
pub static RULE: Rule = Rule {
    id: "identity/squashed",
    severity: Severity::Risk,
    title: "The server takes a service for somebody else",
    means: "The export replaces the service's uid: root by nobody, or everyone by one account.",
    hurts: "The service can do what that account can, whatever rights its own account has; what it \
            makes belongs to it.",
    fix: "Run the service under an account of its own (root is replaced unless the export says \
          no_root_squash, which is worse), or \
          take all_squash off the export.",
    example: "drover runs as root on millrace and arrives on granary as 65534.",
};

/// Judges where each service arrives, each server once.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
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
                    let share = hop.share.as_ref().and_then(|(_, share)| share.as_ref());
                    let remedy = remedy(site, cases, service, &route, hop, share);
                    let mut finding = of_service(site, &RULE, service).says(message).remedy(remedy);
                    finding.place.path = Some(route.here().path.clone());
                    findings.push(finding);
                }
                before = &hop.subject;
            }
        }
    }
    findings
}

/// Another account helps only where the export leaves any as it is.
fn remedy(
    site: &Site,
    cases: &[UsedPath],
    service: &Service,
    route: &Route,
    hop: &Hop,
    share: Option<&Name>,
) -> Remedy {
    let Service { name, host, .. } = service;
    let anyone = Subject::new(ANYONE, ANYONE, []);
    let kept = follow(site, &View::host(host), &at_mount(route, host), &anyone);
    let server = &hop.from.host;
    if kept.arrived().uid == ANYONE {
        let layout = format!(
            "in the layout, set runs_as of {name} to an account of its own, which the export \
             leaves as it is"
        );
        return Remedy::of(vec![Step::words(layout), run_as_account(service)]);
    }
    let become_uid = hop.subject.uid;
    let effects = vec![
        format!("everybody on {host} then arrives on {server} as themselves, root aside"),
        format!(
            "without it, uid {become_uid}, which everybody becomes, can be given what is needed"
        ),
    ];
    let share = share.and_then(|share| site.layout.share(share));
    let edit = share.and_then(|share| {
        let client = client_of(route, server)?;
        set_export(site, share, client, "squash", Squash::Root.word())
    });
    let edit = edit.map(|edit| vec![edit]);
    let after = edit.as_deref().and_then(|edit| site.after(edit));
    if after.is_some_and(|after| !stays_usable(cases, site, &after)) {
        return Remedy::of(vec![Step::words(format!(
            "give uid {become_uid}, which everybody on {host} becomes on {server}, what {name} \
             needs; without the squashing, somebody could no longer use what they use now"
        ))]);
    }
    let words = || vec![Step::words("set squash = \"root\" for this client in the share's nfs")];
    let mut steps = edit.unwrap_or_else(words);
    steps.push(reload_exports(server));
    Remedy { steps, effects }
}

/// Where the way leaves the service's host: the mount point.
fn at_mount(route: &Route, host: &Name) -> AbsPath {
    let mount = route.hops.iter().find(|hop| hop.kind == HopKind::Mount && hop.from.host == *host);
    mount.map_or_else(|| route.asked.clone(), |hop| hop.from.path.clone())
}

/// A number that no account has.
const ANYONE: u32 = 0x7ff0_0000;

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::layout::service::RunAs;
    use crate::rules::promise::{Promise, over};
    use crate::tests::Scene;
    use crate::words::offer::Squash;
    use crate::words::terms::Protocol;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || over(Protocol::Nfs, |scene| scene.layout.shares[0].nfs[0].squash = Squash::All),
        by_hand: |scene| scene.layout.shares[0].nfs[0].squash = Squash::Root,
    };

    #[test]
    fn an_export_that_replaces_an_id_is_told_once_a_server() {
        let mut scene = Scene::over(Protocol::Nfs);
        assert_eq!(scene.messages_of(&RULE), "");
        scene.layout.shares[0].nfs[0].squash = Squash::All;
        let told = "lantern is 840:840 on millrace and arrives on granary as 65534:65534: \
                    all_squash of the export → in the layout line 3: add { clients = \"10.20.0.3\", \
                    access = \"ro\", squash = \"root\" } to nfs of share media; on granary: put \
                    what `tarvek emit exports` writes in place, and run exportfs -ra";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.layout.shares[0].nfs[0].squash = Squash::Root;
        scene.service("lantern").runs_as = RunAs::Numbers(0, Some(0));
        let told = scene.messages_of(&RULE);
        assert!(
            told.contains(
                "as 65534:65534: root_squash of the export → in the layout, set runs_as of lantern"
            ),
            "{told}"
        );
        scene.layout.shares[0].nfs[0].squash = Squash::None;
        assert_eq!(scene.messages_of(&RULE), "");
    }
}
