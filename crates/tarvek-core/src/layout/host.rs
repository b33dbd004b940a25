//! Hosts, and the filesystems that they keep.

use crate::kernel::subject::IdRange;
use crate::layout::mapping::Mapping;
use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::terms::{Account, Group, Origin, Os};
use crate::words::word::words;

words! {
    /// What a host is for.
    pub enum HostRole {
        /// Holds the media.
        Storage = "storage",
        /// Runs services.
        Apps = "apps",
        /// Only watches.
        Client = "client",
    }
}

/// A machine, or a system container inside one.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Host {
    pub name: Name,
    /// At least one.
    pub roles: Vec<HostRole>,
    pub os: Os,
    /// Names and numbers under which others reach it.
    pub addresses: Vec<Name>,
    /// The host whose system container this is.
    pub inside: Option<Name>,
    /// Folders that come from the outer host.
    pub map: Vec<Mapping>,
    /// Shifted ids of a system container.
    pub idmap: Vec<IdRange>,
    /// Whether SELinux enforces.
    pub selinux: Option<bool>,
    /// Whether its NFS server looks the groups of a user up itself (`manage-gids` in
    /// `nfs.conf(5)`).
    pub manage_gids: bool,
    pub datasets: Vec<Dataset>,
    pub accounts: Vec<Account>,
    pub groups: Vec<Group>,
    pub origin: Origin,
}

impl Host {
    /// The uid that the layout gives an account of that name here.
    pub fn uid_of(&self, account: &Name) -> Option<u32> {
        let declared = self.accounts.iter().find(|known| known.name == *account);
        declared.map(|account| account.uid).or((*account == "root").then_some(0))
    }

    /// The gid that the layout gives a group of that name here; an account's own group goes by the
    /// account's name.
    pub fn gid_of(&self, group: &Name) -> Option<u32> {
        let declared = self.groups.iter().find(|known| known.name == *group).map(|group| group.gid);
        let own = self.accounts.iter().find(|account| account.name == *group);
        declared
            .or_else(|| own.map(|account| account.gid.unwrap_or(account.uid)))
            .or((*group == "root").then_some(0))
    }
}

/// A separately mounted filesystem on a storage host.
#[derive(Clone, Debug, PartialEq)]
pub struct Dataset {
    /// As the filesystem names it, `loft/media`.
    pub name: Name,
    /// Its mount point.
    pub at: AbsPath,
    /// `zfs`, `btrfs`, `xfs`, `ext4`, …
    pub filesystem: Option<Name>,
    /// Bytes.
    pub quota: Option<u64>,
    /// Properties as the filesystem names them.
    pub properties: Vec<(String, String)>,
    pub origin: Origin,
}

impl Dataset {
    /// What a property is declared to be.
    pub fn property(&self, name: &str) -> Option<&str> {
        let declared = self.properties.iter().find(|(property, _)| property == name);
        declared.map(|(_, value)| value.as_str())
    }
}
