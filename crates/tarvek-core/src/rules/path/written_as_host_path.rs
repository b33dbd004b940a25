//! `path/written-as-host-path`.

use crate::kernel::subject::Subject;
use crate::remedy::apply_on_host::set_in_service;
use crate::route::end::End;
use crate::route::follow;
use crate::route::hops::View;
use crate::route::seen_as::seen_as;
use crate::route::source::Remote;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::path::AbsPath;
use crate::words::place::Place;
use crate::words::rule::{Rule, Severity};
use crate::words::terms::Protocol;

/// A path in somebody else's words.
pub static RULE: Rule = Rule {
    id: "path/written-as-host-path",
    severity: Severity::Blocker,
    title: "A root is written as somebody else calls the folder",
    means: "The path is what the service's host, the storage host, a client or the network calls \
            the folder. The service itself sees it under another path.",
    hurts: "To the service there is nothing at that path: the scan finds nothing, or the folder \
            can't be chosen.",
    fix: "Write the path as the service sees it.",
    example: "The root is /loft/media/films, as on granary; lantern sees that folder as \
              /media/films.",
};

/// Judges one place that a service uses.
pub fn find(site: &Site, case: &UsedPath) -> Vec<Finding> {
    let Some((place, by, seen)) = meant(site, case) else { return Vec::new() };
    let service = &case.service.name;
    let message =
        format!("{} is {by}'s name of the folder; {service} calls it {seen}", case.root.written);
    let steps = vec![case.name_instead(site, &seen), set_in_service(case.service, case.what())];
    vec![case.finding(&RULE).at(&place).says(message).remedy(steps)]
}

/// The folder that is meant by a path that leads nowhere in its service, who calls it so, and what
/// the service calls it.
pub(super) fn meant(site: &Site, case: &UsedPath) -> Option<(Place, String, AbsPath)> {
    let is_lost = match &case.route {
        None => true,
        Some(route) => matches!(route.end, End::Uncovered { .. } | End::Missing(_)),
    };
    if !is_lost {
        return None;
    }
    let view = View::service(&case.service.name);
    let is_something = |seen: &AbsPath| {
        let end = follow(site, &view, seen, &case.subject).end;
        !matches!(end, End::Uncovered { .. } | End::Missing(_))
    };
    let by_mapping = in_mapping(case).filter(|(_, _, seen)| is_something(seen));
    if by_mapping.is_some() {
        return by_mapping;
    }
    let names = on_network(site, case).into_iter().chain(on_hosts(site, case));
    names.into_iter().find_map(|(place, by)| {
        let seen = seen_as(site, &view, &case.subject, &place)?;
        (case.root.path.as_ref() != Ok(&seen)).then_some((place, by, seen))
    })
}

/// What the path is on the service's own host by its mappings, whether it was looked at or not.
fn in_mapping(case: &UsedPath) -> Option<(Place, String, AbsPath)> {
    let (path, host) = (case.root.path.as_ref().ok()?, &case.service.host);
    let mut folders = case.service.maps().iter().filter_map(|map| map.folder());
    let seen = folders.find_map(|(from, to)| Some(to.join(path.below(from)?)))?;
    Some((Place::new(host, path), host.to_string(), seen))
}

/// What the path is on the network: `server:/path`, `//server/share/folder`.
fn on_network(site: &Site, case: &UsedPath) -> Option<(Place, String)> {
    let written = case.root.written.raw();
    let protocol = match written.starts_with("//") || written.starts_with("\\\\") {
        true => Protocol::Smb,
        false => Protocol::Nfs,
    };
    let remote = Remote::parse(site, written.as_bytes(), protocol)?;
    let place = Place::new(&remote.host?, &remote.path?);
    Some((place, "the network".to_owned()))
}

/// What the path is on hosts: first on the service's own, if it sees other paths than its host does,
/// then on the others. A host that was not looked at has what its shares offer.
fn on_hosts(site: &Site, case: &UsedPath) -> Vec<(Place, String)> {
    let Ok(path) = &case.root.path else { return Vec::new() };
    let own = case.service.map.is_some().then_some(&case.service.host);
    let others = site.layout.hosts.iter().map(|host| &host.name);
    let others = others.filter(|name| **name != case.service.host);
    let root = Subject::new(0, 0, []);
    let known = own.into_iter().chain(others).filter_map(|host| {
        let route = follow(site, &View::host(host), path, &root);
        let mut offered = site.layout.shares.iter().filter(|share| share.host == *host);
        let is_there = match &route.end {
            End::Reached => *path != AbsPath::root(),
            End::Unseen { .. } => offered.any(|share| path.within(&share.path)),
            _ => false,
        };
        is_there.then(|| (route.here().clone(), host.to_string()))
    });
    known.collect()
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::path::uncovered;
    use crate::rules::promise::{Promise, done, local, nothing};
    use crate::tests::Scene;
    use crate::words::finding::Finding;
    use crate::words::terms::Protocol;

    pub(crate) const PROMISE: Promise = Promise {
        scene: || local(|scene| done(scene.root("/loft/media/films"))),
        by_hand: nothing,
    };

    #[test]
    fn a_folder_has_the_name_that_its_service_has_for_it() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.root("/loft/media/films");
        let told = "/loft/media/films is granary's name of the folder; lantern calls it \
                    /media/films → in the layout line 7: change root /loft/media/films of \
                    lantern's library Films to /media/films; on granary: set it as the root in \
                    lantern as well";
        assert_eq!(scene.messages_of(&RULE), told);
        assert_eq!(scene.messages_of(&uncovered::RULE), "");
        for (protocol, written) in [
            (Protocol::Nfs, "/mnt/media/films"),
            (Protocol::Nfs, "/loft/media/films"),
            (Protocol::Nfs, "granary.lan:/loft/media/films"),
            (Protocol::Smb, "//granary.lan/media/films"),
            (Protocol::Smb, "\\\\granary.lan\\media\\films"),
        ] {
            let mut scene = Scene::over(protocol);
            let told = scene.root(written).messages_of(&RULE);
            assert!(told.contains("lantern calls it /media/films →"), "{written}: {told}");
            let of_paths = |finding: &&Finding| finding.rule.id.starts_with("path/");
            assert_eq!(scene.findings().iter().filter(of_paths).count(), 1, "{written}");
        }
        let mut scene = Scene::local();
        assert_eq!(scene.root("/srv/films").messages_of(&RULE), "", "nobody has that");
    }
}
