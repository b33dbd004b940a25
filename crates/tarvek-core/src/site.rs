//! The join: what the layout declares and what was observed, under one set of host names.

use crate::facts::HostFacts;
use crate::facts::tree::{Meta, Tree};
use crate::identity::Subject;
use crate::layout::{Account, GroupRef, Layout, RunAs, Service};

/// A layout with the facts of its hosts.
#[derive(Debug)]
pub struct Site {
    /// What is declared; empty where there is no layout.
    pub layout: Layout,
    facts: Vec<(String, HostFacts)>,
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
        facts
            .into_iter()
            .try_fold(Self { layout, facts: Vec::new(), now: 0, max_age: None }, Self::with)
    }

    /// Joins the facts of one more host.
    ///
    /// # Errors
    /// The host's name, if there are facts of it already.
    pub fn with(mut self, facts: HostFacts) -> Result<Self, String> {
        let name = self.host_named(&facts.name).unwrap_or(&facts.name).to_owned();
        if self.facts(&name).is_some() {
            return Err(name);
        }
        self.facts.push((name, facts));
        Ok(self)
    }

    /// Facts of a host, if it was observed.
    pub fn facts(&self, host: &str) -> Option<&HostFacts> {
        self.facts.iter().find(|(name, _)| name == host).map(|(_, facts)| facts)
    }

    /// All observed hosts with their facts.
    pub fn observed(&self) -> impl Iterator<Item = (&str, &HostFacts)> {
        self.facts.iter().map(|(name, facts)| (name.as_str(), facts))
    }

    /// What was seen of a host's files.
    pub fn tree(&self, host: &str) -> Option<&Tree> {
        self.facts(host).map(|facts| &facts.tree)
    }

    /// As [`Site::tree`], with the host's name for as long as the site lives.
    pub fn observed_tree(&self, host: &str) -> Option<(&str, &Tree)> {
        self.observed().find(|(name, _)| *name == host).map(|(name, facts)| (name, &facts.tree))
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
        let observed = self.facts(host).into_iter().flat_map(|facts| &facts.groups);
        let declared = self.layout.host(host).into_iter().flat_map(|host| &host.groups);
        let named = observed.chain(declared).find(|group| group.gid == gid);
        named.map_or_else(|| gid.to_string(), |group| crate::text::shown(group.name.as_bytes()))
    }

    /// The accounts of a host: observed ones first, then declared ones.
    pub fn accounts(&self, host: &str) -> impl Iterator<Item = &Account> {
        let observed = self.facts(host).into_iter().flat_map(|facts| &facts.accounts);
        observed.chain(self.layout.host(host).into_iter().flat_map(|host| &host.accounts))
    }

    /// The number of a group on a host.
    pub fn gid_of(&self, host: &str, group: &str) -> Option<u32> {
        let observed = self.facts(host).into_iter().flat_map(|facts| &facts.groups);
        let declared = self.layout.host(host).into_iter().flat_map(|host| &host.groups);
        observed.chain(declared).find(|g| g.name == group).map(|g| g.gid)
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
}
