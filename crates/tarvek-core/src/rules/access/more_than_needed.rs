//! `access/more-than-needed`.

use crate::judge::access_check::judge;
use crate::judge::verdict::Need;
use crate::remedy::apply_on_host::{recreate_container, run_as_account};
use crate::route::follow;
use crate::route::hops::Route;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::part::Part;
use crate::words::remedy::{Remedy, Step};
use crate::words::rule::{Rule, Severity};
use crate::words::terms::Access;
use crate::words::text::counted;

/// A serving account that can write.
pub static RULE: Rule = Rule {
    id: "access/more-than-needed",
    severity: Severity::Risk,
    title: "A serving account can write to a library that it only reads",
    means: "The service only serves, and yet its account could add to the library, change it or \
            remove from it.",
    hurts: "A fault or a break-in in the program that faces the network can then delete or encrypt \
            the collection.",
    fix: "Make the mapping read-only; or mount the share read-only; or take the write permission \
          from the account.",
    example: "The container runs as root and its mapping has no access = \"ro\".",
};

/// Judges one root, by whatever path the service has to it.
pub fn find(site: &Site, case: &UsedPath) -> Vec<Finding> {
    let (Some(route), Some(scan)) = (&case.route, &case.scan) else { return Vec::new() };
    if !case.service.only_serves() || case.usable(site) == Some(false) {
        return Vec::new();
    }
    let add = judge(site, route, Need::Add);
    let (service, subject) = (&case.service.name, &case.subject);
    let finding = case.finding(&RULE).line(case.service.origin.line);
    let told = |what: String| format!("{service} ({subject}) only serves, but could {what}");
    let what = match (add.is_allowed(), scan.writable) {
        (false, 0) => {
            let other = other_ways(site, case, route).into_iter().find_map(|way| {
                let add = judge(site, &way, Need::Add);
                add.is_allowed().then_some((way, add))
            });
            let Some((way, add)) = other else { return Vec::new() };
            let what = format!("add to {} as {} ({})", route.asked, way.asked, add.reason());
            let finding = finding.at(&add.decided_at).known(add.evidence).says(told(what));
            return vec![finding.remedy(remedy(site, case, &way))];
        }
        (true, _) => format!("add to {} ({})", route.asked, add.reason()),
        (false, count) => format!("change {} below {}", counted(count, "entry"), route.asked),
    };
    let finding = finding.at(&add.decided_at).known(add.evidence).says(told(what));
    vec![finding.remedy(remedy(site, case, route))]
}

/// Other ways of the service to the end of one: through mappings of the same folder, or of one above
/// it.
fn other_ways(site: &Site, case: &UsedPath, route: &Route) -> Vec<Route> {
    let end = route.here();
    let maps = case.service.maps().iter().enumerate();
    let others = maps.filter(|(nth, _)| Some(*nth) != route.mapping);
    let ways = others.filter_map(|(_, map)| {
        let top = follow(site, &route.view, map.to.path.as_ref().ok()?, &case.subject);
        let here = top.here();
        let rest = end.path.below(&here.path).filter(|_| here.host == end.host)?;
        let way = follow(site, &route.view, &top.asked.join(rest), &case.subject);
        (way.here() == end).then_some(way)
    });
    ways.collect()
}

/// A read-only mapping, where that is enough.
fn remedy(site: &Site, case: &UsedPath, route: &Route) -> Remedy {
    let service = case.service;
    let mapping = route.mapping.and_then(|index| Some((index, service.maps().get(index)?)));
    let closed = mapping.filter(|(index, _)| {
        let mut after = site.clone();
        after.is_trial = true;
        let same = after.layout.services.iter_mut().find(|other| other.name == service.name);
        if let Some(map) = same.and_then(|same| same.map.as_mut()?.get_mut(*index)) {
            map.access = Access::ReadOnly;
        }
        !site.is_trial && case.again(&after).is_some_and(|again| find(&after, &again).is_empty())
    });
    let Some((_, mapping)) = closed else {
        let words = format!(
            "in the layout, run {} under an account that can only read (runs_as)",
            service.name
        );
        return Remedy::of(vec![Step::words(words), run_as_account(service)]);
    };
    let part = Part::mapping(&service.name, &mapping.to.written);
    let edit = site.layout.set(part, "access", Access::ReadOnly.word());
    Remedy {
        steps: vec![edit, recreate_container(service)],
        effects: vec![format!(
            "{} can then write nothing below {}",
            service.name, mapping.to.written
        )],
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::layout::service::ServiceRole;
    use crate::rules::promise::{Promise, local};
    use crate::tests::{Scene, mapping};
    use crate::words::terms::Access;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            local(|scene| {
                scene.tree("granary", "d 2775 840:2100 /loft/media/films");
                scene.service("lantern").map.as_mut().unwrap()[0].access = Access::ReadWrite;
            })
        },
        by_hand: |scene| {
            scene.service("lantern").map.as_mut().unwrap()[0].access = Access::ReadOnly
        },
    };

    #[test]
    fn a_server_that_could_write_is_told_how() {
        let mut scene = Scene::local();
        scene.tree("granary", "d 0777 0:0 /loft/media/films");
        assert_eq!(scene.messages_of(&RULE), "", "its mapping is read-only");
        scene.service("lantern").map.as_mut().unwrap()[0].access = Access::ReadWrite;
        let told = "lantern (840:840) only serves, but could add to /media/films (other::rwx) → in \
                    the layout line 7: set access = \"ro\" for lantern's mapping to /media; on \
                    granary: recreate lantern's container with this mapping";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.tree("granary", "d 0755 0:0 /loft/media/films\nf 0666 0:0 /loft/media/films/list");
        assert!(scene.messages_of(&RULE).contains("could change 1 entry below /media/films"));
        let whole = mapping("/loft", "/all", Access::ReadWrite);
        scene.tree("granary", "d 0777 0:0 /loft/media/films");
        scene.service("lantern").map.as_mut().unwrap()[0].access = Access::ReadOnly;
        assert_eq!(scene.messages_of(&RULE), "");
        scene.service("lantern").map.as_mut().unwrap().push(whole);
        let told = "lantern (840:840) only serves, but could add to /media/films as \
                    /all/media/films (other::rwx) → in the layout line 7: set access = \"ro\" for \
                    lantern's mapping to /all";
        assert!(scene.messages_of(&RULE).starts_with(told), "{}", scene.messages_of(&RULE));
        scene.service("lantern").roles.push(ServiceRole::Sort);
        assert_eq!(scene.messages_of(&RULE), "", "who sorts has to write");
    }
}
