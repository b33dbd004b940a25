//! `share/stray-space`.

use crate::facts::configured::Fact;
use crate::remedy::apply_on_host::reload_exports;
use crate::rules::share::of_share;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::about::About;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::part::Part;
use crate::words::remedy::Step;
use crate::words::rule::{Rule, Severity};
use crate::words::spot::Spot;

/// A space that lets everyone in.
pub static RULE: Rule = Rule {
    id: "share/stray-space",
    severity: Severity::Risk,
    title: "A space in an export gives everyone what one host was meant to get",
    means: "A line of exports has a space between a client and its options: the client gets the \
            defaults, and everyone the options (exports(5)).",
    hurts: "A folder that was meant to be writable for one host is so for every machine in the \
            network.",
    fix: "Take the space out.",
    example: "/loft/intake millrace (rw) exports it to millrace read-only, and to everybody with \
              rw.",
};

/// Judges every line of exports that was seen, and every one that was adopted.
pub fn find(site: &Site, _: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (host, facts) in site.observed() {
        for found in &facts.told.configured.facts {
            let Fact::Export(export) = &found.fact else { continue };
            let Some(meant) = &export.stray_space else { continue };
            let about = RULE.finding(About::Host(host.clone())).on(host).known(Evidence::Observed);
            findings.push(describe_finding(about, host, &found.spot, meant));
        }
    }
    // Two exports of one line, of which one is to everybody, were one in the mind of who wrote it.
    let parts = &site.layout.adopted.parts;
    for share in &site.layout.shares {
        let spot = |clients: &Name| {
            let (share, clients) = (share.name.clone(), clients.clone());
            parts.get(&Part::Export { share, clients })
        };
        let Some(everyone) = share.nfs.iter().find(|export| export.clients == "*") else {
            continue;
        };
        let Some(at) = spot(&everyone.clients) else { continue };
        let meant = share.nfs.iter().find(|export| {
            let plain = export.options.is_empty() && export.access == Default::default();
            export.clients != "*" && !plain && spot(&export.clients) == Some(at)
        });
        let known = findings.iter().any(|finding| finding.place.origin.as_ref() == Some(at));
        if let Some(meant) = meant.filter(|_| !known) {
            findings.push(describe_finding(
                of_share(&RULE, share),
                &share.host,
                at,
                &meant.clients,
            ));
        }
    }
    findings
}

fn describe_finding(finding: Finding, host: &Name, spot: &Spot, meant: &Name) -> Finding {
    let message =
        format!("a space stands behind {meant} in {spot}: the options after it are for everybody");
    let words = format!("take the space behind {meant} out of {spot}");
    let steps = vec![Step::on(host, words), reload_exports(host)];
    finding.written(spot).says(message).remedy(steps)
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::facts::configured::{Configured, ExportFact, Fact};
    use crate::rules::promise::{Promise, over};
    use crate::tests::{Scene, share};
    use crate::words::part::Part;
    use crate::words::spot::Spot;
    use crate::words::terms::Protocol;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            over(Protocol::Nfs, |scene| {
                let export = share("media", "/loft/media").nfs.remove(0);
                let path = b"/loft/media".to_vec();
                let fact = ExportFact { path, export, stray_space: Some("millrace".into()) };
                let spot = Spot { file: "/etc/exports".into(), line: 3 };
                let found = Configured { fact: Fact::Export(fact), spot };
                scene.facts("granary").told.configured.facts = vec![found];
            })
        },
        by_hand: |scene| scene.facts("granary").told.configured.facts.clear(),
    };

    #[test]
    fn a_space_is_seen_on_the_host_and_in_what_was_adopted() {
        let mut scene = Scene::over(Protocol::Nfs);
        assert_eq!(scene.messages_of(&RULE), "");
        let spot = Spot { file: "/etc/exports".into(), line: 3 };
        let export = share("media", "/loft/media").nfs.remove(0);
        let fact = ExportFact {
            path: b"/loft/media".to_vec(),
            export,
            stray_space: Some("millrace".into()),
        };
        scene.facts("granary").told.configured.facts =
            vec![Configured { fact: Fact::Export(fact), spot: spot.clone() }];
        let told = "a space stands behind millrace in /etc/exports:3: the options after it are for \
                    everybody → on granary: take the space \
                    behind millrace out of /etc/exports:3; put what `tarvek emit exports` writes \
                    in place, and run exportfs -ra";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.facts("granary").told.configured.facts.clear();
        let mut meant = scene.layout.shares[0].nfs[0].clone();
        meant.clients = "millrace".into();
        scene.layout.shares[0].nfs.push(meant);
        assert_eq!(scene.messages_of(&RULE), "");
        for clients in ["*", "millrace"] {
            let part = Part::Export { share: "media".into(), clients: clients.into() };
            scene.layout.adopted.parts.insert(part, spot.clone());
        }
        assert_eq!(scene.messages_of(&RULE), told);
    }
}
