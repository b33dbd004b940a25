//! What a finding is about, and what it stands in the way of.

use std::fmt;

use crate::words::name::Name;
use crate::words::path::AbsPath;

/// What a finding is about.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum About {
    /// The whole site.
    Site(Name),
    Host(Name),
    Share(Name),
    Service(Name),
    /// An account of that name on every host that has it.
    Account(Name),
    Group(Name),
    Folder(AbsPath),
    Library {
        service: Name,
        library: Name,
    },
    Intake {
        service: Name,
        intake: Name,
    },
    Mount {
        host: Name,
        at: AbsPath,
    },
    Dataset {
        host: Name,
        dataset: Name,
    },
}

impl fmt::Display for About {
    /// `service:lantern library:Films`, escaped.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Site(name) => write!(f, "site:{name}"),
            Self::Host(name) => write!(f, "host:{name}"),
            Self::Share(name) => write!(f, "share:{name}"),
            Self::Service(name) => write!(f, "service:{name}"),
            Self::Account(name) => write!(f, "account:{name}"),
            Self::Group(name) => write!(f, "group:{name}"),
            Self::Folder(path) => write!(f, "folder:{path}"),
            Self::Library { service, library } => write!(f, "service:{service} library:{library}"),
            Self::Intake { service, intake } => write!(f, "service:{service} intake:{intake}"),
            Self::Mount { host, at } => write!(f, "host:{host} mount:{at}"),
            Self::Dataset { host, dataset } => write!(f, "host:{host} dataset:{dataset}"),
        }
    }
}

impl About {
    /// The same in words, as a heading has it: `service lantern library Films`.
    pub fn words(&self) -> String {
        match self {
            Self::Site(name) => format!("site {name}"),
            Self::Host(name) => format!("host {name}"),
            Self::Share(name) => format!("share {name}"),
            Self::Service(name) => format!("service {name}"),
            Self::Account(name) => format!("account {name}"),
            Self::Group(name) => format!("group {name}"),
            Self::Folder(path) => format!("folder {path}"),
            Self::Library { service, library } => format!("service {service} library {library}"),
            Self::Intake { service, intake } => format!("service {service} intake {intake}"),
            Self::Mount { host, at } => format!("host {host} mount {at}"),
            Self::Dataset { host, dataset } => format!("host {host} dataset {dataset}"),
        }
    }
}

/// What can't do its job, or not as it should, because of a finding.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Affected {
    Library(Name),
    Intake(Name),
}

impl fmt::Display for Affected {
    /// `library:Films`, escaped.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Library(name) => write!(f, "library:{name}"),
            Self::Intake(name) => write!(f, "intake:{name}"),
        }
    }
}
