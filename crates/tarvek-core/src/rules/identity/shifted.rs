//! `identity/shifted`.

use crate::judge::access_check::judge;
use crate::judge::verdict::{Need, Refusal};
use crate::layout::mapping::Mapping;
use crate::route::end::End;
use crate::route::follow;
use crate::route::hops::{Hop, HopKind, Route};
use crate::rules::mount::set_ids;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};

/// A namespace that makes files nobody's.
pub static RULE: Rule = Rule {
    id: "identity/shifted",
    severity: Severity::Blocker,
    title: "A user namespace shifts the ids away from the files' owners",
    means: "Inside its user namespace the service has the right numbers; outside, where the files \
            are, they are others. \
            Without the shift the account could read the library.",
    hurts: "All files look as if they belonged to nobody, and only what everyone may do is \
            possible.",
    fix: "Give the shifted number what it needs; or map the account's own number into the \
          namespace (a range of one id); or let \
          the engine mount the folder with the namespace's ids (an idmapped mount).",
    example: "kelp is a system container whose ids start at 100000: 840 in it is 100840 on \
              millrace.",
};

/// Judges one root.
pub fn find(site: &Site, case: &UsedPath) -> Vec<Finding> {
    let Some(route) = &case.route else { return Vec::new() };
    let service = &case.service.name;
    let finding = || case.finding_at_end(&RULE, route).line(case.service.origin.line);
    if let End::Unmapped { why, .. } = &route.end {
        let message = format!("{service} can't run as {}: {why}", case.subject);
        let remedy = match network_mapping(site, case, route).filter(|mapping| mapping.idmap) {
            Some(_) => format!(
                "take idmap = true off the mapping, and map {} into the namespace as itself",
                case.subject.uid
            ),
            None => "set runs_as to an id that the namespace maps, or widen its ranges".to_owned(),
        };
        return vec![finding().says(message).remedy(remedy)];
    }
    let need = case.need();
    if !judge(site, route, need).is_refused() || !decides(site, route, need) {
        return Vec::new();
    }
    // Behind an SMB mount it is the client's own check that meets the shifted number.
    if let Some(Refusal::Options(gate)) = judge(site, route, need).refusal() {
        let (outside, at) = (&gate.subject, &gate.at);
        let message = format!(
            "{service} is {} inside its namespace and {outside} on {}, where the options of the \
             SMB mount at {} ({}) do not let it {} {}",
            route.subject,
            at.host,
            at.path,
            gate.text(true),
            need.to(),
            route.asked
        );
        let ids = [("uid", outside.uid), ("gid", outside.gid)];
        return vec![finding().says(message).remedy(set_ids(site, at, &ids))];
    }
    let arrived = route.arrived();
    let message = format!(
        "{service} is {} inside its namespace and {arrived} where the files are, which can't {} {}",
        route.subject,
        need.to(),
        route.asked
    );
    let idmap = match network_mapping(site, case, route) {
        Some(_) => "",
        None => ", or mount with its ids (idmap = true)",
    };
    let remedy = format!(
        "map {} into the namespace as itself{idmap}, or give {} the rights",
        route.subject.uid, arrived.uid
    );
    vec![finding().says(message).remedy(remedy)]
}

/// The mapping that is taken, if what it shows comes over the network, where no kernel idmaps a
/// mount (`mount_setattr(2)`).
fn network_mapping<'a>(site: &Site, case: &'a UsedPath, route: &Route) -> Option<&'a Mapping> {
    let mapping = case.service.map.as_ref()?.get(route.mapping?)?;
    site.network_of(&case.service.host, mapping).map(|_| mapping)
}

/// Whether the same account could do what it has to if no namespace shifted its ids.
pub(in crate::rules) fn decides(site: &Site, route: &Route, need: Need) -> bool {
    let shifted = |hop: &Hop| hop.kind == HopKind::Mapping && hop.changed_by.is_some();
    if !route.hops.iter().any(shifted) {
        return false;
    }
    let plain = site.without_namespaces();
    let route = follow(&plain, &route.view, &route.asked, &route.subject);
    judge(&plain, &route, need).is_allowed()
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::kernel::subject::{IdMap, IdRange};
    use crate::layout::service::UserNs;
    use crate::rules::promise::{Promise, local, shifted};
    use crate::tests::Scene;
    use crate::words::terms::Protocol;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            local(|scene| {
                scene.tree("granary", "d 0750 840:840 /loft/media/films");
                scene.service("lantern").userns = Some(shifted());
            })
        },
        by_hand: |scene| scene.service("lantern").map.as_mut().unwrap()[0].idmap = true,
    };

    #[test]
    fn a_namespace_is_blamed_where_the_same_account_could_read_without_it() {
        let mut scene = Scene::local();
        scene.tree("granary", "d 0750 840:840 /loft/media/films");
        assert_eq!(scene.messages_of(&RULE), "");
        let range = IdRange { inside: 0, outside: 100_000, count: 1000 };
        scene.service("lantern").userns = Some(UserNs::Ranges(IdMap::both(vec![range])));
        let told = "lantern is 840:840 inside its namespace and 100840:100840 where the files are, \
                    which can't read /media/films → \
                    map 840 into the namespace as itself, or mount with its ids (idmap = true), or \
                    give 100840 the rights";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.service("lantern").map.as_mut().unwrap()[0].idmap = true;
        assert_eq!(scene.messages_of(&RULE), "");
        scene.service("lantern").map.as_mut().unwrap()[0].idmap = false;
        scene.tree("granary", "d 0700 1101:2100 /loft/media/films");
        assert_eq!(scene.messages_of(&RULE), "", "it could not read without the namespace either");
        let range = IdRange { inside: 0, outside: 100_000, count: 100 };
        scene.service("lantern").userns = Some(UserNs::Ranges(IdMap::both(vec![range])));
        assert!(scene.messages_of(&RULE).starts_with(
            "lantern can't run as 840:840: the user namespace of lantern has no id 840"
        ));
    }

    #[test]
    fn no_kernel_idmaps_what_comes_over_the_network() {
        for protocol in [Protocol::Nfs, Protocol::Smb] {
            let mut scene = Scene::over(protocol);
            let range = IdRange { inside: 0, outside: 100_000, count: 1000 };
            let lantern = scene.service("lantern");
            lantern.userns = Some(UserNs::Ranges(IdMap::both(vec![range])));
            lantern.map.as_mut().unwrap()[0].idmap = true;
            let told = format!(
                "lantern can't run as 840:840: the mapping in line 7 asks for the ids of its \
                 namespace (idmap = true), which no kernel \
                 gives to what is mounted over {} → take idmap = true off the mapping, and map 840 \
                 into the namespace as itself",
                protocol.word()
            );
            assert_eq!(scene.messages_of(&RULE), told);
        }
        let mut scene = Scene::over(Protocol::Nfs);
        scene.tree("granary", "d 0750 840:840 /loft/media/films");
        let range = IdRange { inside: 0, outside: 100_000, count: 1000 };
        scene.service("lantern").userns = Some(UserNs::Ranges(IdMap::both(vec![range])));
        let told = scene.messages_of(&RULE);
        assert!(
            told.ends_with("→ map 840 into the namespace as itself, or give 100840 the rights"),
            "{told}"
        );
    }
}
