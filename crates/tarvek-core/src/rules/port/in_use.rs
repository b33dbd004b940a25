//! `port/in-use`.

use crate::rules::port::taken_twice::{Port, another};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::about::About;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::remedy::Step;
use crate::words::rule::{Rule, Severity};

/// A port that something else has.
pub static RULE: Rule = Rule {
    id: "port/in-use",
    severity: Severity::Blocker,
    title: "Something else listens at a published port",
    means: "A service publishes a port at which another program of its host listens.",
    hurts: "The service can't start, or takes the place of what was there.",
    fix: "Give the service another port, or stop the other program.",
    example: "lantern publishes 80; nginx of the host listens there.",
};

/// Programs that listen in the place of containers.
const ENGINES: [&str; 6] =
    ["docker-proxy", "rootlessport", "conmon", "slirp4netns", "pasta", "netavark"];

/// Judges every published port of a host whose listening ports were seen.
pub fn find(site: &Site, _: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for service in &site.layout.services {
        let Some(facts) = site.facts(&service.host) else { continue };
        for (written, port) in
            service.ports.iter().filter_map(|written| Some((written, Port::of(written)?)))
        {
            let other = facts.told.listening.iter().find(|seen| {
                let same = Port {
                    address: seen.address.clone(),
                    numbers: (seen.number, seen.number),
                    protocol: seen.protocol.clone(),
                };
                port.meets(&same)
                    && seen.program.as_ref().is_some_and(|program| {
                        // The service itself, and what its engine puts before it, may well be
                        // there.
                        !ENGINES.contains(&program.raw()) && *program != service.name
                    })
            });
            let Some(program) = other.and_then(|seen| seen.program.as_ref()) else { continue };
            let message = format!(
                "{} publishes {}/{}, at which {program} of {} listens",
                service.name,
                port.text(),
                port.protocol,
                service.host
            );
            let steps = vec![
                another(site, service, written, &port),
                Step::on(
                    &service.host,
                    format!(
                        "recreate {}'s container with that port; or stop {program}",
                        service.name
                    ),
                ),
            ];
            findings.push(
                RULE.finding(About::Service(service.name.clone()))
                    .on(&service.host)
                    .line(service.origin.line)
                    .known(Evidence::Observed)
                    .says(message)
                    .remedy(steps),
            );
        }
    }
    findings
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::facts::host_report::Listening;
    use crate::rules::promise::{Promise, local};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            local(|scene| {
                scene.service("lantern").ports = vec!["7080".into()];
                scene.facts("granary").told.listening = vec![Listening {
                    protocol: "tcp".into(),
                    address: None,
                    number: 7080,
                    program: Some("weaver".into()),
                }];
            })
        },
        by_hand: |scene| scene.service("lantern").ports = vec!["7081".into()],
    };

    #[test]
    fn a_port_that_somebody_has_is_not_free() {
        let mut scene = Scene::local();
        scene.service("lantern").ports = vec!["7080:80".into()];
        let mut by = |program: Option<&str>, address: Option<&str>| {
            scene.facts("granary").told.listening = vec![Listening {
                protocol: "tcp".into(),
                address: address.map(str::to_owned),
                number: 7080,
                program: program.map(Into::into),
            }];
            scene.messages_of(&RULE)
        };
        for (program, address) in
            [(None, None), (Some("docker-proxy"), None), (Some("lantern"), None)]
        {
            assert_eq!(by(program, address), "", "{program:?}");
        }
        let told = "lantern publishes 7080/tcp, at which weaver of granary listens → in the layout \
                    line 5: change port 7080:80 of lantern to 7081:80; on granary: recreate \
                    lantern's container with that port; or stop weaver";
        assert_eq!(by(Some("weaver"), None), told);
        assert_eq!(by(Some("weaver"), Some("127.0.0.1")), told);
    }
}
