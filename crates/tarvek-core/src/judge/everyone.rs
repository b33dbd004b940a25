//! Everyone of a site who may come to one place, each by a way of their own.

use std::collections::HashSet;

use crate::judge::access_check::judge;
use crate::judge::made::judge_within;
use crate::judge::verdict::{Answer, Need};
use crate::kernel::object::Object;
use crate::kernel::subject::{NOBODY, Subject};
use crate::layout::host::HostRole;
use crate::route::hops::{HopKind, Route, View, Waypoint};
use crate::route::seen_as::seen_as;
use crate::route::{follow, follow_again};
use crate::site::join::Site;
use crate::words::name::Name;
use crate::words::place::Place;
use crate::words::terms::Account;

/// One who may ask.
#[derive(Clone, Debug)]
pub struct Party {
    /// `service:lantern`, `account:mira` of the host that holds the place, `account:mira@millrace`
    /// of another, `client:parlour`.
    pub name: String,
    /// Who that is where their way begins.
    pub subject: Subject,
    /// What had to be assumed of them.
    pub remark: Option<String>,
    /// Their way to the place; `None` if they do not see it.
    pub route: Option<Route>,
}

impl Party {
    /// What they may do at the place; `None` if they do not see it.
    pub fn may(&self, site: &Site, needs: &[Need]) -> Option<Vec<Answer>> {
        let route = self.route.as_ref()?;
        Some(needs.iter().map(|need| judge(site, route, *need)).collect())
    }

    /// What they could do with an entry that was made in the place; `None` if they do not see it.
    pub fn could(&self, site: &Site, made: &Object) -> Option<Vec<Answer>> {
        let route = self.route.as_ref()?;
        let needs = Need::of_made(made).iter();
        Some(needs.map(|need| judge_within(site, route, made, *need)).collect())
    }

    /// Who they are where the place is, as far as they come.
    pub fn arrives_as(&self) -> &Subject {
        self.route.as_ref().map_or(&self.subject, Route::arrived)
    }
}

/// Everyone of the site: the services, the accounts of the host that holds the place, those of
/// other hosts that see it, and the mounts of clients. Of the accounts those that are the system's
/// own are left out, unless `system` says otherwise.
pub fn everyone(site: &Site, place: &Place, system: bool) -> Vec<Party> {
    let host = &place.host;
    let mut parties = services(site, place);
    let view = View::host(host);
    parties.extend(own_accounts(site, host, system).map(|(name, subject)| {
        let route = Some(follow(site, &view, &place.path, &subject));
        Party { name, subject, remark: None, route }
    }));
    parties.extend(from_elsewhere(site, place, system));
    parties
}

/// As whom everyone comes to the host that holds a place, the system's accounts among them; those
/// whom nobody knows there are left out.
pub fn arrivals(site: &Site, place: &Place) -> Vec<(String, Subject)> {
    let host = &place.host;
    let arrives = |party: Party| {
        let route = party.route?;
        let there = route.trail.iter().rev().find(|waypoint| waypoint.seen_on == *host)?;
        Some((party.name, there.subject.clone()))
    };
    let both = |party: Party| {
        let nobody =
            party.route.as_ref().zip(party.subject.otherwise()).map(|(route, (nobody, _))| {
                let route = Some(follow_again(site, route, &nobody));
                Party { name: party.name.clone(), subject: nobody, remark: None, route }
            });
        std::iter::once(party).chain(nobody)
    };
    let services = services(site, place).into_iter().flat_map(both);
    let mut all: Vec<(String, Subject)> = services.filter_map(arrives).collect();
    let view = View::host(host);
    // On the host itself everybody goes the same way, as long as nothing on it depends on who that
    // is.
    let mut is_plain = false;
    for (name, subject) in own_accounts(site, host, true) {
        if is_plain {
            all.push((name, subject));
            continue;
        }
        let route = follow(site, &view, &place.path, &subject);
        let own = |waypoint: &Waypoint| waypoint.seen_on == *host && waypoint.subject == subject;
        is_plain = !route.trail.is_empty()
            && route.trail.iter().all(own)
            && route.hops.iter().all(|hop| hop.kind != HopKind::Symlink);
        all.extend(arrives(Party { name, subject, remark: None, route: Some(route) }));
    }
    all.extend(from_elsewhere(site, place, true).into_iter().filter_map(arrives));
    all.retain(|(_, subject)| subject.doubt.is_none());
    all
}

fn services(site: &Site, place: &Place) -> Vec<Party> {
    let mut parties = Vec::new();
    for service in &site.layout.services {
        let view = View::service(&service.name);
        let (subject, remark) = site.subject_of(service);
        let found = party(site, format!("service:{}", service.name), &view, subject, place);
        parties.push(Party { remark, ..found });
    }
    parties
}

/// The accounts of a host, each once.
fn own_accounts<'s>(
    site: &'s Site,
    host: &'s Name,
    system: bool,
) -> impl Iterator<Item = (String, Subject)> + 's {
    let mut seen = HashSet::new();
    let accounts = site.accounts(host).filter(move |account| {
        (system || is_somebody(site, host, account)) && seen.insert(&account.name)
    });
    accounts.map(move |account| (format!("account:{}", account.name), site.login(host, account)))
}

fn from_elsewhere(site: &Site, place: &Place, system: bool) -> Vec<Party> {
    let host = &place.host;
    let mut parties = Vec::new();
    for other in site.layout.hosts.iter().map(|other| &other.name).filter(|other| *other != host) {
        let view = View::host(other);
        let mut seen = HashSet::new();
        for account in site.accounts(other) {
            if !system && !is_somebody(site, other, account) || !seen.insert(account.uid) {
                continue;
            }
            let name = format!("account:{}@{other}", account.name);
            let party = party(site, name, &view, site.login(other, account), place);
            // Most accounts of most hosts never come near.
            if party.route.is_none() {
                break;
            }
            parties.push(party);
        }
    }
    for client in site.layout.hosts.iter().filter(|h| h.roles.contains(&HostRole::Client)) {
        let view = View::host(&client.name);
        let name = format!("client:{}", client.name);
        parties.push(party(site, name, &view, Subject::new(0, 0, []), place));
    }
    parties
}

fn party(site: &Site, name: String, view: &View, subject: Subject, place: &Place) -> Party {
    let path = seen_as(site, view, &subject, place);
    let route = path.map(|path| follow(site, view, &path, &subject));
    Party { name, subject, remark: None, route }
}

/// Root, people, and whoever the layout speaks of.
fn is_somebody(site: &Site, host: &Name, account: &Account) -> bool {
    let declared = site.layout.user_named(host, &account.name).is_some();
    declared || account.uid == 0 || (1000..NOBODY - 1).contains(&account.uid)
}

#[cfg(test)]
mod tests {
    use super::{Party, arrivals, everyone};
    use crate::judge::verdict::Need;
    use crate::kernel::entry::{EntryKind, Meta};
    use crate::kernel::object::Object;
    use crate::layout::host::{Host, HostRole};
    use crate::layout::service::RunAs;
    use crate::tests::{Scene, abs, account, mount};
    use crate::words::place::Place;
    use crate::words::terms::Protocol;

    /// millrace mounts the media, as does the client parlour; aviary does not.
    fn scene() -> Scene {
        let mut scene = Scene::over(Protocol::Nfs).with_intake();
        for (name, role) in [("parlour", HostRole::Client), ("aviary", HostRole::Apps)] {
            let host = Host { name: name.into(), roles: vec![role], ..Host::default() };
            scene.layout.hosts.push(host);
        }
        scene.layout.mounts.push(mount("parlour", "media", Protocol::Nfs, "/media"));
        scene.host("aviary").accounts.push(account("wren", 1500, &[]));
        scene.host("millrace").accounts.push(account("oskar", 1102, &[]));
        // Another name of a number that is there already.
        scene.host("millrace").accounts.push(account("oskars", 1102, &[]));
        for (name, id) in [("daemon", 1), ("wren", 1500), ("nobody", 65534), ("mira", 1101)] {
            scene.facts("granary").accounts.push(account(name, id, &[]));
        }
        scene.service("drover").runs_as = RunAs::Account("mira".into());
        scene
    }

    fn line(party: &Party, scene: &Scene) -> String {
        let site = scene.site();
        let Some(answers) = party.may(&site, &[Need::Read, Need::Add, Need::Remove]) else {
            return format!("{} does not see it", party.name);
        };
        let sign = |allowed| match allowed {
            Some(true) => '+',
            Some(false) => '-',
            None => '?',
        };
        let signs: String = answers.iter().map(|answer| sign(answer.allowed())).collect();
        format!("{} as {}: {signs}", party.name, party.arrives_as().uid)
    }

    #[test]
    fn each_comes_by_a_way_of_their_own() {
        let scene = scene();
        let films = Place::new("granary", abs("/loft/media/films"));
        let lines = |system| -> Vec<String> {
            let parties = everyone(&scene.site(), &films, system);
            parties.iter().map(|party| line(party, &scene)).collect()
        };
        assert_eq!(
            lines(false),
            [
                "service:lantern as 840: +--",
                "service:drover as 1101: ++-",
                "service:joiner as 842: ++-",
                "account:root as 0: +++",
                "account:mira as 1101: ++-",
                "account:lantern as 840: +--",
                "account:drover as 841: ++-",
                "account:joiner as 842: ++-",
                "account:wren as 1500: +--",
                "account:lantern@millrace as 840: +--",
                "account:oskar@millrace as 1102: +--",
                "client:parlour as 65534: ???"
            ]
        );
        let system: Vec<String> =
            lines(true).into_iter().filter(|line| !lines(false).contains(line)).collect();
        assert_eq!(system, ["account:daemon as 1: +--", "account:nobody as 65534: +--"]);
    }

    #[test]
    fn everyone_arrives_as_somebody_who_is_known() {
        let scene = scene();
        let films = Place::new("granary", abs("/loft/media/films"));
        let all = arrivals(&scene.site(), &films).into_iter();
        let all: Vec<String> = all.map(|(name, who)| format!("{name} as {}", who.uid)).collect();
        assert_eq!(
            all,
            [
                "service:lantern as 840",
                "service:drover as 1101",
                "service:joiner as 842",
                "account:root as 0",
                "account:mira as 1101",
                "account:lantern as 840",
                "account:drover as 841",
                "account:joiner as 842",
                "account:daemon as 1",
                "account:wren as 1500",
                "account:nobody as 65534",
                "account:lantern@millrace as 840",
                "account:oskar@millrace as 1102",
                "client:parlour as 65534"
            ]
        );
    }

    #[test]
    fn what_is_made_is_asked_for_what_its_kind_can_be() {
        let scene = scene();
        let site = scene.site();
        let films = Place::new("granary", abs("/loft/media/films"));
        let parties = everyone(&site, &films, false);
        let could = |kind, mode| -> Vec<String> {
            let made = Object::plain(Meta::new(kind, mode, 1101, 2100));
            let of = |party: &Party| {
                let answers = party.could(&site, &made)?;
                let words = answers.iter().filter(|answer| answer.is_allowed());
                let words: Vec<&str> = words.map(|answer| answer.need.to()).collect();
                Some(format!("{}: {}", party.name, words.join(", ")))
            };
            parties.iter().filter_map(of).collect()
        };
        assert_eq!(
            could(EntryKind::File, 0o640),
            [
                "service:lantern: ",
                "service:drover: read, write, remove",
                "service:joiner: read, remove",
                "account:root: read, write, remove",
                "account:mira: read, write, remove",
                "account:lantern: ",
                "account:drover: read, remove",
                "account:joiner: read, remove",
                "account:wren: ",
                "account:lantern@millrace: ",
                "account:oskar@millrace: ",
                "client:parlour: "
            ]
        );
        assert_eq!(
            could(EntryKind::Folder, 0o755),
            [
                "service:lantern: read",
                "service:drover: read, add to, remove",
                "service:joiner: read, remove",
                "account:root: read, add to, remove",
                "account:mira: read, add to, remove",
                "account:lantern: read",
                "account:drover: read, remove",
                "account:joiner: read, remove",
                "account:wren: read",
                "account:lantern@millrace: read",
                "account:oskar@millrace: read",
                "client:parlour: "
            ]
        );
    }
}
