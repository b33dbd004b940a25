//! `access/moved-stays-private`.

use crate::judge::access_check::judge;
use crate::judge::verdict::Need;
use crate::kernel::decide::{R, decide};
use crate::kernel::entry::EntryKind;
use crate::layout::intake::Want;
use crate::link::intake::{Way, Ways, ways};
use crate::rules::access::intakes::{describe, opened};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::rule::{Rule, Severity};
use crate::words::text::counted;

/// Files that bring their rights along.
pub static RULE: Rule = Rule {
    id: "access/moved-stays-private",
    severity: Severity::Blocker,
    title: "Files stay private when they are moved or linked into the library",
    means: "Renaming and linking inherit nothing: a file keeps the owner, group, mode and ACL that \
            it was made with. What the \
            fetching service makes can't be read by the serving account, whatever the library's \
            defaults say.",
    hurts: "Every new title is in its place and can't be played.",
    fix: "Let the fetching service make readable files: its umask, its own mode setting, or a \
          default ACL on the folder where it \
          makes them.",
    example: "drover makes files with mode 0600; joiner links them into the library, and lantern \
              can't read them.",
};

/// Judges every intake.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for ways in ways(site).filter(|ways| ways.intake.want != Want::Copy) {
        let made = ways.fetched(site);
        let Some(done) = &ways.done else { continue };
        for server in ways.served(site, cases) {
            let moved = ", linked or moved there,";
            let private = made
                .as_ref()
                .zip(ways.made_in())
                .and_then(|(made, place)| ways.unusable(site, &RULE, &server, made, place, moved));
            // Whatever the umask says, some programs ask for less: what they have made is there to
            // be seen.
            findings.extend(private.or_else(|| waiting(site, &ways, done, &server)));
        }
    }
    findings
}

/// Files that wait in a done folder, and that the serving account could not read in the library.
fn waiting(site: &Site, ways: &Ways, done: &Way, server: &Way) -> Option<Finding> {
    let ((end, folder), (reader, _)) = (done.route.entry()?, server.route.entry()?);
    let entered = judge(site, &server.route, Need::Enter);
    let objects = site.objects(&end.seen_on)?;
    if !entered.is_allowed() || reader.seen_on != end.seen_on {
        return None;
    }
    let private = objects.tree.below(folder).filter(|node| {
        let object = objects.of(*node);
        object.meta.kind == EntryKind::File && !decide(&object, &reader.subject, R).allowed
    });
    let (count, first) = private.fold((0, None), |(count, first), node| {
        (count + 1, first.map_or(Some(node), |first| Some(node.min(first))))
    });
    let (object, place) = (objects.of(first?), objects.tree.path(first?));
    let message = format!(
        "{} in {}, such as {place} ({}), keep their rights when they are linked or moved into {}, \
         and {} ({}) can't read them",
        counted(count, "file"),
        done.route.asked,
        describe(site, server, &object),
        server.route.asked,
        server.service.name,
        server.route.subject
    );
    let mut finding = ways.finding(&RULE, server, &entered).says(message);
    finding.place.path = Some(place);
    Some(finding.remedy(opened(site, done, server)))
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::kernel::acl::{Acl, AclEntry, Tag};
    use crate::layout::intake::Want;
    use crate::rules::promise::{Promise, intake};
    use crate::tests::Scene;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || intake(|scene| scene.service("drover").umask = Some(0o027)),
        by_hand: |scene| scene.service("drover").umask = Some(0o022),
    };

    #[test]
    fn a_link_keeps_the_rights_of_the_download() {
        let mut scene = Scene::local().with_intake();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.service("drover").umask = Some(0o027);
        let told = "a file that drover makes in /data/intake/partial will be 0640 drover:keepers, \
                    linked or moved there, and lantern (840:840) can't read it in \
                    /media/films → ";
        assert!(scene.messages_of(&RULE).starts_with(told), "{}", scene.messages_of(&RULE));
        scene.layout.intakes[0].want = Want::Copy;
        assert_eq!(scene.messages_of(&RULE), "", "a copy is made anew");
        // Where a default ACL takes the place of the umask, it is that of the folder in which the
        // file is made.
        scene.layout.intakes[0].want = Want::Hardlink;
        let tags = [(Tag::UserObj, 7), (Tag::GroupObj, 5), (Tag::Other, 0)];
        let default = Acl::new(tags.map(|(tag, perm)| AclEntry { tag, perm }).to_vec());
        scene.default_acl("granary", "/loft/media/intake/partial", default);
        let told = scene.messages_of(&RULE);
        let partial = "on granary: find /loft/media/intake/partial -type d -exec setfacl -m \
                       d:u:lantern:rX '{}' +";
        assert!(told.contains(partial), "{told}");
    }

    #[test]
    fn what_waits_already_is_counted() {
        let mut scene = Scene::local().with_intake();
        scene.tree(
            "granary",
            "f 0600 841:2100 /loft/media/intake/done/b.mkv\nf 0600 841:2100 \
                               /loft/media/intake/done/c/d.mkv",
        );
        let told = "2 files in /data/intake/done, such as /loft/media/intake/done/b.mkv (0600 \
                    drover:keepers), keep their rights";
        assert!(scene.messages_of(&RULE).starts_with(told), "{}", scene.messages_of(&RULE));
        let give = "find /loft/media/intake/done -type f -exec setfacl -m u:lantern:r '{}' +";
        assert!(scene.messages_of(&RULE).ends_with(give), "{}", scene.messages_of(&RULE));
        // What lantern may write already is not cut down to reading.
        scene.tree("granary", "f 0664 0:840 /loft/media/intake/done/c/its.mkv");
        let give = "find /loft/media/intake/done -type f '!' -perm /066 -exec setfacl -m \
                    u:lantern:r '{}' +";
        assert!(scene.messages_of(&RULE).ends_with(give), "{}", scene.messages_of(&RULE));
        scene.tree("granary", "f 0640 841:2100 /loft/media/intake/done/b.mkv");
        let by_hand = "; let lantern read those files";
        assert!(scene.messages_of(&RULE).ends_with(by_hand), "{}", scene.messages_of(&RULE));
        scene.tree(
            "granary",
            "f 0644 841:2100 /loft/media/intake/done/b.mkv\nf 0644 841:2100 \
                               /loft/media/intake/done/c/d.mkv",
        );
        assert_eq!(scene.messages_of(&RULE), "");
    }
}
