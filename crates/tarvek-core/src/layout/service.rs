//! Programs that touch media, and their libraries.

use std::fmt;

use crate::kernel::subject::IdMap;
use crate::layout::mapping::{Declared, Mapping};
use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::prefer::Prefer;
use crate::words::terms::{Kind, Origin};
use crate::words::word::words;

words! {
    /// What a service is for.
    pub enum ServiceRole {
        /// Scans libraries and plays them.
        Serve = "serve",
        /// Brings files in.
        Fetch = "fetch",
        /// Files them into libraries.
        Sort = "sort",
    }
}

/// Whom a service runs as, as declared.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum RunAs {
    /// Nothing is said.
    Unset,
    /// A uid, and a gid where it is given.
    Numbers(u32, Option<u32>),
    /// An account of its host.
    Account(Name),
}

/// A program that runs under an account and touches media.
#[derive(Clone, Debug, PartialEq)]
pub struct Service {
    pub name: Name,
    /// The host it runs on.
    pub host: Name,
    /// At least one.
    pub roles: Vec<ServiceRole>,
    pub runs_as: RunAs,
    /// Further groups.
    pub groups: Vec<GroupRef>,
    /// 022 unless declared.
    pub umask: Option<u16>,
    /// Paths of its host whose mounts are there before it starts (`RequiresMountsFor=`,
    /// `systemd.unit(5)`).
    pub waits_for: Vec<AbsPath>,
    /// Its user namespace, if it has one.
    pub userns: Option<UserNs>,
    /// `None` means it runs straight on its host.
    pub map: Option<Vec<Mapping>>,
    /// Paths that other services name, and what it takes them for.
    pub translate: Vec<Translation>,
    /// Published ports, as the layout writes them.
    pub ports: Vec<String>,
    pub network: Option<String>,
    /// Its configuration folder on the host.
    pub config: Option<AbsPath>,
    /// The volume of the engine that holds its configuration, where no folder of the host does.
    pub config_volume: Option<Name>,
    /// Where that is backed up to.
    pub backup: Option<String>,
    /// What it serves.
    pub libraries: Vec<Library>,
    pub origin: Origin,
}

impl Service {
    /// One of which nothing is known but that it serves, straight on its host.
    pub fn straight(name: Name) -> Self {
        Self {
            name,
            host: Name::default(),
            roles: vec![ServiceRole::Serve],
            runs_as: RunAs::Unset,
            groups: Vec::new(),
            umask: None,
            waits_for: Vec::new(),
            userns: None,
            map: None,
            translate: Vec::new(),
            ports: Vec::new(),
            network: None,
            config: None,
            config_volume: None,
            backup: None,
            libraries: Vec::new(),
            origin: Origin::default(),
        }
    }

    /// Whether it does nothing but serve, so that reading is all it needs.
    pub fn only_serves(&self) -> bool {
        self.roles.iter().all(|role| *role == ServiceRole::Serve)
    }

    /// Its mappings; none if it runs straight on its host.
    pub fn maps(&self) -> &[Mapping] {
        self.map.as_deref().unwrap_or(&[])
    }
}

/// A path that another service names, and what it is in a service's own view.
#[derive(Clone, Debug, PartialEq)]
pub struct Translation {
    /// The service that names it.
    pub service: Name,
    /// The path as that service sees it.
    pub from: Declared,
    /// The same as the service at hand sees it.
    pub to: Declared,
}

/// A service's user namespace (`user_namespaces(7)`).
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum UserNs {
    /// The host's own.
    Host,
    /// The engine runs as this account: root inside is the account, the others are its subordinate
    /// ids.
    Rootless(Name),
    /// As `Rootless`, but the account's own number means itself inside as well.
    KeepId(Name),
    /// The engine runs as root and shifts everything to the subordinate ids of this account.
    Remap(Name),
    Ranges(IdMap),
}

impl fmt::Display for UserNs {
    /// As the layout writes it.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Host => f.write_str("host"),
            Self::Rootless(account) => write!(f, "rootless:{}", account.raw()),
            Self::KeepId(account) => write!(f, "keep-id:{}", account.raw()),
            Self::Remap(account) => write!(f, "remap:{}", account.raw()),
            Self::Ranges(IdMap { uids, gids }) => {
                let both = [("u:", uids), ("g:", gids)];
                let alike = uids == gids;
                let lists = if alike { &[("", uids)][..] } else { &both };
                let ranges = lists
                    .iter()
                    .flat_map(|(mark, list)| list.iter().map(move |range| (mark, range)));
                for (n, (mark, range)) in ranges.enumerate() {
                    let comma = if n == 0 { "" } else { "," };
                    write!(f, "{comma}{mark}{}:{}:{}", range.inside, range.outside, range.count)?;
                }
                Ok(())
            }
        }
    }
}

/// A group by number or by name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum GroupRef {
    Gid(u32),
    /// A group of the host.
    Name(Name),
}

/// A library as its service declares it.
#[derive(Clone, Debug, PartialEq)]
pub struct Library {
    pub name: Name,
    pub kind: Kind,
    /// Its root folders, as the service sees them. At least one.
    pub roots: Vec<Declared>,
    /// It can't be replaced.
    pub original: bool,
    /// Where it is backed up to.
    pub backup: Option<String>,
    /// Which version to keep.
    pub prefer: Prefer,
    pub origin: Origin,
}
