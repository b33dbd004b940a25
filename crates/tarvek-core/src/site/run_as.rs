//! Whom a service runs as, and in which user namespace.

use crate::facts::host_report::{HostReport, Subordinate};
use crate::kernel::subject::{IdMap, IdRange, NOBODY, Subject};
use crate::layout::service::{GroupRef, RunAs, Service, UserNs};
use crate::site::join::Site;
use crate::words::name::Name;
use crate::words::terms::Account;

impl Site {
    /// Whom a service runs as, and a remark where that had to be assumed, or is not known.
    ///
    /// An engine gives a container's process gid 0 where `user` names only a uid, and runs it as
    /// root where nothing is said; a program that runs straight on its host has the groups of its
    /// account. Who goes by a name that the host does not know is somebody unknown.
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
                let account = self.account_numbered(&service.host, *uid);
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
                None if *name == *"root" => (Subject::new(0, 0, further), None),
                None => {
                    let why = self.unresolved_account(service, name);
                    (Subject::unknown(why.as_str()), Some(why))
                }
            },
            RunAs::Unset if !contained => match self.account(&service.host, &service.name) {
                Some(account) => (with(login(account), further.collect()), None),
                None => undeclared(service, further),
            },
            RunAs::Unset => undeclared(service, further),
        }
    }

    /// That nobody knows whom a service runs as, in words.
    fn unresolved_account(&self, service: &Service, name: &Name) -> String {
        let (host, service) = (&service.host, &service.name);
        format!("no account {name} is known on {host}, so what {service} may do is unknown")
    }

    /// The account by which a service is declared to run and which its host does not have.
    pub fn missing_account<'s>(&self, service: &'s Service) -> Option<&'s Name> {
        match &service.runs_as {
            RunAs::Account(name) if *name != *"root" => {
                self.account(&service.host, name).is_none().then_some(name)
            }
            _ => None,
        }
    }

    /// The user namespace of a service; `None` if it has the host's own.
    ///
    /// # Errors
    /// Why its ranges are not known.
    pub fn namespace_of(&self, service: &Service) -> Result<Option<IdMap>, String> {
        let host = &service.host;
        let account = |name: &Name| {
            let unknown = || format!("{host} is not known to have an account {name}");
            self.account(host, name).ok_or_else(unknown)
        };
        let uids = |name: &Name| self.subordinate(host, "subuid", |t| &t.subordinate_uids, name);
        let gids = |name: &Name| self.subordinate(host, "subgid", |t| &t.subordinate_gids, name);
        let map = match &service.userns {
            None | Some(UserNs::Host) => return Ok(None),
            Some(UserNs::Ranges(map)) => map.clone(),
            Some(UserNs::Remap(name)) => {
                IdMap { uids: stacked(0, &uids(name)?), gids: stacked(0, &gids(name)?) }
            }
            Some(UserNs::Rootless(name)) => {
                let own = self.login(host, account(name)?);
                let below = |own, runs: &[Run]| {
                    let mut ranges = vec![IdRange { inside: 0, outside: own, count: 1 }];
                    ranges.extend(stacked(1, runs));
                    ranges
                };
                IdMap { uids: below(own.uid, &uids(name)?), gids: below(own.gid, &gids(name)?) }
            }
            Some(UserNs::KeepId(name)) => {
                let own = self.login(host, account(name)?);
                IdMap { uids: around(own.uid, &uids(name)?), gids: around(own.gid, &gids(name)?) }
            }
        };
        Ok(Some(map))
    }

    /// The subordinate ids of an account (`subuid(5)`, `subgid(5)`).
    fn subordinate(
        &self,
        host: &Name,
        file: &str,
        all: impl Fn(&HostReport) -> &[Subordinate],
        name: &Name,
    ) -> Result<Vec<Run>, String> {
        let facts = self.facts(host).map_or(&[][..], |facts| all(&facts.told));
        let uid = self.account(host, name).map(|account| account.uid.to_string());
        let mine = |run: &&Subordinate| {
            run.owner == *name || uid.as_deref().is_some_and(|uid| run.owner == *uid)
        };
        let runs: Vec<Run> = facts.iter().filter(mine).map(|run| (run.first, run.count)).collect();
        if runs.is_empty() {
            return Err(format!("no {file} of {name} is known on {host}"));
        }
        Ok(runs)
    }
}

/// A service whose account its image or its unit decides.
fn undeclared(
    service: &Service,
    groups: impl IntoIterator<Item = u32>,
) -> (Subject, Option<String>) {
    let why = format!("runs_as of {} is not declared", service.name);
    let remark = format!("{why}: both root and nobody (uid {NOBODY}) are asked");
    (Subject::root_or_nobody(groups, why), Some(remark))
}

/// A first id, and how many follow.
type Run = (u32, u32);

/// Runs of ids under consecutive numbers of the inside.
pub(crate) fn stacked(first: u32, runs: &[Run]) -> Vec<IdRange> {
    let mut inside = first;
    let mut ranges = Vec::new();
    for &(outside, count) in runs {
        ranges.push(IdRange { inside, outside, count });
        inside = inside.saturating_add(count);
    }
    ranges
}

/// One id that means itself, with the runs numbered around it.
pub(crate) fn around(own: u32, runs: &[Run]) -> Vec<IdRange> {
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
