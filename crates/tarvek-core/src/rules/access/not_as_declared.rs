//! `access/not-as-declared`.

use std::collections::{HashMap, HashSet};

use crate::facts::tree::{Lookup, NodeId, Tree};
use crate::kernel::acl::Tag;
use crate::kernel::decide::{R, W, X, decide};
use crate::kernel::entry::EntryKind;
use crate::kernel::object::{Edit, Grant};
use crate::kernel::subject::{NOBODY, Subject};
use crate::layout::folder::{Folder, Right};
use crate::remedy::effects::effects;
use crate::remedy::plan::takes_posix_acls;
use crate::route::follow;
use crate::route::hops::View;
use crate::route::seen_as::seen_as;
use crate::rules::access::trees::AlikeEntries;
use crate::site::join::Site;
use crate::site::suppose::Change;
use crate::used::used_path::{UsedPath, stays_usable};
use crate::words::about::About;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::place::Place;
use crate::words::remedy::{Command, Remedy, Step};
use crate::words::rule::{Rule, Severity};
use crate::words::text::counted;

/// The filesystem says something else than the layout.
pub static RULE: Rule = Rule {
    id: "access/not-as-declared",
    severity: Severity::Risk,
    title: "Rights are not as they are declared",
    means: "The layout says what an account, service or group may do in a folder and everything \
            below; what it really may do \
            there is more, or less.",
    hurts: "Whoever reads the layout believes what is not so.",
    fix: "Bring the folder to what is declared (`tarvek emit script` does), or declare what is \
          meant.",
    example: "lantern = \"read\" is declared for /loft/media, and 12 entries below can be written \
              by it.",
};

/// Compares what is declared of folders with what their objects grant.
pub fn find(site: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    let own = OwnRights::of(site);
    for folder in &site.layout.folders {
        let Some(tree) = site.tree(&folder.host) else { continue };
        let Lookup::Found(top) = tree.find(&folder.path) else { continue };
        for (who, right) in &folder.rights {
            let Some(asker) = asks(site, folder, who) else { continue };
            let found = compared(site, &own, folder, top, *right, &asker);
            if found.iter().all(|(some, _)| some.count == 0) {
                continue;
            }
            let remedy = remedy((site, cases), &own, folder, top, (who, *right), &asker);
            for (some, word) in found {
                let finding = describe_difference(site, folder, who, *right, &some, word);
                findings.extend(finding.map(|finding| finding.remedy(remedy.clone())));
            }
        }
    }
    findings
}

fn describe_difference(
    site: &Site,
    folder: &Folder,
    who: &Name,
    right: Right,
    some: &AlikeEntries,
    word: &str,
) -> Option<Finding> {
    let example = some.example(site, &folder.host)?;
    let (path, line) = (&folder.path, folder.origin.line);
    let message = format!(
        "{who} has {word} than {:?} on {} at and below {path}, such as {}",
        right.word(),
        counted(some.count, "entry"),
        example.path
    );
    let finding = RULE.finding(About::Folder(path.clone())).at(&example).line(line);
    Some(finding.known(Evidence::Observed).says(message))
}

/// An entry for the one who is meant, on everything that the declaration speaks of, if that settles
/// it and nobody else who is declared loses what they should have.
fn remedy(
    (site, cases): (&Site, &[UsedPath]),
    own: &OwnRights,
    folder: &Folder,
    top: NodeId,
    (who, right): (&Name, Right),
    asker: &Asker,
) -> Remedy {
    let host = &folder.host;
    let declare = format!("or change the rights in line {} of the layout", folder.origin.line);
    let subject = &asker.subject;
    let by_hand = || {
        let owner = format!(
            "no ACL entry settles it: see whose the entries are, and what reaches {who} another \
             way; {declare}"
        );
        Remedy::from(Step::on(host, owner))
    };
    if asker.read_only && matches!(right, Right::Add | Right::Change) {
        let words = format!(
            "the way of {who} to it is read-only: write rw into its mapping, mount or share; \
             {declare}"
        );
        return words.into();
    }
    let Some(objects) = site.objects(host) else { return by_hand() };
    let of_group = who.raw().starts_with('@');
    let meta = objects.of(top).meta;
    let owns_all = || {
        let mut declared = declared_below(own, folder, objects.tree, top);
        declared.all(|node| objects.of(node).meta.uid == subject.uid)
    };
    // An entry for the owner or the owning group is the one without a name; below, others may own.
    let candidates: Vec<Vec<Tag>> = match of_group {
        true if meta.gid == subject.gid => {
            vec![vec![Tag::GroupObj], vec![Tag::GroupObj, Tag::Group(subject.gid)]]
        }
        true => vec![vec![Tag::Group(subject.gid)]],
        // Where it is the owner of all, and not to be locked out of what is its own.
        false if right != Right::None && owns_all() => vec![vec![Tag::UserObj]],
        false => vec![vec![Tag::User(subject.uid)]],
    };
    let perm = match right {
        Right::None => 0,
        Right::Read => R | X,
        Right::Add | Right::Change => R | W | X,
    };
    let changes_of = |tags: &[Tag]| -> Vec<Change> {
        let edit = |tag| Edit::Entry { tag, grant: Grant::below(perm), mask: None, inherit: true };
        let change =
            |tag: &Tag| Change { host: host.clone(), at: top, below: true, edit: edit(*tag) };
        tags.iter().map(change).collect()
    };
    let inner = site.layout.folders.iter().any(|other| {
        other.host == *host && other.path != folder.path && other.path.within(&folder.path)
    });
    let settles = |after: &Site| {
        let settled =
            compared(after, own, folder, top, right, asker).iter().all(|(some, _)| some.count == 0);
        settled
            && folder.rights.iter().filter(|(other, _)| other != who).all(|(other, right)| {
                let Some(other) = asks(site, folder, other) else { return true };
                let [was, is] =
                    [site, after].map(|site| compared(site, own, folder, top, *right, &other));
                was.iter().zip(&is).all(|((was, _), (is, _))| is.count <= was.count)
            })
    };
    if inner {
        let words = format!(
            "folders inside have rights of their own, so that nothing can be set for all of it at \
             once: `tarvek emit script` sets each; {declare}"
        );
        return Remedy::from(Step::on(host, words));
    }
    if !takes_posix_acls(site, host, top) {
        let words = format!(
            "the filesystem at {} takes no POSIX ACLs: what {who} may do there is for its owners \
             and mode, or its own kind of ACL, to say; {declare}",
            folder.path
        );
        return Remedy::from(Step::on(host, words));
    }
    let found = candidates.into_iter().find_map(|tags| {
        let changes = changes_of(&tags);
        let after =
            changes.iter().fold(site.clone(), |site, change| site.supposing(change.clone()));
        settles(&after).then_some((tags, changes, after))
    });
    let Some((tags, changes, after)) = found else { return by_hand() };
    if !stays_usable(cases, site, &after) {
        let line = folder.origin.line;
        return Step::words(format!(
            "change the rights in line {line} of the layout: with what is declared there, a \
             service could no longer use what it uses"
        ))
        .into();
    }
    let letters = match perm {
        0 => "---".to_owned(),
        _ => Grant::below(perm).text(),
    };
    let entries: Vec<String> = tags
        .iter()
        .map(|tag| {
            let name = match tag {
                Tag::User(uid) => format!("u:{}", site.user_text(host, *uid)),
                Tag::Group(gid) => format!("g:{}", site.group_text(host, *gid)),
                Tag::UserObj => "u:".to_owned(),
                _ => "g:".to_owned(),
            };
            format!("{name}:{letters},d:{name}:{letters}")
        })
        .collect();
    let set = Command::new("setfacl -R -m").arg(entries.join(",")).arg(&folder.path);
    let effects = effects(site, &after, &changes, subject, false);
    let steps = vec![Step::run(host, set), Step::words(declare)];
    Remedy { steps, effects }
}

/// Somebody with a declared right, as the folder's host sees them.
struct Asker {
    subject: Subject,
    /// Whether their way is read-only.
    read_only: bool,
}

/// Who is meant by the name in a folder's rights.
fn asks(site: &Site, folder: &Folder, who: &Name) -> Option<Asker> {
    let host = &folder.host;
    let on_host = |subject| Some(Asker { subject, read_only: false });
    if let Some(group) = who.raw().strip_prefix('@') {
        // A member who has nothing else.
        return on_host(Subject::new(NOBODY - 1, site.gid_of(host, &group.into())?, []));
    }
    let Some(service) = site.layout.service(who) else {
        return on_host(site.login(host, site.account(host, who)?));
    };
    let view = View::service(&service.name);
    let (subject, _) = site.subject_of(service);
    let path = seen_as(site, &view, &subject, &Place::new(host, &folder.path))?;
    let route = follow(site, &view, &path, &subject);
    let (end, _) = route.entry()?;
    let (subject, read_only) = (end.subject.clone(), route.read_only());
    subject.doubt.is_none().then_some(Asker { subject, read_only })
}

/// The entries that grant less than a right is, and those that grant more.
fn compared(
    site: &Site,
    own: &OwnRights,
    folder: &Folder,
    top: NodeId,
    right: Right,
    asker: &Asker,
) -> [(AlikeEntries, &'static str); 2] {
    let (mut more, mut less) = (AlikeEntries::default(), AlikeEntries::default());
    let wanted = match right {
        Right::None => 0,
        Right::Read => R,
        Right::Add | Right::Change => R | W,
    };
    if let Some(objects) = site.objects(&folder.host) {
        for node in declared_below(own, folder, objects.tree, top) {
            let object = objects.of(node);
            let may = |bit| decide(&object, &asker.subject, bit).allowed;
            let enters = !object.is_folder() || may(X);
            let reads = enters && may(R);
            let writes = enters && may(W) && !asker.read_only;
            let has = if reads { R } else { 0 } | if writes { W } else { 0 };
            if has & !wanted != 0 {
                more.add(top, node);
            } else if wanted & !has != 0 {
                less.add(top, node);
            }
        }
    }
    [(less, "less"), (more, "more")]
}

/// The folders of each host that have rights of their own. No remedy moves one.
struct OwnRights(HashMap<Name, HashSet<NodeId>>);

impl OwnRights {
    fn of(site: &Site) -> Self {
        let mut own: HashMap<Name, HashSet<NodeId>> = HashMap::new();
        for folder in site.layout.folders.iter().filter(|folder| !folder.rights.is_empty()) {
            if let Some(Lookup::Found(node)) =
                site.tree(&folder.host).map(|tree| tree.find(&folder.path))
            {
                own.entry(folder.host.clone()).or_default().insert(node);
            }
        }
        Self(own)
    }
}

/// The entries that a folder's rights speak of: itself and everything below, up to folders with
/// rights of their own.
fn declared_below<'a>(
    own: &'a OwnRights,
    folder: &Folder,
    tree: &'a Tree,
    top: NodeId,
) -> impl Iterator<Item = NodeId> + 'a {
    let own = own.0.get(&folder.host);
    tree.below_but(top, move |node| node != top && own.is_some_and(|own| own.contains(&node)))
        .filter(|node| matches!(tree.meta(*node).kind, EntryKind::Folder | EntryKind::File))
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::layout::folder::Right;
    use crate::rules::promise::{FILMS, Promise, local, nothing};
    use crate::tests::{Scene, account, folder};

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            local(|scene| {
                scene.facts("granary").accounts.push(account("guest", 1200, &["keepers"]));
                scene.layout.folders.push(folder(FILMS, &[("guest", Right::None)]));
            })
        },
        by_hand: nothing,
    };

    #[test]
    fn accounts_groups_and_services_have_what_is_declared_or_it_is_told() {
        let mut scene = Scene::local();
        let rights =
            [("lantern", Right::Read), ("@keepers", Right::Change), ("mira", Right::Change)];
        scene.layout.folders.push(folder("/loft/media/films", &rights));
        assert_eq!(scene.messages_of(&RULE), "");
        scene.layout.folders[0].rights = vec![("lantern".into(), Right::Change)];
        let told = "lantern has less than \"change\" on 3 entries at and below /loft/media/films, \
                    such as /loft/media/films → the \
                    way of lantern to it is read-only: write rw into its mapping, mount or share; \
                    or change the rights in line 8 of the \
                    layout";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.layout.folders[0].rights = vec![("@keepers".into(), Right::Read)];
        let told = scene.messages_of(&RULE);
        assert!(told.starts_with("@keepers has more than \"read\" on 3 entries"), "{told}");
        // Only what is declared is touched: an entry for the one who is meant.
        let entry = "→ on granary: setfacl -R -m g::rX,d:g::rX /loft/media/films; or change the \
                     rights in line 8 of the layout";
        assert!(told.ends_with(entry), "{told}");
        scene.layout.folders[0].rights = vec![("archivist".into(), Right::None)];
        scene.facts("granary").accounts.push(account("archivist", 1200, &["keepers"]));
        let told = scene.messages_of(&RULE);
        let entry = "→ on granary: setfacl -R -m u:archivist:---,d:u:archivist:--- \
                     /loft/media/films; or change the rights in line 8";
        assert!(told.contains(entry), "{told}");
        scene.layout.folders[0].rights = vec![("@keepers".into(), Right::Read)];
        let inner = folder("/loft/media/films/Low Water (2003)", &[("@keepers", Right::Change)]);
        scene.layout.folders.push(inner);
        assert!(scene.messages_of(&RULE).starts_with("@keepers has more than \"read\" on 1 entry"));
    }
}
