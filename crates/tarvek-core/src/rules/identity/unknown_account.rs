//! `identity/unknown-account`.

use std::collections::BTreeSet;

use crate::kernel::subject::NOBODY;
use crate::layout::service::Service;
use crate::rules::identity::{of_service, ways};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::part::Part;
use crate::words::remedy::{Command, Remedy, Step};
use crate::words::rule::{Rule, Severity};
use crate::words::text::{counted, nearest};
use crate::words::value::Value;

/// A name that a service's host, or a number that the storage host has no account for.
pub static RULE: Rule = Rule {
    id: "identity/unknown-account",
    severity: Severity::Risk,
    title: "A service has no account where it runs, or where its files are",
    means: "A service is declared to run as an account that its host does not have; then nobody \
            can tell what it may do, and that is a blocker. Or the uid under which it arrives at \
            the files belongs to no account of the host that holds them, which is a risk.",
    hurts: "A service that can't start as its account, or starts as somebody else, reads nothing \
            or too much. Where only the number is nobody's, access works, but nobody sees who \
            owns what the service makes, and the number may be given to somebody else one day.",
    fix: "Write the name as the host has it, or the numbers (a name that only an image has says \
          nothing to the host); or make the account. `tarvek emit accounts` writes the command.",
    example: "lantern runs as lantrn, and millrace has no such account; or it runs as 840, and \
              granary has no uid 840.",
};

/// Judges who each service is, and where it arrives, each host once.
pub fn find(site: &Site, _: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for service in &site.layout.services {
        findings.extend(site.missing_account(service).map(|name| unresolved(site, service, name)));
        let mut told: Vec<Name> = Vec::new();
        for route in ways(site, service) {
            let Some(last) = route.trail.last() else { continue };
            let (host, arrived) = (&last.at.host, &last.subject);
            let mut accounts = site.accounts(host).peekable();
            // Where no account is known at all, nothing can be missed.
            let known = accounts.peek().is_none() || accounts.any(|a| a.uid == arrived.uid);
            let nobody = matches!(arrived.uid, 0 | NOBODY) || arrived.doubt.is_some();
            if known || nobody || told.contains(host) {
                continue;
            }
            told.push(host.clone());
            let (name, uid) = (&service.name, arrived.uid);
            let message = format!("{name} arrives on {host} as uid {uid}, which is nobody's there");
            let finding = of_service(site, &RULE, service).on(host).says(message);
            let namesake = site.accounts(host).find(|account| account.name == *name);
            findings.push(match namesake {
                // A second account would be a second identity.
                Some(namesake) => finding.remedy(format!(
                    "{host} has an account {name} with uid {}: run {name} as that number, or give \
                     the account uid {uid} and what it owns",
                    namesake.uid
                )),
                None => finding.remedy(new_account(site, host, name, uid, arrived.gid)),
            });
        }
    }
    findings
}

/// A service whose account its host does not have: whatever it uses can't be judged.
fn unresolved(site: &Site, service: &Service, account: &Name) -> Finding {
    let (host, own) = (&service.host, &service.name);
    let known: BTreeSet<&Name> = site.accounts(host).map(|account| &account.name).collect();
    let is_seen = site.facts(host).is_some();
    let looked_at = match (is_seen, known.len()) {
        (true, count) => {
            format!("{host} was surveyed and has {}", counted(count as u64, "account"))
        }
        (false, 0) => format!("{host} has not been surveyed, and the layout declares none there"),
        (false, count) => {
            let count = counted(count as u64, "account");
            format!("{host} has not been surveyed; the layout declares {count} there")
        }
    };
    let message =
        format!("{own} runs as {account}, and no account {account} is known: {looked_at}");
    let set = |name: &Name| {
        let part = Part::Service(own.clone());
        site.layout.set(part, "runs_as", Value::from(name.raw()))
    };
    let by_hand = format!(
        "declare the account {account} on {host} with its uid, or give {own} numbers: \
         runs_as = \"UID:GID\""
    );
    let by_hand = Remedy::of(vec![Step::words(by_hand)]);
    // Nobody is made root by a guess.
    let root = |name: &&Name| site.account(host, name).is_some_and(|account| account.uid == 0);
    let near = known.iter().filter(|name| !root(name)).map(|name| name.raw());
    let near = nearest(account.raw(), near).map(Name::from);
    let remedy = near.map_or(by_hand, |near| Remedy::of(vec![set(&near)]));
    of_service(site, &RULE, service)
        .weighs(Severity::Blocker)
        .known(if is_seen { Evidence::Observed } else { Evidence::Declared })
        .says(message)
        .remedy(remedy)
}

/// Under the service's name, or the next one that nobody has there; the group only if there is none
/// of that number.
fn new_account(site: &Site, host: &Name, name: &Name, uid: u32, gid: u32) -> Remedy {
    let taken = |name: &Name| {
        let mut groups = site.groups(host).filter(|group| group.gid != gid);
        site.account(host, name).is_some() || groups.any(|group| group.name == *name)
    };
    let mut names = (1..)
        .map(|n| if n == 1 { name.clone() } else { format!("{}{n}", name.raw()).as_str().into() });
    let name = names.find(|name| !taken(name)).unwrap_or_default();
    let group = Command::new("groupadd -g").arg(gid.to_string()).arg(name.raw());
    let user = Command::new("useradd -r -u").arg(uid.to_string()).arg("-g").arg(gid.to_string());
    let user = user.arg("-M").arg("-s").arg("/usr/sbin/nologin").arg(name.raw());
    let known = site.groups(host).any(|group| group.gid == gid);
    let group = (!known).then(|| Step::run(host, group));
    let mut steps: Vec<Step> = group.into_iter().chain([Step::run(host, user)]).collect();
    if site.layout.host(host).is_some_and(|host| !host.accounts.is_empty()) {
        let part = Part::Account { host: host.clone(), name };
        steps.push(site.layout.set(part, "", Value::table([("uid", uid.into())])));
    }
    Remedy::of(steps)
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::check::board::{State, Subject};
    use crate::check::report::check;
    use crate::layout::service::RunAs;
    use crate::rules::promise::{Promise, over};
    use crate::tests::{Scene, account};
    use crate::words::about::Affected;
    use crate::words::finding::Finding;
    use crate::words::rule::Severity;
    use crate::words::terms::Protocol;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            over(Protocol::Nfs, |scene| {
                scene.service("lantern").runs_as = RunAs::Numbers(900, Some(901))
            })
        },
        by_hand: |scene| scene.service("lantern").runs_as = RunAs::Numbers(840, Some(840)),
    };

    #[test]
    fn a_number_without_an_account_is_nobodys() {
        let mut scene = Scene::over(Protocol::Nfs);
        assert_eq!(scene.messages_of(&RULE), "");
        scene.service("lantern").runs_as = RunAs::Numbers(900, Some(901));
        let told = "lantern arrives on granary as uid 900, which is nobody's there → granary has \
                    an account lantern with uid 840: run lantern as that number, or give the \
                    account uid 900 and what it owns";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.facts("granary").accounts.retain(|account| account.name != *"lantern");
        scene.host("granary").accounts.retain(|account| account.name != *"lantern");
        let told = "lantern arrives on granary as uid 900, which is nobody's there → on granary: \
                    useradd -r -u 900 -g 901 -M -s /usr/sbin/nologin lantern; in the layout: set \
                    account lantern of granary to { uid = 900 }";
        assert_eq!(scene.messages_of(&RULE).replace("groupadd -g 901 lantern; ", ""), told);
        scene.facts("granary").accounts.clear();
        scene.host("granary").accounts.clear();
        assert_eq!(scene.messages_of(&RULE), "", "nobody knows who has an account there");
    }

    #[test]
    fn nobody_is_taken_for_root_because_a_name_is_misspelt() {
        let mut scene = Scene::local().with_intake();
        scene.facts("granary").accounts.push(account("toor", 0, &[]));
        for (name, remedy) in [
            ("lantrn", "set runs_as = \"lantern\" for service lantern"),
            ("x", ""),
            ("tor", "declare"),
            ("rot", "declare"),
        ] {
            scene.service("lantern").runs_as = RunAs::Account(name.into());
            let report = check(&scene.site());
            let row = &report.board[0];
            assert!(!row.ready && row.stages.readable == State::Unknown, "{row:?}");
            assert_eq!(row.stages.exists, State::Ok);
            let findings = report.findings.iter().filter(|f| f.rule == &RULE);
            let [finding] = findings.collect::<Vec<_>>()[..] else { panic!("{name}") };
            assert_eq!(finding.severity, Severity::Blocker);
            assert!(finding.affects.contains(&Affected::Library("Films".into())));
            assert!(finding.remedy.to_string().contains(remedy), "{}", finding.remedy);
        }
        // A link and a filing depend on who does it as well.
        scene.service("lantern").runs_as = RunAs::Numbers(840, Some(840));
        scene.service("joiner").runs_as = RunAs::Account("joyner".into());
        let report = check(&scene.site());
        let intake = report.board.iter().find(|row| row.of == Subject::Intake).unwrap();
        assert!(!intake.ready, "{intake:?}");
        let affects =
            |finding: &Finding| finding.affects.contains(&Affected::Intake("films".into()));
        assert!(report.findings.iter().any(|f| f.rule == &RULE && affects(f)));
        // Root is root wherever one looks.
        scene.service("joiner").runs_as = RunAs::Account("root".into());
        scene.facts("granary").accounts.clear();
        scene.host("granary").accounts.clear();
        assert_eq!(scene.messages_of(&RULE), "");
    }
}
