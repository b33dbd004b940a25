//! `identity/too-many-groups`.

use crate::judge::access_check::judge;
use crate::judge::verdict::{Answer, Refusal};
use crate::kernel::decide::decide;
use crate::kernel::subject::Subject;
use crate::route::hops::{Hop, HopKind, Route};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::remedy::{Step, add_to_group};
use crate::words::rule::{Rule, Severity};

/// Groups that are lost on the way.
pub static RULE: Rule = Rule {
    id: "identity/too-many-groups",
    severity: Severity::Risk,
    title: "Access depends on a group that does not travel",
    means: "An AUTH_SYS credential carries 16 groups besides the primary one. The account has \
            more, and the one that would let it \
            in is among those that are left behind.",
    hurts: "Access fails over NFS although it works on the storage host.",
    fix: "Let the server look the groups up itself (manage-gids in nfs.conf), or take the account \
          out of groups it does not need.",
    example: "archivist is in 23 groups; keepers has the highest number of them.",
};

/// Judges one root.
pub fn find(site: &Site, case: &UsedPath) -> Vec<Finding> {
    let Some(route) = &case.route else { return Vec::new() };
    let answer = judge(site, route, case.need());
    let Some(lost) = lost_group(site, route, &answer) else { return Vec::new() };
    let message = format!(
        "{} has {} further groups, and gid {lost}, which would let it {} {}, does not travel",
        case.service.name,
        route.subject.groups.len(),
        case.need().to(),
        route.asked
    );
    let server = &answer.decided_at.host;
    let remedy =
        "manage-gids=y in the [mountd] section of nfs.conf, and declare manage_gids = true";
    let mut steps = vec![Step::on(server, remedy)];
    // The server then asks its own account database, which may not know the membership.
    let arrived = route.arrived().uid;
    let account = site.account_numbered(server, arrived);
    let member = account.is_some_and(|account| {
        let login = site.login(server, account);
        login.gid == lost || login.groups.contains(&lost)
    });
    if !member {
        let group = site.group_text(server, lost);
        steps.push(match account {
            Some(account) => add_to_group(server, &group, &account.name),
            None => {
                let words =
                    format!("make an account with uid {arrived} there, in the group {group}");
                Step::on(server, words)
            }
        });
    }
    let finding = case.finding_at_end(&RULE, route).line(case.service.origin.line);
    vec![finding.says(message).remedy(steps)]
}

/// The group that was left behind and would grant what was refused.
fn lost_group(site: &Site, route: &Route, answer: &Answer) -> Option<u32> {
    let Refusal::Permission { of, subject, want } = answer.refusal()? else { return None };
    // Where the server looks groups up, it is its own lists that count.
    let looks_up = |hop: &Hop| site.layout.host(&hop.to.host).is_some_and(|host| host.manage_gids);
    let cut = |hop: &&Hop| hop.kind == HopKind::Mount && hop.changed_by.is_some() && !looks_up(hop);
    route.hops.iter().find(cut)?;
    let object = site.object(&of.host, of.node)?;
    let lost = route.subject.groups.iter().filter(|gid| !subject.is_in(**gid));
    lost.copied().find(|gid| {
        let groups = subject.groups.iter().copied().chain([*gid]);
        let with = Subject { groups: groups.collect(), ..subject.clone() };
        decide(&object, &with, *want).allowed
    })
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::layout::service::GroupRef;
    use crate::rules::promise::{Promise, over};
    use crate::tests::Scene;
    use crate::words::terms::Protocol;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            over(Protocol::Nfs, |scene| {
                scene.tree("granary", "d 0750 1101:2100 /loft/media/films");
                scene.service("lantern").groups =
                    (1..17).chain([2100]).map(GroupRef::Gid).collect();
            })
        },
        by_hand: |scene| scene.host("granary").manage_gids = true,
    };

    #[test]
    fn a_group_that_does_not_travel_is_named_if_it_decides() {
        let mut scene = Scene::over(Protocol::Nfs);
        scene.tree("granary", "d 0750 1101:2100 /loft/media/films");
        let groups = |count: u32| (1..count).chain([2100]).map(GroupRef::Gid).collect();
        scene.service("lantern").groups = groups(16);
        assert_eq!(scene.messages_of(&RULE), "");
        scene.service("lantern").groups = groups(17);
        let told = "lantern has 17 further groups, and gid 2100, which would let it read \
                    /media/films, does not travel → on granary: \
                    manage-gids=y in the [mountd] section of nfs.conf, and declare manage_gids = \
                    true; usermod -a -G keepers lantern";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.host("granary").manage_gids = true;
        assert_eq!(scene.messages_of(&RULE), "");
        scene.host("granary").manage_gids = false;
        scene.tree("granary", "d 0700 1101:2100 /loft/media/films");
        assert_eq!(scene.messages_of(&RULE), "", "the group would not let it in");
    }
}
