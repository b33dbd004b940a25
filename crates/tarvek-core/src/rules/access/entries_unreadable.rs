//! `access/entries-unreadable`.

use crate::facts::tree::Lookup;
use crate::kernel::acl::{AclEntry, Tag};
use crate::kernel::decide::R;
use crate::remedy::rights;
use crate::route::hops::Route;
use crate::scan::read::{Cause, Scan};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::place::Place;
use crate::words::rule::{Rule, Severity};
use crate::words::text::counted;

/// Entries below a root that the account can't read.
pub static RULE: Rule = Rule {
    id: "access/entries-unreadable",
    severity: Severity::Blocker,
    title: "The serving account can read the root, but not everything below",
    means: "Some folders or files below the root refuse the account. They are counted, with what \
            each folder hides, and \
            grouped by the entry that decides. Below one in a hundred it is a risk, above a \
            blocker.",
    hurts: "Titles are missing or incomplete after a scan, without an error that anybody sees.",
    fix: "Repair the entries that are there, and set a default ACL or setgid with umask 002, so \
          that new ones stay right.",
    example: "A film was copied in from a private folder and kept its mode 0600.",
};

/// Judges one root.
pub fn find(site: &Site, case: &UsedPath) -> Vec<Finding> {
    let (Some(route), Some(scan)) = (&case.route, &case.scan) else { return Vec::new() };
    let Some(cause) = scan.causes.first().filter(|_| scan.unreadable > 0) else {
        return Vec::new();
    };
    // Where the root itself refuses, or nobody can tell, that is the finding.
    if case.usable(site) == Some(false) {
        return Vec::new();
    }
    let few = scan.unreadable * 100 < scan.entries;
    let finding = case
        .finding(&RULE)
        .line(case.service.origin.line)
        .known(Evidence::Observed)
        .weighs(if few { Severity::Risk } else { Severity::Blocker })
        .says(words(case, scan) + &only_at_the_top(site, route, cause).unwrap_or_default());
    let finding = match cause.examples.first() {
        Some(example) => finding.at(&Place::new(&cause.host, example)),
        None => finding.on(&cause.host),
    };
    vec![rights::readable(site, route, finding)]
}

/// That the root has an ACL entry which would let the account in, and an entry below has not: it was
/// not applied to what was there.
fn only_at_the_top(site: &Site, route: &Route, cause: &Cause) -> Option<String> {
    let (end, top) = route.entry()?;
    let objects = site.objects(&end.seen_on)?;
    let Lookup::Found(below) = objects.tree.find(cause.examples.first()?) else { return None };
    let is_own = |entry: &&AclEntry| match entry.tag {
        Tag::User(uid) => uid == end.subject.uid,
        Tag::Group(gid) => end.subject.is_in(gid),
        _ => false,
    };
    let at_the_top = objects.of(top).full_acl();
    let granted = at_the_top.entries().iter().filter(is_own).find(|entry| entry.perm & R != 0)?;
    let lacks = objects.of(below).full_acl().perm(granted.tag).is_none();
    let name = match granted.tag {
        Tag::User(uid) => format!("user:{}", site.user_text(&end.seen_on, uid)),
        Tag::Group(gid) => format!("group:{}", site.group_text(&end.seen_on, gid)),
        _ => return None,
    };
    lacks.then(|| {
        format!(
            "; {} has an ACL entry for {name}, which was not applied to what is below (setfacl -R)",
            end.at.path
        )
    })
}

/// How many reasons are told one by one: there may be one for each owner.
const TOLD: usize = 8;

fn words(case: &UsedPath, scan: &Scan) -> String {
    let mut words = format!(
        "{} ({}) can't read {} of {} below {}",
        case.service.name,
        case.subject,
        scan.unreadable,
        counted(scan.entries, "entry"),
        case.route.as_ref().map(|route| route.asked.to_string()).unwrap_or_default()
    );
    for cause in scan.causes.iter().take(TOLD) {
        let examples: Vec<String> = cause.examples.iter().map(ToString::to_string).collect();
        words += &format!("; {} by {}, such as {}", cause.count, cause.reason, examples.join(", "));
    }
    let more = scan.causes.get(TOLD..).unwrap_or_default();
    if !more.is_empty() {
        let entries: u64 = more.iter().map(|cause| cause.count).sum();
        words += &format!("; {entries} for {}", counted(more.len() as u64, "further reason"));
    }
    words
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::check::board::State;
    use crate::check::report::check;
    use crate::kernel::acl::{Acl, AclEntry, Tag};
    use crate::rules::promise::FILM;
    use crate::rules::promise::{Promise, done, local, nothing};
    use crate::tests::Scene;
    use crate::words::rule::Severity;
    use crate::words::terms::Protocol;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || local(|scene| done(scene.tree("granary", &format!("f 0660 1101:2100 {FILM}")))),
        by_hand: nothing,
    };

    #[test]
    fn what_is_refused_below_is_counted_by_cause_and_repaired_where_it_is() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        let film = "/loft/media/films/Low Water (2003)/Low Water (2003).mkv";
        scene.tree("granary", &format!("f 0600 1101:2100 {film}"));
        let told = format!(
            "lantern (840:840) can't read 1 of 2 entries below /media/films; 1 by other::--- on a \
             file of mode 0600 mira:keepers, \
             such as {film} → on granary: setfacl -m u:lantern:r '{film}'"
        );
        assert_eq!(scene.messages_of(&RULE), told);
        scene.tree("granary", "d 0700 1101:2100 /loft/media/films");
        assert_eq!(scene.messages_of(&RULE), "", "the root is another rule's");
    }

    #[test]
    fn an_entry_that_stands_at_the_top_only_is_told() {
        let mut scene = Scene::local();
        let tags = [(Tag::UserObj, 7), (Tag::User(840), 5), (Tag::GroupObj, 7), (Tag::Mask, 7)];
        let entries = tags.iter().chain(&[(Tag::Other, 0)]);
        let acl = entries.map(|(tag, perm)| AclEntry { tag: *tag, perm: *perm }).collect();
        scene.acl("granary", "/loft/media/films", Acl::new(acl));
        scene.tree("granary", "d 0700 1101:2100 /loft/media/films/Low Water (2003)");
        let told = scene.messages_of(&RULE);
        assert!(
            told.contains(
                "; /loft/media/films has an ACL entry for user:lantern, which was not applied to \
                 what is below (setfacl -R) → on granary: setfacl"
            ),
            "{told}"
        );
    }

    #[test]
    fn of_many_reasons_the_commonest_are_told() {
        let mut scene = Scene::local();
        for uid in 3000..3012 {
            scene.tree("granary", &format!("f 0600 {uid}:{uid} /loft/media/films/{uid}.mkv"));
        }
        let told = scene.messages_of(&RULE);
        assert!(told.contains("can't read 12 of 14 entries"), "{told}");
        assert!(told.contains("3007.mkv; 4 for 4 further reasons →"), "{told}");
    }

    #[test]
    fn less_than_one_in_a_hundred_is_a_risk() {
        let mut scene = Scene::local();
        for n in 0..200 {
            scene.tree("granary", &format!("f 0644 1101:2100 /loft/media/films/{n}.mkv"));
        }
        let weight = |scene: &Scene| {
            scene.findings().iter().find(|f| f.rule == &RULE).map(|finding| finding.severity)
        };
        scene.change("granary", "/loft/media/films/7.mkv", |meta| meta.mode = 0o600);
        assert_eq!(weight(&scene), Some(Severity::Risk));
        scene.change("granary", "/loft/media/films/8.mkv", |meta| meta.mode = 0o600);
        scene.change("granary", "/loft/media/films/9.mkv", |meta| meta.mode = 0o600);
        assert_eq!(weight(&scene), Some(Severity::Blocker));
    }

    #[test]
    fn nothing_is_said_of_what_somebody_unknown_would_read() {
        let mut scene = Scene::over(Protocol::Smb);
        scene.change("granary", FILM, |meta| meta.mode = 0o660);
        scene.layout.mounts[0].user = Some("nobody-there".into());
        let report = check(&scene.site());
        assert_eq!(report.board[0].stages.readable, State::Unknown);
        assert_eq!(report.board[0].unreadable, 0);
        assert_eq!(scene.messages_of(&RULE), "");
    }
}
