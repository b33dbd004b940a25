//! Everyone of a site who may come to one place, each by a way of their own.

use std::collections::HashSet;

use crate::judge::access_check::judge;
use crate::judge::made::judge_within;
use crate::judge::verdict::{Answer, Need};
use crate::kernel::object::Object;
use crate::kernel::subject::{NOBODY, Subject};
use crate::layout::host::HostRole;
use crate::route::follow;
use crate::route::hops::{HopKind, Route, View, Waypoint};
use crate::route::seen_as::seen_as;
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
    let mut all: Vec<(String, Subject)> =
        services(site, place).into_iter().filter_map(arrives).collect();
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
