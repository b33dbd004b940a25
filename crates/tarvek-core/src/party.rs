//! Everyone of a site who may come to one place, each by his own way.

use crate::access::{Need, Verdict, judge, judge_within};
use crate::identity::Subject;
use crate::layout::{Account, HostRole};
use crate::object::Object;
use crate::path::AbsPath;
use crate::route::{Route, View, attached_below, follow};
use crate::site::Site;
use crate::text::shown;

/// One who may ask.
#[derive(Clone, Debug)]
pub struct Party {
    /// `service:lantern`, `account:mira` of the host that holds the place, `account:mira@millrace` of another, `client:parlour`.
    pub name: String,
    /// Who that is where his way begins.
    pub subject: Subject,
    /// What had to be assumed of him.
    pub remark: Option<String>,
    /// His way to the place; `None` if he does not see it.
    pub route: Option<Route>,
}

impl Party {
    /// What he may do at the place; `None` if he does not see it.
    pub fn may(&self, site: &Site, needs: &[Need]) -> Option<Vec<Verdict>> {
        let route = self.route.as_ref()?;
        Some(needs.iter().map(|need| judge(site, route, *need)).collect())
    }

    /// What he could do with an entry that was made in the place; `None` if he does not see it.
    pub fn could(&self, site: &Site, made: &Object) -> Option<Vec<Verdict>> {
        let route = self.route.as_ref()?;
        let needs = Need::of_made(made).iter();
        Some(needs.map(|need| judge_within(site, route, made, *need)).collect())
    }
}

/// Everyone of the site: the services, the accounts of the host that holds the place, those of other hosts that see it, and the
/// mounts of clients. Of the accounts those that are the system's own are left out, unless `system` says otherwise.
pub fn everyone(site: &Site, host: &str, place: &AbsPath, system: bool) -> Vec<Party> {
    let mut parties = Vec::new();
    for service in &site.layout.services {
        let view = View::Service(service.name.clone());
        let (subject, remark) = site.subject_of(service);
        let name = format!("service:{}", shown(service.name.as_bytes()));
        parties.push(party(site, name, &view, subject, remark, host, place));
    }
    let mut seen = Vec::new();
    for account in site.accounts(host) {
        if seen.contains(&account.name) || !system && !is_somebody(site, host, account) {
            continue;
        }
        seen.push(account.name.clone());
        let name = format!("account:{}", shown(account.name.as_bytes()));
        let view = View::Host(host.to_owned());
        let subject = site.login(host, account);
        let route = Some(follow(site, &view, place, &subject));
        parties.push(Party { name, subject, remark: None, route });
    }
    let others = site.layout.hosts.iter().map(|other| other.name.as_str());
    for other in others.filter(|other| *other != host) {
        let view = View::Host(other.to_owned());
        let mut seen = Vec::new();
        for account in site.accounts(other) {
            if seen.contains(&account.uid) || !system && !is_somebody(site, other, account) {
                continue;
            }
            seen.push(account.uid);
            let name = format!("account:{}@{other}", shown(account.name.as_bytes()));
            let subject = site.login(other, account);
            let party = party(site, name, &view, subject, None, host, place);
            // Most accounts of most hosts never come near.
            if party.route.is_none() {
                break;
            }
            parties.push(party);
        }
    }
    for client in site.layout.hosts.iter().filter(|h| h.roles.contains(&HostRole::Client)) {
        let view = View::Host(client.name.clone());
        let subject = Subject::new(0, 0, []);
        let name = format!("client:{}", shown(client.name.as_bytes()));
        parties.push(party(site, name, &view, subject, None, host, place));
    }
    parties
}

fn party(
    site: &Site,
    name: String,
    view: &View,
    subject: Subject,
    remark: Option<String>,
    host: &str,
    place: &AbsPath,
) -> Party {
    let path = seen_as(site, view, &subject, host, place);
    let route = path.map(|path| follow(site, view, &path, &subject));
    Party { name, subject, remark, route }
}

/// Root, people, and whoever the layout speaks of.
fn is_somebody(site: &Site, host: &str, account: &Account) -> bool {
    let declared = site
        .layout
        .host(host)
        .is_some_and(|host| host.accounts.iter().any(|declared| declared.name == account.name));
    declared || account.uid == 0 || (1000..crate::identity::NOBODY - 1).contains(&account.uid)
}

/// Under which path a view shows a place of a host; `None` if it does not.
pub fn seen_as(
    site: &Site,
    view: &View,
    subject: &Subject,
    host: &str,
    place: &AbsPath,
) -> Option<AbsPath> {
    let own = match view {
        View::Host(name) => Some(name.as_str()),
        View::Service(name) => {
            let service = site.layout.service(name)?;
            service.map.is_none().then_some(service.host.as_str())
        }
    };
    if own == Some(host) {
        return Some(place.clone());
    }
    let mut points: Vec<AbsPath> = match (view, own) {
        (View::Service(name), None) => {
            let maps = site.layout.service(name)?.map.as_deref().unwrap_or(&[]);
            maps.iter().filter_map(|map| map.to.path.clone().ok()).collect()
        }
        _ => vec![AbsPath::root()],
    };
    let below: Vec<AbsPath> = points
        .iter()
        .flat_map(|point| attached_below(site, &follow(site, view, point, subject)))
        .collect();
    points.extend(below);
    points.sort();
    points.dedup();
    // The point whose folder is nearest is the one that is not hidden by another.
    points
        .into_iter()
        .filter_map(|point| {
            let (end_host, end) = follow(site, view, &point, subject).here();
            let rest = place.below(&end).filter(|_| end_host == host)?.to_vec();
            let path = point.join(&rest);
            let route = follow(site, view, &path, subject);
            let there = route.here() == (host.to_owned(), place.clone());
            there.then_some((end.as_bytes().len(), path))
        })
        .max_by_key(|(length, _)| *length)
        .map(|(_, path)| path)
}
