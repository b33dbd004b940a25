//! `access/orphaned-owner`.

use std::collections::{BTreeMap, BTreeSet};

use crate::kernel::object::Object;
use crate::rules::access::trees::{AlikeEntries, media, on_host};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::remedy::{Command, Step};
use crate::words::rule::{Rule, Severity};
use crate::words::text::counted;

/// Owners without an account.
pub static RULE: Rule = Rule {
    id: "access/orphaned-owner",
    severity: Severity::Note,
    title: "Files belong to numbers without an account",
    means: "Entries of a media share are owned by uids that the host has no account for.",
    hurts: "Nobody knows whose they are; an account that gets the number one day owns them.",
    fix: "Give them to an account (chown -R), or make the account that is missing.",
    example: "140 files are owned by 1004, an account that was deleted.",
};

/// How many numbers are told one by one.
const TOLD: usize = 8;

/// Judges the media of every host of which accounts are known.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    site.observed().filter_map(|(host, _)| judge_host(site, host, cases)).collect()
}

fn judge_host(site: &Site, host: &Name, cases: &[UsedPath]) -> Option<Finding> {
    let accounts: BTreeSet<u32> = site.accounts(host).map(|account| account.uid).collect();
    let mut orphans: BTreeMap<u32, AlikeEntries> = BTreeMap::new();
    if accounts.is_empty() {
        return None;
    }
    let orphan = |object: &Object| {
        let uid = object.meta.uid;
        (uid != 0 && !accounts.contains(&uid)).then_some(uid)
    };
    media(site, host, cases, orphan, |top, node, uid| {
        orphans.entry(uid).or_default().add(top, node);
    });
    let examples =
        orphans.iter().filter_map(|(uid, some)| Some((uid, some, some.example(site, host)?)));
    let mut each: Vec<String> = examples
        .clone()
        .take(TOLD)
        .map(|(uid, some, at)| {
            format!("{} by {uid}, such as {}", counted(some.count, "entry"), at.path)
        })
        .collect();
    let (.., example) = examples.into_iter().next()?;
    let more = orphans.len().saturating_sub(TOLD) as u64;
    if more > 0 {
        let entries = orphans.values().skip(TOLD).map(|some| some.count).sum();
        each.push(format!("{} by {}", counted(entries, "entry"), counted(more, "further number")));
    }
    let message = format!("owned on {host} by numbers without an account: {}", each.join("; "));
    let tops: BTreeSet<AbsPath> = orphans.values().flat_map(|some| some.tops(site, host)).collect();
    let find = tops.iter().fold(Command::new("find"), |find, top| find.arg(top));
    let ids: Vec<String> = orphans.keys().map(|uid| format!("-uid {uid}")).collect();
    let find = find.args(&if more > 0 { "-nouser".to_owned() } else { ids.join(" -o ") });
    let remedy = Step::on(host, format!("{find} lists them; chown -h gives them to an account"));
    Some(on_host(&RULE, &example).says(message).remedy(remedy))
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, done, local};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            local(|scene| done(scene.tree("granary", "f 0644 1004:2100 /loft/media/films/a")))
        },
        by_hand: |scene| done(scene.tree("granary", "f 0644 1101:2100 /loft/media/films/a")),
    };

    #[test]
    fn owners_without_an_account_are_told_by_number() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.tree(
            "granary",
            "f 0644 1004:2100 /loft/media/films/a\nf 0644 1004:0 \
                               /loft/media/films/b\nf 0644 1009:0 /loft/media/films/c",
        );
        let told = "owned on granary by numbers without an account: 2 entries by 1004, such as \
                    /loft/media/films/b; 1 entry by 1009, such \
                    as /loft/media/films/c → on granary: find /loft/media/films -uid 1004 -o -uid \
                    1009 lists them; chown -h gives them to an account";
        assert_eq!(scene.messages_of(&RULE), told);
        for uid in 1010..1020 {
            scene.tree("granary", &format!("f 0644 {uid}:0 /loft/media/films/x{uid}"));
        }
        let told = scene.messages_of(&RULE);
        assert!(told.contains("; 4 entries by 4 further numbers →"), "{told}");
        assert!(told.ends_with(
            "find /loft/media/films -nouser lists them; chown -h gives them to an account"
        ));
        scene.facts("granary").accounts.clear();
        scene.host("granary").accounts.clear();
        assert_eq!(scene.messages_of(&RULE), "", "nobody knows who has an account there");
    }
}
