//! `layout/outside-share`.

use crate::layout::host::HostRole;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};

/// Nobody can reach it over the network.
pub static RULE: Rule = Rule {
    id: "layout/outside-share",
    severity: Severity::Risk,
    title: "A library lies in a folder that no share offers",
    means: "The storage host offers shares, but none of them holds this library.",
    hurts: "People who look after the library can't reach it, services on other hosts can't \
            either, and whoever cleans up the \
            storage host takes it for somebody's leftovers.",
    fix: "Move the library into a folder that is shared, or share the folder above it.",
    example: "The share is /loft/media; the books were put into /loft/books by hand.",
};

/// Judges every library that lies on a storage host with shares.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for case in cases.iter().filter(|case| case.library().is_some()) {
        let Some(end) = case.end() else { continue };
        let (host, path) = (&end.host, &end.path);
        let storage = site.layout.host(host).is_some_and(|h| h.roles.contains(&HostRole::Storage));
        let shares: Vec<_> = site.layout.shares.iter().filter(|s| s.host == *host).collect();
        let [first, ..] = shares.as_slice() else { continue };
        if !storage || shares.iter().any(|share| path.within(&share.path)) {
            continue;
        }
        let names: Vec<String> =
            shares.iter().map(|share| format!("{} ({})", share.name, share.path)).collect();
        let message = format!("{path} on {host} lies in none of its shares: {}", names.join(", "));
        let remedy = format!("move it below {}, or share the folder above it", first.path);
        findings.push(case.finding(&RULE).at(end).says(message).remedy(remedy));
    }
    findings
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, local};
    use crate::tests::{Scene, share};

    pub(crate) const PROMISE: Promise = Promise {
        scene: || local(|scene| scene.layout.shares.push(share("attic", "/attic"))),
        by_hand: |scene| scene.layout.shares[0] = share("loft", "/loft"),
    };

    #[test]
    fn a_library_beside_the_shares_is_out_of_reach() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "", "the host offers nothing at all");
        scene.layout.shares.push(share("media", "/loft/media"));
        assert_eq!(scene.messages_of(&RULE), "");
        scene.layout.shares[0] = share("attic", "/attic");
        let told = "/loft/media/films on granary lies in none of its shares: attic (/attic) → move \
                    it below /attic, or share the folder \
                    above it";
        assert_eq!(scene.messages_of(&RULE), told);
    }
}
