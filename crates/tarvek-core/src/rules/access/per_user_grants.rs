//! `access/per-user-grants`.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use crate::kernel::acl::{Tag, perm_text};
use crate::kernel::object::Object;
use crate::rules::access::trees::{AlikeEntries, media, on_host};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::remedy::{Command, Step};
use crate::words::rule::{Rule, Severity};
use crate::words::text::counted;

/// A grant per person.
pub static RULE: Rule = Rule {
    id: "access/per-user-grants",
    severity: Severity::Note,
    title: "Several people are granted one by one",
    means: "An ACL names three or more users with the same permissions.",
    hurts: "Whoever comes or goes has to be added or taken away on every folder, and is forgotten \
            on some.",
    fix: "Make a group of them, grant the group, and take the single entries away.",
    example: "user:mira:rwx, user:oskar:rwx and user:ines:rwx on /loft/media.",
};

/// How many people have to be granted the same, so that a group would be better.
const MANY: usize = 3;

/// Judges the media of every host.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    // Services are no people, and each has a grant of its own for good reason.
    let services: BTreeSet<u32> =
        site.layout.services.iter().map(|service| site.subject_of(service).0.uid).collect();
    let mut findings = Vec::new();
    for (host, _) in site.observed() {
        for ((perm, users), some) in grants(site, host, cases) {
            let people = users.iter().filter(|uid| !services.contains(uid));
            let names: Vec<String> = people.map(|uid| site.user_text(host, *uid)).collect();
            if names.len() >= MANY {
                findings.extend(describe_grants(site, host, perm, &names, &some));
            }
        }
    }
    findings
}

/// Which permission is granted to which users by name, wherever it is at least that many.
fn grants(site: &Site, host: &Name, cases: &[UsedPath]) -> BTreeMap<(u8, Vec<u32>), AlikeEntries> {
    let mut grants: BTreeMap<(u8, Vec<u32>), AlikeEntries> = BTreeMap::new();
    let granted = |object: &Object| {
        let mut users: BTreeMap<u8, Vec<u32>> = BTreeMap::new();
        for entry in object.acl.as_ref()?.entries() {
            if let Tag::User(uid) = entry.tag {
                users.entry(entry.perm).or_default().push(uid);
            }
        }
        users.retain(|_, users| users.len() >= MANY);
        (!users.is_empty()).then(|| Arc::new(users))
    };
    media(site, host, cases, granted, |top, node, users| {
        for (perm, users) in users.iter() {
            grants.entry((*perm, users.clone())).or_default().add(top, node);
        }
    });
    grants
}

fn describe_grants(
    site: &Site,
    host: &Name,
    perm: u8,
    names: &[String],
    some: &AlikeEntries,
) -> Option<Finding> {
    let example = some.example(site, host)?;
    let perm = perm_text(perm);
    let message = format!(
        "{} on {host}, such as {}, grant {perm} to {} one by one",
        counted(some.count, "entry"),
        example.path,
        names.join(", ")
    );
    let without: Vec<String> = names.iter().map(|name| format!("u:{name}")).collect();
    let (named, all) = some.named(site, host);
    let change = Command::new("setfacl -m").arg(format!("g:GROUP:{perm}"));
    let change = change.arg("-x").arg(without.join(","));
    let change = named.iter().fold(change, |change, path| change.arg(path));
    let others = if all { "" } else { ", and the same for the others that have these entries" };
    let words = format!("put them into one group, then {change}{others}");
    Some(on_host(&RULE, &example).says(message).remedy(Step::on(host, words)))
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::kernel::acl::{Acl, AclEntry, Tag};
    use crate::rules::promise::{Promise, local};
    use crate::tests::{Scene, account, group};

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            local(|scene| {
                let people = [account("oskar", 1102, &[]), account("ines", 1103, &[])];
                scene.facts("granary").accounts.extend(people);
                let base = [(Tag::UserObj, 7), (Tag::GroupObj, 5), (Tag::Mask, 7), (Tag::Other, 5)];
                let users = [1101, 1102, 1103].map(|uid| (Tag::User(uid), 7));
                let all = base.into_iter().chain(users).map(|(tag, perm)| AclEntry { tag, perm });
                scene.acl("granary", "/loft/media/films", Acl::new(all.collect()));
            })
        },
        by_hand: |scene| {
            let facts = scene.facts("granary");
            facts.groups.push(group("club", 3000));
            facts.accounts.retain(|account| {
                !["mira", "oskar", "ines"].iter().any(|name| account.name == **name)
            });
            let people = [("mira", 1101), ("oskar", 1102), ("ines", 1103)];
            facts
                .accounts
                .extend(people.map(|(name, uid)| account(name, uid, &["keepers", "club"])));
            let base = [
                (Tag::UserObj, 7),
                (Tag::GroupObj, 5),
                (Tag::Group(3000), 7),
                (Tag::Mask, 7),
                (Tag::Other, 5),
            ];
            let all = base.into_iter().map(|(tag, perm)| AclEntry { tag, perm });
            scene.acl("granary", "/loft/media/films", Acl::new(all.collect()));
        },
    };

    #[test]
    fn three_people_with_one_right_are_a_group() {
        let mut scene = Scene::local();
        scene
            .facts("granary")
            .accounts
            .extend([account("oskar", 1102, &[]), account("ines", 1103, &[])]);
        let acl = |uids: &[u32]| {
            let base = [(Tag::UserObj, 7), (Tag::GroupObj, 5), (Tag::Mask, 7), (Tag::Other, 5)];
            let users = uids.iter().map(|uid| (Tag::User(*uid), 7));
            Acl::new(
                base.into_iter().chain(users).map(|(tag, perm)| AclEntry { tag, perm }).collect(),
            )
        };
        scene.acl("granary", "/loft/media/films", acl(&[1101, 1102, 840]));
        assert_eq!(scene.messages_of(&RULE), "", "a service is no person");
        scene.acl("granary", "/loft/media/films", acl(&[1101, 1102, 1103]));
        let told = "1 entry on granary, such as /loft/media/films, grant rwx to mira, oskar, ines \
                    one by one → on granary: put them into \
                    one group, then setfacl -m g:GROUP:rwx -x u:mira,u:oskar,u:ines \
                    /loft/media/films";
        assert_eq!(scene.messages_of(&RULE), told);
    }
}
