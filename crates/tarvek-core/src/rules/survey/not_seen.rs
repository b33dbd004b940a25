//! `survey/not-seen`.

use crate::judge::access_check::judge;
use crate::link::intake::{Does, Stage, Way, Ways, ways};
use crate::route::end::End;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::about::{About, Affected};
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::place::Place;
use crate::words::remedy::{Command, Step};
use crate::words::rule::{Rule, Severity};
use crate::words::text::counted;

/// Folders that could not be looked into.
pub static RULE: Rule = Rule {
    id: "survey/not-seen",
    severity: Severity::Risk,
    title: "Part of a site could not be looked into",
    means: "Whoever made the survey was refused by some folders, or they vanished while it ran. \
            What they hold is not part of any verdict. Or what decides whether an intake links \
            its downloads was not seen.",
    hurts: "The library may be less complete than it looks, and the intake may copy.",
    fix: "Survey again as root, or as an account that can read everything; let the link be tried.",
    example: "The survey ran as an ordinary user, and mira's folder has mode 0700.",
};

/// Judges every intake: what filing does with its downloads.
pub fn find_in_site(site: &Site, _: &[UsedPath]) -> Vec<Finding> {
    let told = |ways: Ways| {
        // Where the folders themselves are not reached, that is told.
        let is_reached = |way: &Way| {
            let route = &way.route;
            route.complete() && route.entry().is_some() && route.doubt().is_none()
        };
        if ![&ways.reads, &ways.files_into].into_iter().flatten().all(is_reached) {
            return None;
        }
        let steps = ways.steps(site);
        let file = steps.iter().find(|step| step.stage == Stage::File)?;
        let (intake, service) = (&ways.intake.name, &file.service);
        let message = format!(
            "whether {service} links downloads of {intake} or copies them is not known: {}",
            file.link.detail
        );
        let proof = Command::new("tarvek link").arg(file.from.to_string()).arg(file.to.to_string());
        let proof = proof.arg("--from").arg(format!("service:{}", service.raw())).arg("--prove");
        let about = About::Intake { service: service.clone(), intake: intake.clone() };
        let finding = RULE.finding(about).line(ways.intake.origin.line);
        let finding = finding.affects([Affected::Intake(intake.clone())]).says(message);
        (file.does == Does::Unknown).then(|| {
            let host = site.layout.service(service).map(|service| &service.host);
            let steps: Vec<Step> =
                host.map(|host| Step::on(host, proof.to_string())).into_iter().collect();
            finding.known(Evidence::Declared).remedy(steps)
        })
    };
    ways(site).filter_map(told).collect()
}

/// Judges one root.
pub fn find(site: &Site, case: &UsedPath) -> Vec<Finding> {
    let Some(route) = &case.route else { return Vec::new() };
    let here = route.here();
    // Who asks is another rule's.
    let is_somebody = route.doubt().is_none() && route.subject.otherwise().is_none();
    let answer = judge(site, route, case.need());
    if route.entry().is_some() && is_somebody && answer.allowed().is_none() {
        let (service, root) = (case.service, &case.root.written);
        let message = format!(
            "whether {} can {} {root} is not known: {}",
            service.name,
            case.need().to(),
            answer.reason()
        );
        let proof = Command::new("tarvek access").arg(root.raw());
        let proof = proof.arg("--from").arg(format!("service:{}", service.name.raw()));
        let proof = proof.arg("--need").arg(case.need().word()).arg("--prove").to_string();
        let finding = case.finding(&RULE).at(&answer.decided_at).known(Evidence::Observed);
        return vec![finding.says(message).remedy(vec![Step::on(&service.host, proof)])];
    }
    let (message, example) = match (&route.end, &case.scan) {
        (end @ End::Unseen { at, why }, _) => {
            let message = match why {
                Some(_) => end.words(),
                None => format!("{} could not be seen: the survey did not go there", at.on()),
            };
            (message, at.path.clone())
        }
        (_, Some(scan)) if scan.unseen > 0 => {
            let example = scan.unseen_examples.first().unwrap_or(&here.path).clone();
            let count = counted(scan.unseen, "folder");
            let asked = &route.asked;
            (format!("{count} below {asked} could not be looked into, such as {example}"), example)
        }
        _ => return Vec::new(),
    };
    let host = &here.host;
    let by = site.facts(host).and_then(|facts| facts.taken_by).filter(|uid| *uid != 0);
    let by = by.map(|uid| format!(" (it was made as uid {uid})")).unwrap_or_default();
    // What lies behind a server that nobody knows is seen from nowhere.
    let is_foreign = route.levels.iter().any(|level| level.foreign.is_some());
    let remedy = match &route.end {
        End::Unseen { why: None, .. } => {
            format!("look at {host} again, with {example} among the roots")
        }
        End::Unseen { .. } if is_foreign => {
            "say in the layout which host that server is, or declare it".to_owned()
        }
        // Where root has looked already, root would see no more.
        _ if site.facts(host).is_some_and(|facts| facts.taken_by == Some(0)) => {
            format!("clear what is said there, and look at {host} again")
        }
        _ => format!("look at {host} again as root"),
    };
    let finding = case.finding(&RULE).at(&Place::new(host, example)).known(Evidence::Observed);
    vec![finding.says(message + &by).remedy(remedy)]
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::facts::host::Gap;
    use crate::rules::promise::{Promise, done, local};
    use crate::tests::{Scene, abs, mounts};

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            local(|scene| done(scene.unread("granary", "/loft/media/films/Low Water (2003)")))
        },
        by_hand: |scene| done(scene.read("granary")),
    };

    #[test]
    fn what_nobody_looked_into_is_told_with_who_should() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.unread("granary", "/loft/media/films/Low Water (2003)");
        let told = "1 folder below /media/films could not be looked into, such as \
                    /loft/media/films/Low Water (2003) → look at granary \
                    again as root";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.facts("granary").taken_by = Some(1101);
        assert!(scene.messages_of(&RULE).contains("Low Water (2003) (it was made as uid 1101) →"));
    }

    #[test]
    fn what_only_a_try_can_tell_is_to_be_tried() {
        let mut scene = Scene::local();
        scene.facts("granary").mounts = Some(mounts(
            "1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 0:4 / /loft/media fuse.pool pool rw,allow_other",
        ));
        let told = scene.messages_of(&RULE);
        assert!(
            told.starts_with(
                "whether lantern can read /media/films is not known: the FUSE mount at /loft/media \
                 has no default_permissions"
            ) && told.ends_with(
                "→ on granary: tarvek access /media/films --from service:lantern --need read --prove"
            ),
            "{told}"
        );
    }

    #[test]
    fn a_root_that_the_survey_left_out_is_named() {
        let mut scene = Scene::local();
        scene.unread("granary", "/loft/media").without("granary", "/loft/media/films");
        let told = "/loft/media/films on granary could not be seen: the survey did not go there → \
                    look at granary again, with \
                    /loft/media/films among the roots";
        assert_eq!(scene.messages_of(&RULE), told);
        let why = "permission denied (EACCES)".to_owned();
        scene.facts("granary").gaps.push(Gap { path: abs("/loft/media"), why: why.into() });
        let told = "/loft/media/films on granary could not be seen: permission denied (EACCES) → \
                    look at granary again as root";
        assert_eq!(scene.messages_of(&RULE), told);
    }
}
