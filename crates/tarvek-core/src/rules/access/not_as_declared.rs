//! `access/not-as-declared`.

use crate::facts::tree::{Lookup, NodeId, Tree};
use crate::kernel::decide::{R, W, X, decide};
use crate::kernel::entry::EntryKind;
use crate::kernel::subject::{NOBODY, Subject};
use crate::layout::folder::{Folder, Right};
use crate::route::follow;
use crate::route::hops::View;
use crate::route::seen_as::seen_as;
use crate::rules::access::trees::Alike;
use crate::rules::case::Case;
use crate::site::join::Site;
use crate::words::about::About;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::place::Place;
use crate::words::rule::{Rule, Severity};
use crate::words::text::counted;

/// The filesystem says something else than the layout.
pub static RULE: Rule = Rule {
    id: "access/not-as-declared",
    severity: Severity::Risk,
    title: "Rights are not as they are declared",
    means: "The layout says what an account, service or group may do in a folder and everything below; what it really may do \
            there is more, or less.",
    hurts: "Whoever reads the layout believes what is not so.",
    fix: "Bring the folder to what is declared (`tarvek emit script` does), or declare what is meant.",
    example: "lantern = \"read\" is declared for /loft/media, and 12 entries below can be written by it.",
};

/// Compares what is declared of folders with what their objects grant.
pub fn find(site: &Site, _: &[Case]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for folder in &site.layout.folders {
        let Some(tree) = site.tree(&folder.host) else { continue };
        let Lookup::Found(top) = tree.find(&folder.path) else { continue };
        for (who, right) in &folder.rights {
            let Some(asker) = asks(site, folder, who) else { continue };
            for (some, word) in compared(site, folder, top, *right, &asker) {
                findings.extend(told(site, folder, who, *right, &some, word));
            }
        }
    }
    findings
}

fn told(
    site: &Site,
    folder: &Folder,
    who: &Name,
    right: Right,
    some: &Alike,
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
    let remedy = format!(
        "run what `tarvek emit script --host {}` writes, or change the rights in line {line} of the layout",
        folder.host
    );
    let finding = RULE.finding(About::Folder(path.clone())).at(&example).line(line);
    Some(finding.known(Evidence::Observed).says(message).remedy(remedy))
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
    folder: &Folder,
    top: NodeId,
    right: Right,
    asker: &Asker,
) -> [(Alike, &'static str); 2] {
    let (mut more, mut less) = (Alike::default(), Alike::default());
    let wanted = match right {
        Right::None => 0,
        Right::Read => R,
        Right::Add | Right::Change => R | W,
    };
    if let Some(objects) = site.objects(&folder.host) {
        for node in declared_below(site, folder, objects.tree, top) {
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

/// The entries that a folder's rights speak of: itself and everything below, up to folders with rights of their own.
fn declared_below<'a>(
    site: &Site,
    folder: &Folder,
    tree: &'a Tree,
    top: NodeId,
) -> impl Iterator<Item = NodeId> + 'a {
    let own: Vec<NodeId> = site
        .layout
        .folders
        .iter()
        .filter(|other| {
            other.host == folder.host && other.path != folder.path && !other.rights.is_empty()
        })
        .filter_map(|other| match tree.find(&other.path) {
            Lookup::Found(node) => Some(node),
            _ => None,
        })
        .collect();
    tree.below_but(top, move |node| own.contains(&node))
        .filter(|node| matches!(tree.meta(*node).kind, EntryKind::Folder | EntryKind::File))
}

#[cfg(test)]
mod tests {
    use super::RULE;
    use crate::layout::folder::{Folder, Right};
    use crate::tests::{Scene, abs};
    use crate::words::terms::Origin;

    fn folder(path: &str, rights: &[(&str, Right)]) -> Folder {
        Folder {
            host: "granary".into(),
            path: abs(path),
            owner: None,
            group: None,
            mode: None,
            rights: rights.iter().map(|(who, right)| ((*who).into(), *right)).collect(),
            purpose: None,
            origin: Origin { line: 8, column: 1 },
        }
    }

    #[test]
    fn accounts_groups_and_services_have_what_is_declared_or_it_is_told() {
        let mut scene = Scene::local();
        let rights =
            [("lantern", Right::Read), ("@keepers", Right::Change), ("mira", Right::Change)];
        scene.layout.folders.push(folder("/loft/media/films", &rights));
        assert_eq!(scene.told(&RULE), "");
        scene.layout.folders[0].rights = vec![("lantern".into(), Right::Change)];
        let told = "lantern has less than \"change\" on 3 entries at and below /loft/media/films, such as /loft/media/films → run what \
                    `tarvek emit script --host granary` writes, or change the rights in line 8 of the layout";
        assert_eq!(scene.told(&RULE), told);
        scene.layout.folders[0].rights = vec![("@keepers".into(), Right::Read)];
        assert!(scene.told(&RULE).starts_with("@keepers has more than \"read\" on 3 entries"));
        let inner = folder("/loft/media/films/Low Water (2003)", &[("@keepers", Right::Change)]);
        scene.layout.folders.push(inner);
        assert!(scene.told(&RULE).starts_with("@keepers has more than \"read\" on 1 entry"));
    }
}
