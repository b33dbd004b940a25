//! `library/overlap`.

use std::collections::{BTreeSet, HashMap};

use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::place::Place;
use crate::words::rule::{Rule, Severity};

/// Two roots of one service overlap.
pub static RULE: Rule = Rule {
    id: "library/overlap",
    severity: Severity::Risk,
    title: "Two roots of one service overlap",
    means: "Two library roots of one service are the same folder, or one lies in the other.",
    hurts: "Everything in both is scanned twice and shown twice, and what is watched or deleted in \
            one library is not in the other.",
    fix: "Take one of the two roots out, or put the folders beside each other.",
    example: "Films has the root /media, and Series the root /media/series.",
};

/// Judges the roots of each service against each other.
pub fn find(_: &Site, cases: &[UsedPath]) -> Vec<Finding> {
    let libraries: Vec<(&UsedPath, &Place)> = cases
        .iter()
        .filter(|case| case.library().is_some())
        .filter_map(|case| Some((case, case.end()?)))
        .collect();
    let mut at: HashMap<(&Name, &Name, AbsPath), Vec<usize>> = HashMap::new();
    for (n, (case, root)) in libraries.iter().enumerate() {
        let key = (&case.service.name, &root.host, root.path.clone());
        at.entry(key).or_default().push(n);
    }
    // Each root with those that are the same folder or hold it; of each two the later one is told
    // of.
    let mut pairs = BTreeSet::new();
    for (n, (case, root)) in libraries.iter().enumerate() {
        for path in std::iter::successors(Some(root.path.clone()), AbsPath::parent) {
            let key = (&case.service.name, &root.host, path);
            let others = at.get(&key).into_iter().flatten().filter(|other| **other != n);
            pairs.extend(others.map(|other| (n.max(*other), n.min(*other))));
        }
    }
    let mut findings = Vec::new();
    for (n, earlier) in pairs {
        let ((case, root), (other, known)) = (libraries[n], libraries[earlier]);
        let how = if root.path == known.path {
            "is the same folder as"
        } else if root.path.within(&known.path) {
            "lies in"
        } else {
            "holds"
        };
        let of = |case: &UsedPath| {
            let name = case.library().map(|library| library.name.to_string());
            format!("the root {} of {}", case.root.written, name.unwrap_or_default())
        };
        let message = format!("{} ({root}) {how} {} ({known})", of(case), of(other));
        let evidence = case.route.as_ref().map(|route| route.evidence());
        let finding = case.finding(&RULE).at(root).says(message).affects([other.affected()]);
        let finding = evidence.into_iter().fold(finding, Finding::known);
        findings.push(finding.remedy(
            "remove one of the two roots, or put both folders beside each other, in the layout \
                 and in the service",
        ));
    }
    findings
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::layout::service::Library;
    use crate::rules::promise::{Promise, local};
    use crate::tests::{Scene, declared};

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            local(|scene| {
                let films = scene.service("lantern").libraries[0].clone();
                let more = Library { name: "More".into(), ..films };
                scene.service("lantern").libraries.push(more);
            })
        },
        by_hand: |scene| drop(scene.service("lantern").libraries.pop()),
    };

    #[test]
    fn roots_lie_beside_each_other() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        let films = scene.service("lantern").libraries[0].clone();
        let mut second = |root: &str| {
            let more =
                Library { name: "More".into(), roots: vec![declared(root)], ..films.clone() };
            scene.service("lantern").libraries.truncate(1);
            scene.service("lantern").libraries.push(more);
            scene.messages_of(&RULE)
        };
        assert!(second("/media/films").contains("is the same folder as"));
        assert!(second("/media").contains("holds"));
        assert!(second("/media/films/Low Water (2003)").contains("lies in"));
    }
}
