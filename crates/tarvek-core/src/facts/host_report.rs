//! What a host says of itself, in terms: `tarvek-formats` reads them from the host's documents.

use crate::facts::configured::Configuration;
use crate::words::name::Name;
use crate::words::path::AbsPath;

/// What a host says of itself.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct HostReport {
    /// How full each filesystem is (`df(1)`).
    pub capacities: Vec<Capacity>,
    /// What lies in mount points beneath what is mounted there.
    pub beneath: Vec<Beneath>,
    /// Btrfs subvolumes (`btrfs-subvolume(8)`).
    pub subvolumes: Vec<Subvolume>,
    /// Limits of Btrfs subvolumes (`btrfs-qgroup(8)`).
    pub subvolume_limits: Vec<SubvolumeLimit>,
    /// Properties of ZFS datasets (`zfs-get(8)`).
    pub properties: Vec<Property>,
    /// `subuid(5)`.
    pub subordinate_uids: Vec<Subordinate>,
    /// `subgid(5)`.
    pub subordinate_gids: Vec<Subordinate>,
    /// Where programs listen (`proc_pid_net(5)`).
    pub listening: Vec<Listening>,
    /// What its own configuration offers and mounts: exports, SMB configuration, units.
    pub configured: Configuration,
    /// Settings of the kernel that decide about files (proc_sys_fs(5)).
    pub sysctls: Vec<(String, i64)>,
    /// What was not collected that others collect (`acl`, `mounts`, `zfs`, `btrfs`, `xfs`, or
    /// `marks`: inode flags, projects, labels and NFSv4 ACLs), and why.
    pub lacking: Vec<(String, Name)>,
}

/// A port at which a program listens.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Listening {
    /// `tcp` or `udp`.
    pub protocol: String,
    /// `None` where it listens at all addresses.
    pub address: Option<String>,
    pub number: u16,
    /// The program's name, where that could be seen.
    pub program: Option<Name>,
}

/// How full a filesystem is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Capacity {
    /// Where it is mounted.
    pub point: AbsPath,
    /// Bytes.
    pub used: u64,
    /// Bytes.
    pub available: u64,
}

/// What lies in a mount point beneath what is mounted there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Beneath {
    pub point: AbsPath,
    /// How many entries, at every depth.
    pub entries: u64,
    /// What they take, in bytes.
    pub bytes: u64,
    /// Whether more lies there than was counted.
    pub more: bool,
}

/// A Btrfs subvolume.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Subvolume {
    /// Where its filesystem is mounted.
    pub point: AbsPath,
    /// Its path in the filesystem.
    pub path: AbsPath,
    /// Whether nothing in it can be changed, as in most snapshots.
    pub read_only: bool,
}

/// How much of a limit a subvolume has taken.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SubvolumeLimit {
    /// A mount point of its filesystem.
    pub point: AbsPath,
    /// Its path below the top of the filesystem.
    pub subvolume: AbsPath,
    /// Bytes.
    pub used: u64,
    /// Bytes.
    pub limit: u64,
}

/// A property of a dataset.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Property {
    pub dataset: Name,
    pub name: String,
    pub value: Name,
}

/// A run of ids that an account may use in namespaces of its own.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Subordinate {
    /// The account's name, or its uid.
    pub owner: Name,
    pub first: u32,
    pub count: u32,
}

impl HostReport {
    /// What a property of a dataset is.
    pub fn property(&self, dataset: &Name, property: &str) -> Option<&Name> {
        let here = |told: &&Property| told.dataset == *dataset && told.name == property;
        self.properties.iter().find(here).map(|told| &told.value)
    }

    /// The filesystem on which a path lies, as far as its fill is known.
    pub fn capacity(&self, path: &AbsPath) -> Option<&Capacity> {
        let above = self.capacities.iter().filter(|capacity| path.within(&capacity.point));
        above.max_by_key(|capacity| capacity.point.components().count())
    }

    /// What a setting of the kernel is.
    pub fn sysctl(&self, name: &str) -> Option<i64> {
        self.sysctls.iter().find(|(known, _)| known == name).map(|(_, value)| *value)
    }

    /// Why something was not collected that others collect.
    pub fn lacks(&self, what: &str) -> Option<&Name> {
        self.lacking.iter().find(|(known, _)| known == what).map(|(_, why)| why)
    }
}
