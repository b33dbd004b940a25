//! A whole declared site.
//!
//! `tarvek-formats` reads the text and makes it; every name that refers to a host, share or service
//! is known to exist by then. Paths that only a judgement can refuse (`path/not-absolute`) stay as
//! [`Declared`](crate::layout::mapping::Declared).

use crate::layout::adopted::Adopted;
use crate::layout::folder::Folder;
use crate::layout::host::Host;
use crate::layout::intake::Intake;
use crate::layout::mount::{Mount, MountSource};
use crate::layout::service::Service;
use crate::layout::settings::{RuleSettings, WasteSettings};
use crate::layout::share::Share;
use crate::words::name::Name;

/// A whole declared site, everything in the order of the file.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Layout {
    /// The site's name.
    pub site: Name,
    pub hosts: Vec<Host>,
    pub shares: Vec<Share>,
    pub mounts: Vec<Mount>,
    pub services: Vec<Service>,
    pub intakes: Vec<Intake>,
    pub folders: Vec<Folder>,
    pub rules: RuleSettings,
    pub waste: WasteSettings,
    pub adopted: Adopted,
}

impl Layout {
    /// The host of that name.
    pub fn host(&self, name: &Name) -> Option<&Host> {
        self.hosts.iter().find(|host| host.name == *name)
    }

    /// The service of that name.
    pub fn service(&self, name: &Name) -> Option<&Service> {
        self.services.iter().find(|service| service.name == *name)
    }

    /// The share of that name.
    pub fn share(&self, name: &Name) -> Option<&Share> {
        self.shares.iter().find(|share| share.name == *name)
    }

    /// What a mount's source goes by: the share's name, or the source itself.
    pub fn source_name<'a>(&self, from: &'a MountSource) -> &'a Name {
        let (MountSource::Share(name) | MountSource::Literal(name)) = from;
        name
    }

    /// A mount's source as the layout writes it: `HOST:SHARE`, or the source itself.
    pub fn source(&self, from: &MountSource) -> Name {
        match from {
            MountSource::Share(name) => match self.share(name) {
                Some(share) => format!("{}:{}", share.host.raw(), name.raw()).into(),
                None => name.clone(),
            },
            MountSource::Literal(source) => source.clone(),
        }
    }
}
