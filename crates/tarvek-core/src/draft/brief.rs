//! The brief: what an administrator wants, before there is a layout.

use std::collections::{HashMap, HashSet};

use crate::layout::intake::Want;
use crate::layout::service::ServiceRole;
use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::terms::{Access, Kind, Origin, Os};
use crate::words::word::words;

words! {
    /// A filesystem that a layout can be drafted for.
    pub enum Filesystem {
        /// Datasets, snapshots, checksums.
        Zfs = "zfs",
        /// Subvolumes, snapshots, checksums.
        Btrfs = "btrfs",
        /// One filesystem per volume.
        Xfs = "xfs",
        /// One filesystem per volume.
        Ext4 = "ext4",
    }
}

impl Filesystem {
    /// Whether a folder can be a dataset of its own, with its own snapshots.
    pub fn has_datasets(self) -> bool {
        matches!(self, Self::Zfs | Self::Btrfs)
    }
}

words! {
    /// How an application host reaches the storage.
    pub enum Reach {
        Nfs = "nfs",
        Smb = "smb",
    }
}

words! {
    /// What runs the services.
    pub enum Containers {
        /// Nothing: they run on their host.
        None = "none",
        /// An engine that reads Compose files.
        Docker = "docker",
        /// Podman under systemd.
        Podman = "podman",
    }
}

/// The storage host.
#[derive(Clone, Debug, PartialEq)]
pub struct Storage {
    pub host: Name,
    /// Under which others reach it.
    pub address: Name,
    /// The pool or volume.
    pub pool: Name,
    /// Where it is mounted.
    pub at: AbsPath,
    /// What it is made of.
    pub filesystem: Filesystem,
    /// Another pool for downloads on their way, and where the brief says so.
    pub intake_pool: Option<(Name, Origin)>,
    /// The network of those who may mount over NFS; each host by itself unless given.
    pub subnet: Option<Name>,
    /// Whether SELinux enforces.
    pub selinux: bool,
}

/// An application host other than the storage host.
#[derive(Clone, Debug, PartialEq)]
pub struct Apps {
    pub host: Name,
    /// Under which the storage host sees it.
    pub address: Name,
    /// How it reaches the storage.
    pub reach: Reach,
    /// Whether SELinux enforces.
    pub selinux: bool,
    /// Where the brief says so.
    pub origin: Origin,
}

/// A service that is wanted.
#[derive(Clone, Debug, PartialEq)]
pub struct Wanted {
    /// Its name, and its account's.
    pub name: Name,
    /// What it does.
    pub roles: Vec<ServiceRole>,
    /// Where it runs.
    pub host: Name,
    /// Its uid; the gid of a serving one is the same.
    pub id: u32,
    /// What it handles; everything that fits unless said.
    pub kinds: Option<Vec<Kind>>,
    /// What it is to be allowed, if the brief insists.
    pub access: Option<Access>,
    /// Ports to publish.
    pub ports: Vec<String>,
    /// Where the brief says so.
    pub origin: Origin,
}

impl Wanted {
    /// Whether it has a role.
    pub fn does(&self, role: ServiceRole) -> bool {
        self.roles.contains(&role)
    }

    /// Whether its job needs writing.
    pub fn writes(&self) -> bool {
        self.does(ServiceRole::Fetch) || self.does(ServiceRole::Sort)
    }
}

/// A person with an account.
#[derive(Clone, Debug, PartialEq)]
pub struct Person {
    pub name: Name,
    pub uid: u32,
    /// Where the brief says so.
    pub origin: Origin,
}

/// A group of accounts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Team {
    pub name: Name,
    pub gid: u32,
    /// Where the brief says so.
    pub origin: Origin,
}

/// A machine that people watch on.
#[derive(Clone, Debug, PartialEq)]
pub struct Client {
    pub host: Name,
    /// Its system.
    pub os: Os,
    /// Who uses it.
    pub person: Option<Name>,
    /// Where the brief says so.
    pub origin: Origin,
}

/// Everything that is wanted.
#[derive(Clone, Debug, PartialEq)]
pub struct Brief {
    /// The site's name.
    pub site: Name,
    /// The storage host.
    pub storage: Storage,
    /// Other hosts that run services.
    pub apps: Vec<Apps>,
    /// What is to be kept.
    pub kinds: Vec<Kind>,
    /// Of those, what can't be replaced.
    pub originals: Vec<(Kind, Origin)>,
    /// Kinds that need snapshots or a quota of their own.
    pub apart: Vec<(Kind, Origin)>,
    /// How downloads get into libraries.
    pub want: (Want, Origin),
    /// What runs the services.
    pub containers: Containers,
    /// Whether rights are given by ACLs, or by one group and mode bits.
    pub acls: bool,
    /// Where what can't be replaced is backed up to.
    pub backup: Option<String>,
    pub services: Vec<Wanted>,
    /// The group of people who may add.
    pub keepers: Team,
    /// The group of people who only watch.
    pub viewers: Team,
    /// The group of services that write.
    pub helpers: Team,
    /// People who may add.
    pub add: Vec<Person>,
    /// People who only watch.
    pub watch: Vec<Person>,
    /// Their machines.
    pub clients: Vec<Client>,
}

impl Brief {
    /// The kinds that a service handles: downloads only what can be fetched again.
    pub fn kinds_of(&self, service: &Wanted) -> Vec<Kind> {
        match &service.kinds {
            Some(kinds) => kinds.clone(),
            None if service.does(ServiceRole::Serve) => self.kinds.clone(),
            None => self.kinds.iter().copied().filter(|kind| !self.is_original(*kind)).collect(),
        }
    }

    /// Whether a kind can't be replaced.
    pub fn is_original(&self, kind: Kind) -> bool {
        self.originals.iter().any(|(original, _)| *original == kind)
    }

    /// Whether a kind is to have a dataset of its own, where the filesystem has such things.
    pub fn is_apart(&self, kind: Kind) -> bool {
        self.is_original(kind) || self.apart.iter().any(|(apart, _)| *apart == kind)
    }

    /// How a host reaches the storage; `None` is the storage host itself.
    pub fn apps_on(&self, host: &Name) -> Option<&Apps> {
        self.apps.iter().find(|apps| apps.host == *host)
    }

    /// Kinds that downloads are made of: those that somebody fetches or sorts.
    pub fn fetched(&self) -> Vec<Kind> {
        let handled = |kind: &Kind| {
            let by = |service: &&Wanted| service.writes() && self.kinds_of(service).contains(kind);
            self.services.iter().any(|service| by(&service))
        };
        self.kinds.iter().copied().filter(handled).collect()
    }
}

/// Two things of a brief that can't both be had.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Contradiction {
    /// Where the brief says the second of them.
    pub origin: Origin,
    /// What does not go together, and why.
    pub message: String,
    /// What to choose between.
    pub choose: String,
}

/// Everything in a brief that can't be had together.
pub fn contradictions(brief: &Brief) -> Vec<Contradiction> {
    let mut found = Vec::new();
    let mut add = |origin: Origin, message: String, choose: String| {
        found.push(Contradiction { origin, message, choose });
    };
    let (want, want_at) = brief.want;
    let writers: Vec<&Wanted> = brief.services.iter().filter(|s| s.writes()).collect();
    if let Some((pool, at)) = &brief.storage.intake_pool
        && *pool != brief.storage.pool
        && want != Want::Copy
    {
        let word = if want == Want::Hardlink { "hard links" } else { "renames" };
        add(
            *at,
            format!(
                "{word} are wanted, but downloads go to the pool {pool} and libraries to {}: no \
                 link crosses a filesystem",
                brief.storage.pool
            ),
            format!(
                "take out intake_pool, so that both lie in {}, or write want = \"copy\"",
                brief.storage.pool
            ),
        );
    }
    for (list, kinds) in [("originals", &brief.originals), ("apart", &brief.apart)] {
        for (kind, at) in kinds.iter().filter(|(kind, _)| !brief.kinds.contains(kind)) {
            add(
                *at,
                format!("{} are in {list}, but are not among the kinds", kind.word()),
                format!("add {:?} to kinds, or take it out of {list}", kind.word()),
            );
        }
    }
    for service in &brief.services {
        of_service(brief, service, &mut add);
    }
    if want == Want::Hardlink
        && want_at != Origin::default()
        && !writers.iter().any(|s| s.does(ServiceRole::Sort))
    {
        add(
            want_at,
            "hard links are wanted, but no service sorts: nobody would make them".into(),
            "add a service with role = \"sort\", or take out want".into(),
        );
    }
    clashes(brief, &mut add);
    for client in &brief.clients {
        let known = brief.add.iter().chain(&brief.watch);
        if let Some(person) = &client.person
            && !known.clone().any(|p| p.name == *person)
        {
            let names: Vec<String> = known.map(|p| p.name.to_string()).collect();
            add(
                client.origin,
                format!("{} is {person}'s, who is not among the people", client.host),
                format!("add {person} to people, or write one of: {}", names.join(", ")),
            );
        }
    }
    found
}

/// What is wanted of a service and can't be had.
fn of_service(brief: &Brief, service: &Wanted, add: &mut impl FnMut(Origin, String, String)) {
    let (want, _) = brief.want;
    let name = &service.name;
    for kind in service.kinds.iter().flatten().filter(|kind| !brief.kinds.contains(kind)) {
        add(
            service.origin,
            format!("{name} handles {}, which are not among the kinds", kind.word()),
            format!("add {:?} to kinds, or take it out of {name}", kind.word()),
        );
    }
    if service.writes() && service.access == Some(Access::ReadOnly) {
        let role = if service.does(ServiceRole::Sort) { "sorts" } else { "fetches" };
        add(
            service.origin,
            format!("{name} {role}, and is to read only: it has to make files and folders"),
            format!("write access = \"rw\" for {name}, or role = \"serve\""),
        );
    }
    if !service.writes() && service.access == Some(Access::ReadWrite) {
        add(
            service.origin,
            format!(
                "{name} only serves, and is to write: a server that can write can delete a \
                 library"
            ),
            format!("take out access of {name}, or give it the role sort too"),
        );
    }
    if service.id == 0 {
        add(
            service.origin,
            format!("{name} is to run as root, who may do anything"),
            "give it an id of its own, for example 840".into(),
        );
    }
    if service.writes() && brief.storage.filesystem.has_datasets() && want != Want::Copy {
        for kind in brief.kinds_of(service).into_iter().filter(|kind| brief.is_apart(*kind)) {
            let list = if brief.is_original(kind) { "originals" } else { "apart" };
            add(
                service.origin,
                format!(
                    "{name} fetches or sorts {}, which get a dataset of their own: no link or \
                     rename crosses into it",
                    kind.word()
                ),
                format!(
                    "take {:?} out of {list} or give {name} other kinds, or write want \
                     = \"copy\"",
                    kind.word()
                ),
            );
        }
    }
    if service.writes()
        && want != Want::Copy
        && brief.apps_on(&service.host).is_some_and(|apps| apps.reach == Reach::Smb)
    {
        add(
            service.origin,
            format!("{name} writes over SMB, where nobody can promise hard links and renames"),
            format!(
                "reach the storage over nfs from {}, run {name} on {}, or write want \
                 = \"copy\"",
                service.host, brief.storage.host
            ),
        );
    }
}

/// Numbers and names that two things claim.
fn clashes(brief: &Brief, add: &mut impl FnMut(Origin, String, String)) {
    let people = brief.add.iter().chain(&brief.watch);
    let (mut uids, mut names) = (HashMap::new(), HashSet::new());
    let accounts = people
        .map(|p| (p.uid, &p.name, p.origin))
        .chain(brief.services.iter().map(|s| (s.id, &s.name, s.origin)));
    for (uid, name, origin) in accounts {
        if let Some(other) = uids.get(&uid) {
            add(
                origin,
                format!(
                    "{name} and {other} both have the uid {uid}: what one may do, the other may"
                ),
                format!("give {name} or {other} another number"),
            );
        }
        if !names.insert(name) {
            add(origin, format!("two accounts are called {name}"), "give one another name".into());
        }
        if uid == 65534 {
            add(
                origin,
                format!("{name} has the uid 65534, which squashed and unknown users get"),
                "give it a number of its own".into(),
            );
        }
        uids.entry(uid).or_insert(name);
    }
    let teams = [&brief.keepers, &brief.viewers, &brief.helpers];
    for (n, team) in teams.iter().enumerate() {
        for other in &teams[..n] {
            if team.gid == other.gid || team.name == other.name {
                // A number that nobody wrote has no place.
                let written = |team: &&&Team| team.origin.line > 1;
                let place =
                    [team, other].into_iter().find(written).map_or(team.origin, |team| team.origin);
                add(
                    place,
                    format!("the groups {} and {} share a name or number", team.name, other.name),
                    "give one of them another".into(),
                );
            }
        }
        // A serving account's own group has its uid as number.
        if let Some(service) = brief.services.iter().find(|s| !s.writes() && s.id == team.gid) {
            add(
                if team.origin.line > 1 { team.origin } else { service.origin },
                format!("the group {} has the number of {}'s own group", team.name, service.name),
                format!("give {} or {} another number", team.name, service.name),
            );
        }
    }
    let mut hosts = HashSet::from([&brief.storage.host]);
    let others = brief.apps.iter().map(|a| (&a.host, a.origin));
    for (host, origin) in others.chain(brief.clients.iter().map(|c| (&c.host, c.origin))) {
        if !hosts.insert(host) {
            add(origin, format!("two hosts are called {host}"), "give one another name".into());
        }
    }
    let mut addresses = HashMap::from([(&brief.storage.address, &brief.storage.host)]);
    for apps in &brief.apps {
        if let Some(other) = addresses.insert(&apps.address, &apps.host) {
            add(
                apps.origin,
                format!("{other} and {} have the same address {}", apps.host, apps.address),
                format!(
                    "write under which address each is reached: address = \"{}.lan\"",
                    apps.host
                ),
            );
        }
    }
}
