//! The join: what the layout declares and what was observed, under one set of host names.

use std::sync::Arc;

use crate::facts::HostFacts;
use crate::facts::tree::{Meta, NodeId, Tree};
use crate::identity::{IdMap, Subject};
use crate::layout::{Account, Group, GroupRef, IdRange, Layout, RunAs, Service, UserNs};
use crate::object::{Change, Object, Objects};
use crate::route::Layer;
use crate::text::shown;

/// A layout with the facts of its hosts. A copy shares the facts, so that a change can be supposed at little cost.
#[derive(Clone, Debug)]
pub struct Site {
    /// What is declared; empty where there is no layout.
    pub layout: Layout,
    facts: Vec<(String, Arc<HostFacts>)>,
    /// Changes that are supposed to have been made.
    changes: Vec<Change>,
    /// Layers that are supposed to be writable.
    writable: Vec<Layer>,
    /// The time at which it is judged: seconds since 1970 UTC.
    pub now: i64,
    /// How old what was seen may be, in seconds.
    pub max_age: Option<i64>,
}

impl Site {
    /// Joins facts to the hosts of a layout. Facts of a host that the layout does not name stay under their own name.
    ///
    /// # Errors
    /// The name of a host that two facts claim.
    pub fn join(layout: Layout, facts: Vec<HostFacts>) -> Result<Self, String> {
        facts.into_iter().try_fold(Self::declared(layout), Self::with)
    }

    fn declared(layout: Layout) -> Self {
        Self {
            layout,
            facts: Vec::new(),
            changes: Vec::new(),
            writable: Vec::new(),
            now: 0,
            max_age: None,
        }
    }

    /// Joins the facts of one more host.
    ///
    /// # Errors
    /// The host's name, if there are facts of it already.
    pub fn with(mut self, mut facts: HostFacts) -> Result<Self, String> {
        let name = self.host_named(&facts.name).unwrap_or(&facts.name).to_owned();
        if self.facts(&name).is_some() {
            return Err(name);
        }
        let declared = self.layout.host(&name);
        let HostFacts { tree, accounts, groups, .. } = &mut facts;
        tree.resolve_names(|written, group| match group {
            true => {
                let all = groups.iter().chain(declared.into_iter().flat_map(|host| &host.groups));
                all.into_iter().find(|group| group.name == written).map(|group| group.gid)
            }
            false => {
                let all =
                    accounts.iter().chain(declared.into_iter().flat_map(|host| &host.accounts));
                all.into_iter().find(|account| account.name == written).map(|account| account.uid)
            }
        });
        self.facts.push((name, Arc::new(facts)));
        Ok(self)
    }

    /// The site as it would be after one more change.
    pub fn supposing(&self, change: Change) -> Self {
        let mut site = self.clone();
        site.changes.push(change);
        site
    }

    /// The same places, as if all ids were the hosts' own: where a way leads does not depend on who may go it.
    pub(crate) fn without_namespaces(&self) -> Self {
        let mut site = self.clone();
        site.layout.services.iter_mut().for_each(|service| service.userns = None);
        site.layout.hosts.iter_mut().for_each(|host| host.idmap.clear());
        site
    }

    /// The site as it would be with a layer made writable.
    pub fn supposing_writable(&self, layer: &Layer) -> Self {
        let mut site = self.clone();
        site.writable.push(layer.clone());
        site
    }

    /// The layers that are supposed to have been made writable.
    pub(crate) fn writable_layers(&self) -> &[Layer] {
        &self.writable
    }

    /// Whether a layer is supposed to have been made writable.
    pub(crate) fn is_supposed_writable(&self, layer: &Layer) -> bool {
        self.writable.iter().any(|open| {
            open.host == layer.host && open.path == layer.path && open.kind == layer.kind
        })
    }

    /// The entries of a host, as they are or are supposed to be.
    pub fn objects(&self, host: &str) -> Option<Objects<'_>> {
        self.objects_of(host).map(|(_, objects)| objects)
    }

    /// One entry of a host.
    pub fn object(&self, host: &str, node: NodeId) -> Option<Object<'_>> {
        Some(self.objects(host)?.of(node))
    }

    /// Facts of a host, if it was observed.
    pub fn facts(&self, host: &str) -> Option<&HostFacts> {
        self.facts.iter().find(|(name, _)| name == host).map(|(_, facts)| &**facts)
    }

    /// All observed hosts with their facts.
    pub fn observed(&self) -> impl Iterator<Item = (&str, &HostFacts)> {
        self.facts.iter().map(|(name, facts)| (name.as_str(), &**facts))
    }

    /// What was seen of a host's files.
    pub fn tree(&self, host: &str) -> Option<&Tree> {
        self.facts(host).map(|facts| &facts.tree)
    }

    /// The entries of a host as they are or are supposed to be, with the host's name for as long as the site lives.
    pub fn objects_of(&self, host: &str) -> Option<(&str, Objects<'_>)> {
        let (name, facts) = self.observed().find(|(name, _)| *name == host)?;
        Some((name, Objects::new(&facts.tree, name, &self.changes)))
    }

    /// Whether the site knows a host of that name, declared or observed.
    pub fn knows(&self, host: &str) -> bool {
        self.layout.host(host).is_some() || self.facts(host).is_some()
    }

    /// The host that goes by a name or address: its own name, a declared address, or the first label of either.
    pub fn host_named(&self, written: &str) -> Option<&str> {
        let written = written.trim_matches(['[', ']']);
        let label = |name: &str| name.split('.').next().unwrap_or(name).to_ascii_lowercase();
        let is_number = written.parse::<std::net::IpAddr>().is_ok();
        let exact = |name: &str| name.eq_ignore_ascii_case(written);
        let hosts = || self.layout.hosts.iter();
        hosts()
            .find(|host| exact(&host.name) || host.addresses.iter().any(|a| exact(a)))
            .or_else(|| hosts().find(|host| !is_number && label(&host.name) == label(written)))
            .map(|host| host.name.as_str())
            .or_else(|| self.facts.iter().map(|(name, _)| name.as_str()).find(|name| exact(name)))
    }

    /// `root:keepers`, with numbers where a host has no name for them.
    pub fn owner_text(&self, host: &str, meta: &Meta) -> String {
        format!("{}:{}", self.user_text(host, meta.uid), self.group_text(host, meta.gid))
    }

    /// A user's name on a host, else its number.
    pub fn user_text(&self, host: &str, uid: u32) -> String {
        let named = self.accounts(host).find(|account| account.uid == uid);
        named.map_or_else(|| uid.to_string(), |account| crate::text::shown(account.name.as_bytes()))
    }

    /// A group's name on a host, else its number.
    pub fn group_text(&self, host: &str, gid: u32) -> String {
        let named = self.groups(host).find(|group| group.gid == gid);
        named.map_or_else(|| gid.to_string(), |group| crate::text::shown(group.name.as_bytes()))
    }

    /// The accounts of a host: observed ones first, then declared ones.
    pub fn accounts(&self, host: &str) -> impl Iterator<Item = &Account> {
        let observed = self.facts(host).into_iter().flat_map(|facts| &facts.accounts);
        observed.chain(self.layout.host(host).into_iter().flat_map(|host| &host.accounts))
    }

    /// The groups of a host: observed ones first, then declared ones.
    pub fn groups(&self, host: &str) -> impl Iterator<Item = &Group> {
        let observed = self.facts(host).into_iter().flat_map(|facts| &facts.groups);
        observed.chain(self.layout.host(host).into_iter().flat_map(|host| &host.groups))
    }

    /// The number of a group on a host.
    pub fn gid_of(&self, host: &str, group: &str) -> Option<u32> {
        self.groups(host).find(|known| known.name == group).map(|known| known.gid)
    }

    /// What a login as this account would be: its uid, primary gid and every group that lists it. An account whose
    /// primary group is not known is taken to have a group of its own number, as most systems make it.
    pub fn login(&self, host: &str, account: &Account) -> Subject {
        let groups = account.groups.iter().filter_map(|group| self.gid_of(host, group));
        Subject::new(account.uid, account.gid.unwrap_or(account.uid), groups)
    }

    /// The account of that name on a host.
    pub fn account(&self, host: &str, name: &str) -> Option<&Account> {
        self.accounts(host).find(|account| account.name == name)
    }

    /// Whom a service runs as, and a remark where that had to be assumed.
    ///
    /// An engine gives a container's process gid 0 where `user` names only a uid, and runs it as root where nothing is
    /// said; a program that runs straight on its host has the groups of its account.
    pub fn subject_of(&self, service: &Service) -> (Subject, Option<String>) {
        let further = service.groups.iter().filter_map(|group| match group {
            GroupRef::Gid(gid) => Some(*gid),
            GroupRef::Name(name) => self.gid_of(&service.host, name),
        });
        let contained = service.map.is_some();
        let login = |account: &Account| self.login(&service.host, account);
        let with = |subject: Subject, more: Vec<u32>| {
            Subject::new(subject.uid, subject.gid, subject.groups.into_iter().chain(more))
        };
        match &service.runs_as {
            RunAs::Numbers(uid, Some(gid)) => (Subject::new(*uid, *gid, further), None),
            RunAs::Numbers(uid, None) if contained => {
                let note = "no group is declared: the engine gives it gid 0".to_owned();
                (Subject::new(*uid, 0, further), Some(note))
            }
            RunAs::Numbers(uid, None) => {
                let account = self.accounts(&service.host).find(|account| account.uid == *uid);
                match account.map(login) {
                    Some(subject) => (with(subject, further.collect()), None),
                    None => (
                        Subject::new(*uid, *uid, further),
                        Some(format!("uid {uid} has no account; gid {uid} is assumed")),
                    ),
                }
            }
            RunAs::Account(name) => match self.account(&service.host, name).map(login) {
                Some(subject) => (with(subject, further.collect()), None),
                None => (
                    Subject::new(0, 0, further),
                    Some(format!("no account {name}: root is assumed")),
                ),
            },
            RunAs::Unset if !contained => match self.account(&service.host, &service.name) {
                Some(account) => (with(login(account), further.collect()), None),
                None => (
                    Subject::new(0, 0, further),
                    Some("runs_as is not declared: root is assumed".into()),
                ),
            },
            RunAs::Unset => (
                Subject::new(0, 0, further),
                Some("runs_as is not declared: root is assumed".into()),
            ),
        }
    }

    /// The user namespace of a service; `None` if it has the host's own.
    ///
    /// # Errors
    /// Why its ranges are not known.
    pub fn namespace_of(&self, service: &Service) -> Result<Option<IdMap>, String> {
        let host = service.host.as_str();
        let account = |name: &str| {
            let unknown =
                || format!("{host} is not known to have an account {}", shown(name.as_bytes()));
            self.account(host, name).ok_or_else(unknown)
        };
        let map = match &service.userns {
            None | Some(UserNs::Host) => return Ok(None),
            Some(UserNs::Ranges(map)) => map.clone(),
            Some(UserNs::Remap(name)) => {
                let of = |document| {
                    Ok::<_, String>(stacked(0, &self.subordinate(host, document, name)?))
                };
                IdMap { uids: of("subuid")?, gids: of("subgid")? }
            }
            Some(UserNs::Rootless(name)) => {
                let own = self.login(host, account(name)?);
                let of = |document, own| {
                    let mut ranges = vec![IdRange { inside: 0, outside: own, count: 1 }];
                    ranges.extend(stacked(1, &self.subordinate(host, document, name)?));
                    Ok::<_, String>(ranges)
                };
                IdMap { uids: of("subuid", own.uid)?, gids: of("subgid", own.gid)? }
            }
            Some(UserNs::KeepId(name)) => {
                let own = self.login(host, account(name)?);
                let of = |document, own| {
                    Ok::<_, String>(around(own, &self.subordinate(host, document, name)?))
                };
                IdMap { uids: of("subuid", own.uid)?, gids: of("subgid", own.gid)? }
            }
        };
        Ok(Some(map))
    }

    /// The subordinate ids of an account, as first id and count (`subuid(5)`, `subgid(5)`).
    fn subordinate(
        &self,
        host: &str,
        document: &str,
        name: &str,
    ) -> Result<Vec<(u32, u32)>, String> {
        let unknown = || format!("no {document} of {} is known on {host}", shown(name.as_bytes()));
        let text =
            self.facts(host).and_then(|facts| facts.document(document)).ok_or_else(unknown)?;
        let uid = self.account(host, name).map(|account| account.uid.to_string());
        let ranges: Vec<(u32, u32)> = text
            .text
            .lines()
            .filter_map(|line| {
                let fields: Vec<&str> = line.trim().split(':').collect();
                let [owner, first, count] = fields[..] else { return None };
                let mine = owner == name || Some(owner) == uid.as_deref();
                Some((first.parse().ok()?, count.parse().ok()?)).filter(|_| mine)
            })
            .collect();
        if ranges.is_empty() { Err(unknown()) } else { Ok(ranges) }
    }
}

/// Runs of ids under consecutive numbers of the inside.
fn stacked(first: u32, runs: &[(u32, u32)]) -> Vec<IdRange> {
    let mut inside = first;
    let mut ranges = Vec::new();
    for &(outside, count) in runs {
        ranges.push(IdRange { inside, outside, count });
        inside = inside.saturating_add(count);
    }
    ranges
}

/// One id that means itself, with the runs numbered around it.
fn around(own: u32, runs: &[(u32, u32)]) -> Vec<IdRange> {
    let mut ranges = vec![IdRange { inside: own, outside: own, count: 1 }];
    for range in stacked(0, runs) {
        let before = own.saturating_sub(range.inside).min(range.count);
        let after = range.count - before;
        let rest = range.inside + before;
        // What would stand at the own number or behind it moves up by one.
        let pieces = [
            IdRange { count: before, ..range },
            IdRange {
                inside: rest.saturating_add(1),
                outside: range.outside + before,
                count: after,
            },
        ];
        ranges.extend(pieces.into_iter().filter(|piece| piece.count > 0));
    }
    ranges
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_kept_id_stands_among_the_subordinate_ones() {
        let map = IdMap::both(around(1000, &[(100_000, 900), (500_000, 200)]));
        for (inside, outside) in [
            (0, 100_000),
            (899, 100_899),
            (900, 500_000),
            (999, 500_099),
            (1000, 1000),
            (1001, 500_100),
        ] {
            let subject = map.shift(&Subject::new(inside, inside, [])).unwrap();
            assert_eq!(subject.uid, outside, "{inside}");
        }
        assert_eq!(map.shift(&Subject::new(1101, 0, [])), Err(1101));
    }
}
