//! The layout file as it is read and written, and thereby its schema: the doc comments here are the
//! schema's descriptions, and the order of the fields is that of the keys that are written.
//!
//! What the schema requires is still optional here: what is wrong is taken out before this is
//! filled, so that the rest can be judged all the same.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use tarvek_core::layout::folder::{Purpose, Right};
use tarvek_core::layout::host::HostRole;
use tarvek_core::layout::intake::Want;
use tarvek_core::layout::service::ServiceRole;
use tarvek_core::layout::share::Also;
use tarvek_core::words::offer::Squash;
use tarvek_core::words::rule::Severity;
use tarvek_core::words::terms::Label;
use tarvek_core::words::terms::{Access, Kind, Os, Protocol};

use crate::forms::{
    Address, Category, Clients, EngineName, ExportOptions, Filesystem, LeftoverPattern, Octal,
    Propagation, RunAs, Size,
};
use crate::keyword::Keyword;
use crate::structure::{At, Keys, OneOrMany, is_default};

/// A site: hosts, shares, mounts, services, intakes and folders.
#[derive(Debug, Default, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
#[schemars(title = "Layout of a site", rename = "Layout")]
pub(super) struct Raw {
    /// The version of this format: 1.
    #[schemars(extend("x-required" = true), range(min = 1, max = 1))]
    pub(super) tarvek: Option<i64>,
    /// The site's name.
    #[schemars(extend("x-required" = true))]
    pub(super) site: Option<String>,
    /// Machines, by name.
    #[serde(skip_serializing_if = "Keys::is_empty")]
    pub(super) host: Keys<RawHost>,
    /// Folders offered over the network, by name.
    #[serde(skip_serializing_if = "Keys::is_empty")]
    pub(super) share: Keys<RawShare>,
    /// Folders with a declared owner, mode or rights.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(super) folder: Vec<At<RawFolder>>,
    /// Shares and filesystems attached at a path.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(super) mount: Vec<At<RawMount>>,
    /// Programs that touch media, by name.
    #[serde(skip_serializing_if = "Keys::is_empty")]
    pub(super) service: Keys<RawService>,
    /// Ways a download takes, by name.
    #[serde(skip_serializing_if = "Keys::is_empty")]
    pub(super) intake: Keys<RawIntake>,
    /// Changed severities and silenced rules.
    pub(super) rules: RawRules,
    /// What counts as waste.
    pub(super) waste: RawWaste,
    /// Where `adopt` read what: by file, the parts of this layout with the line of the file.
    /// Findings point there, and what is named here is not adopted a second time, also if it was
    /// taken out or changed since.
    #[serde(skip_serializing_if = "Keys::is_empty")]
    pub(super) adopted: Keys<Keys<u32>>,
}

/// A machine, or a system container inside one.
#[derive(Debug, Default, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
#[schemars(rename = "Host")]
pub(super) struct RawHost {
    /// What it is for.
    #[schemars(extend("x-required" = true), with = "OneOrMany<Keyword<HostRole>>")]
    pub(super) role: Option<OneOrMany<Keyword<HostRole>>>,
    /// Its system; linux unless said otherwise.
    pub(super) os: Option<Keyword<Os>>,
    /// Names and numbers under which others reach it.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(super) addresses: Vec<At<Address>>,
    /// The host whose system container this is.
    pub(super) inside: Option<At<String>>,
    /// Folders that come from the outer host.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(super) map: Vec<At<RawMapping>>,
    /// Shifted ids of a system container.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(super) idmap: Vec<At<RawIdRange>>,
    /// Whether SELinux enforces.
    pub(super) selinux: Option<bool>,
    /// Whether its NFS server looks the groups of a user up itself.
    #[serde(skip_serializing_if = "is_default")]
    #[schemars(!skip_serializing_if)]
    pub(super) manage_gids: bool,
    /// Separately mounted filesystems.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(super) datasets: Vec<At<RawDataset>>,
    /// Accounts, by name.
    #[serde(skip_serializing_if = "Keys::is_empty")]
    pub(super) accounts: Keys<RawAccount>,
    /// Groups, by name, with their numbers.
    #[serde(skip_serializing_if = "Keys::is_empty")]
    pub(super) groups: Keys<u32>,
}

/// One line of an id map.
#[derive(Debug, Default, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
#[schemars(rename = "IdRange")]
pub(super) struct RawIdRange {
    /// First id inside.
    #[schemars(extend("x-required" = true))]
    pub(super) inside: Option<u32>,
    /// First id outside.
    #[schemars(extend("x-required" = true))]
    pub(super) outside: Option<u32>,
    /// How many.
    #[schemars(extend("x-required" = true, "maximum" = u32::MAX))]
    pub(super) count: Option<u32>,
}

/// A separately mounted filesystem.
#[derive(Debug, Default, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
#[schemars(rename = "Dataset")]
pub(super) struct RawDataset {
    /// As the filesystem names it.
    #[schemars(extend("x-required" = true))]
    pub(super) name: Option<At<String>>,
    /// Its mount point.
    #[schemars(extend("x-required" = true))]
    pub(super) at: Option<At<String>>,
    /// zfs, btrfs, xfs, ext4, …
    pub(super) filesystem: Option<Filesystem>,
    /// The most it may hold.
    pub(super) quota: Option<At<Size>>,
    /// Properties as the filesystem names them.
    #[serde(skip_serializing_if = "Keys::is_empty")]
    pub(super) properties: Keys<At<String>>,
}

/// An account of a host.
#[derive(Debug, Default, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
#[schemars(rename = "Account")]
pub(super) struct RawAccount {
    /// User id.
    #[schemars(extend("x-required" = true))]
    pub(super) uid: Option<u32>,
    /// Primary group id.
    pub(super) gid: Option<u32>,
    /// Names of further groups.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(super) groups: Vec<At<String>>,
}

/// A folder that a storage host offers.
#[derive(Debug, Default, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
#[schemars(rename = "Share")]
pub(super) struct RawShare {
    /// The host that offers it.
    #[schemars(extend("x-required" = true))]
    pub(super) host: Option<At<String>>,
    /// The folder, as that host sees it.
    #[schemars(extend("x-required" = true))]
    pub(super) path: Option<At<String>>,
    /// NFS exports, one per set of clients.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(super) nfs: Vec<RawExport>,
    /// The SMB offer.
    pub(super) smb: Option<RawSmb>,
    /// Other protocols it is offered over.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[schemars(!skip_serializing_if)]
    pub(super) also: Vec<Keyword<Also>>,
}

/// An NFS export to a set of clients.
#[derive(Debug, Default, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
#[schemars(rename = "Export")]
pub(super) struct RawExport {
    /// Host, network, wildcard, netgroup or *.
    #[schemars(extend("x-required" = true))]
    pub(super) clients: Option<Clients>,
    /// ro unless said otherwise.
    pub(super) access: Option<Keyword<Access>>,
    /// Whose ids are replaced: root unless said otherwise.
    pub(super) squash: Option<Keyword<Squash>>,
    /// The uid that squashed users become.
    pub(super) anonuid: Option<u32>,
    /// The gid that squashed users become.
    pub(super) anongid: Option<u32>,
    /// Whether child datasets are exported with it.
    #[serde(skip_serializing_if = "is_default")]
    #[schemars(!skip_serializing_if)]
    pub(super) crossmnt: bool,
    /// Further options, comma separated.
    pub(super) options: Option<ExportOptions>,
}

/// An SMB offer.
#[derive(Debug, Default, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
#[schemars(rename = "Smb")]
pub(super) struct RawSmb {
    /// Whether guests are let in.
    pub(super) guests: bool,
    /// Whether everyone is a guest, whatever name they connect with.
    #[serde(skip_serializing_if = "is_default")]
    #[schemars(!skip_serializing_if)]
    pub(super) guest_only: bool,
    /// Whether everyone may write who is in no list that says otherwise.
    #[serde(skip_serializing_if = "is_default")]
    #[schemars(!skip_serializing_if)]
    pub(super) writable: bool,
    /// Who may connect; everyone with an account if empty. @name is a group.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(super) only: Vec<At<String>>,
    /// Who may not connect, whatever else is said of them.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(super) deny: Vec<At<String>>,
    /// Who may only read.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(super) read: Vec<At<String>>,
    /// Who may write.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(super) write: Vec<At<String>>,
    /// Who acts as root on the server.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(super) admins: Vec<At<String>>,
    /// All file access happens as this user.
    pub(super) force_user: Option<At<String>>,
    /// All file access happens with this group.
    pub(super) force_group: Option<At<String>>,
    /// Permission bits that new files may keep.
    pub(super) create_mask: Option<Octal>,
    /// Permission bits that new folders may keep.
    pub(super) folder_mask: Option<Octal>,
    /// Permission bits that new files get in any case.
    pub(super) force_create_mode: Option<Octal>,
    /// Permission bits that new folders get in any case.
    pub(super) force_folder_mode: Option<Octal>,
    /// Whether deleted files are kept in a recycle folder.
    #[serde(skip_serializing_if = "is_default")]
    #[schemars(!skip_serializing_if)]
    pub(super) recycle: bool,
    /// Which, below the share, if it is not .recycle.
    pub(super) recycle_folder: Option<At<String>>,
}

/// A folder with a declared owner, mode or rights.
#[derive(Debug, Default, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
#[schemars(rename = "Folder")]
pub(super) struct RawFolder {
    /// The host.
    #[schemars(extend("x-required" = true))]
    pub(super) host: Option<At<String>>,
    /// The folder, as the host sees it.
    #[schemars(extend("x-required" = true))]
    pub(super) path: Option<At<String>>,
    /// Owner.
    pub(super) owner: Option<At<String>>,
    /// Owning group.
    pub(super) group: Option<At<String>>,
    /// Permission bits.
    pub(super) mode: Option<Octal>,
    /// Who may do what, for everything below, and inherited: account, service or @group.
    #[serde(skip_serializing_if = "Keys::is_empty")]
    pub(super) rights: Keys<Keyword<Right>>,
    /// What it is for.
    pub(super) is: Option<Keyword<Purpose>>,
}

/// A share or filesystem attached at a path.
#[derive(Debug, Default, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
#[schemars(rename = "Mount")]
pub(super) struct RawMount {
    /// The host that mounts.
    #[schemars(extend("x-required" = true))]
    pub(super) host: Option<At<String>>,
    /// HOST:SHARE, or a literal source: server:/path, //server/share, UUID=…, a path.
    #[schemars(extend("x-required" = true))]
    pub(super) from: Option<At<String>>,
    /// How.
    #[schemars(extend("x-required" = true))]
    pub(super) protocol: Option<Keyword<Protocol>>,
    /// The mount point; a drive letter on a Windows client.
    #[schemars(extend("x-required" = true))]
    pub(super) at: Option<At<String>>,
    /// Mount options, comma separated.
    pub(super) options: Option<At<String>>,
    /// The SMB user that connects.
    pub(super) user: Option<At<String>>,
    /// The credentials file.
    pub(super) credentials: Option<At<String>>,
    /// Whether it may be absent at times.
    #[serde(skip_serializing_if = "is_default")]
    #[schemars(!skip_serializing_if)]
    pub(super) removable: bool,
}

/// A program that touches media.
#[derive(Debug, Default, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
#[schemars(rename = "Service")]
pub(super) struct RawService {
    /// The host it runs on.
    #[schemars(extend("x-required" = true))]
    pub(super) host: Option<At<String>>,
    /// What it is for.
    #[schemars(extend("x-required" = true), with = "OneOrMany<Keyword<ServiceRole>>")]
    pub(super) role: Option<OneOrMany<Keyword<ServiceRole>>>,
    /// UID, UID:GID, or an account of its host.
    pub(super) runs_as: Option<At<RunAs>>,
    /// Further groups, by number or name.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(super) groups: Vec<At<NumberOrName>>,
    /// Its umask; 022 unless said otherwise.
    pub(super) umask: Option<Octal>,
    /// Paths of its host whose mounts are there before it starts, as RequiresMountsFor= of its unit
    /// says.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(super) waits_for: Vec<At<String>>,
    /// Its user namespace: host, rootless:ACCOUNT, keep-id:ACCOUNT, remap:ACCOUNT, or ranges as
    /// INSIDE:OUTSIDE:COUNT,… for users and groups alike; u: or g: before a range makes it one of
    /// users or groups only.
    pub(super) userns: Option<At<String>>,
    /// What it sees of its host; without this it runs straight on the host.
    pub(super) map: Option<Vec<At<RawMapping>>>,
    /// Paths that other services name, and what it takes them for.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(super) translate: Vec<RawTranslation>,
    /// Published ports: [ADDRESS:]HOST[:INSIDE][/PROTOCOL], such as "8100", "8100:80",
    /// "10.20.0.7:8100:80/udp". The address is one of the host's that it is published on (all
    /// unless given), the protocol tcp (unless given) or udp.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(super) ports: Vec<At<String>>,
    /// The network it is in.
    pub(super) network: Option<EngineName>,
    /// Its configuration folder on the host, or volume:NAME where the engine keeps it.
    pub(super) config: Option<At<String>>,
    /// Where that is backed up to.
    pub(super) backup: Option<String>,
    /// Libraries it serves.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(super) libraries: Vec<At<RawLibrary>>,
}

/// A path that another service names, and what it is in the view of this one.
#[derive(Debug, Default, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
#[schemars(rename = "Translation")]
pub(super) struct RawTranslation {
    /// The service that names it.
    #[schemars(extend("x-required" = true))]
    pub(super) service: Option<At<String>>,
    /// The path as that service sees it.
    #[schemars(extend("x-required" = true))]
    pub(super) from: Option<At<String>>,
    /// The same as this service sees it.
    #[schemars(extend("x-required" = true))]
    pub(super) to: Option<At<String>>,
}

/// A number, or a name.
#[derive(Debug, Deserialize, Serialize, JsonSchema)]
#[serde(untagged)]
pub(super) enum NumberOrName {
    /// Its number.
    Number(u32),
    /// Its name, or its number as text.
    Name(String),
}

/// A host path, a share or a volume that a service sees under a path of its own.
#[derive(Debug, Default, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
#[schemars(rename = "Mapping")]
pub(super) struct RawMapping {
    /// A folder of the host.
    pub(super) from: Option<At<String>>,
    /// Or a share, mounted by the engine.
    pub(super) share: Option<At<String>>,
    /// Or a source of another machine as it is written for mounting: server:/path,
    /// //server/share/folder.
    pub(super) source: Option<At<String>>,
    /// Or a volume that the engine keeps; with a share or source, what the engine calls it, so that
    /// several services can share it.
    pub(super) volume: Option<EngineName>,
    /// For a share or source: the part of it that is mounted, as a path below it.
    pub(super) below: Option<At<String>>,
    /// For a share or source: how.
    pub(super) protocol: Option<Keyword<Protocol>>,
    /// For a read-only folder: what the engine makes of mounts below it, ro or rw. Engines differ;
    /// without this, writing there is unknown.
    pub(super) nested: Option<Keyword<Access>>,
    /// For a share or source: mount options, comma separated.
    pub(super) options: Option<At<String>>,
    /// For a share or source: the SMB user.
    pub(super) user: Option<At<String>>,
    /// For a share or source: the file on the host that holds the user's password.
    pub(super) credentials: Option<At<String>>,
    /// Where the service sees it.
    #[schemars(extend("x-required" = true))]
    pub(super) to: Option<At<String>>,
    /// rw unless said otherwise.
    pub(super) access: Option<Keyword<Access>>,
    /// SELinux relabelling.
    pub(super) label: Option<Keyword<Label>>,
    /// Mount propagation, as the engine names it.
    pub(super) propagation: Option<Propagation>,
    /// Whether it is mounted with the ids of the user namespace, so that files look as if numbered
    /// from the inside.
    #[serde(skip_serializing_if = "is_default")]
    #[schemars(!skip_serializing_if)]
    pub(super) idmap: bool,
}

/// A library of a service.
#[derive(Debug, Default, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
#[schemars(rename = "Library")]
pub(super) struct RawLibrary {
    /// Its name.
    #[schemars(extend("x-required" = true))]
    pub(super) name: Option<At<String>>,
    /// What it holds.
    #[schemars(extend("x-required" = true))]
    pub(super) kind: Option<Keyword<Kind>>,
    /// Its root folders, as the service sees them.
    #[schemars(extend("x-required" = true), length(min = 1), with = "Vec<String>")]
    pub(super) roots: Option<Vec<At<String>>>,
    /// It can't be replaced.
    #[serde(skip_serializing_if = "is_default")]
    #[schemars(!skip_serializing_if)]
    pub(super) original: bool,
    /// Where it is backed up to.
    pub(super) backup: Option<String>,
    /// Which version to keep of several, in words set apart by commas, the first weighs most: a
    /// codec (hevc, av1, h264, …), at most LINES (at most 1080p), larger, smaller.
    pub(super) prefer: Option<At<String>>,
}

/// The way a download takes.
#[derive(Debug, Default, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
#[schemars(rename = "Intake")]
pub(super) struct RawIntake {
    /// Where the fetching service puts files.
    pub(super) fetch: Option<RawFetch>,
    /// Where the sorting service files them.
    pub(super) sort: Option<RawSort>,
    /// What should happen between the steps; hardlink unless said otherwise.
    pub(super) want: Option<Keyword<Want>>,
}

/// The fetching side of an intake, in the view of its service.
#[derive(Debug, Default, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
#[schemars(rename = "Fetch")]
pub(super) struct RawFetch {
    /// The service.
    #[schemars(extend("x-required" = true))]
    pub(super) service: Option<At<String>>,
    /// The folder of unfinished files.
    pub(super) partial: Option<At<String>>,
    /// The folder of finished files.
    #[schemars(extend("x-required" = true))]
    pub(super) done: Option<At<String>>,
    /// The category.
    pub(super) category: Option<Category>,
}

/// The sorting side of an intake, in the view of its service.
#[derive(Debug, Default, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
#[schemars(rename = "Sort")]
pub(super) struct RawSort {
    /// The service.
    #[schemars(extend("x-required" = true))]
    pub(super) service: Option<At<String>>,
    /// The done folder.
    #[schemars(extend("x-required" = true))]
    pub(super) reads: Option<At<String>>,
    /// The library folder.
    #[schemars(extend("x-required" = true))]
    pub(super) files_into: Option<At<String>>,
    /// The category.
    pub(super) category: Option<Category>,
}

/// What counts as waste.
#[derive(Debug, Default, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
#[schemars(rename = "Waste")]
pub(super) struct RawWaste {
    /// Further patterns of names that are left over: * and ? stand for any characters and for one;
    /// of folders if they end with a slash.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(super) leftovers: Vec<LeftoverPattern>,
}

/// Changes to the rules.
#[derive(Debug, Default, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
#[schemars(rename = "Rules")]
pub(super) struct RawRules {
    /// Other severities, by rule.
    #[serde(skip_serializing_if = "Keys::is_empty")]
    pub(super) severity: Keys<Keyword<Severity>>,
    /// Findings not to report.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(super) silence: Vec<RawSilence>,
}

/// One silenced rule.
#[derive(Debug, Default, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
#[schemars(rename = "Silence")]
pub(super) struct RawSilence {
    /// The rule.
    #[schemars(extend("x-required" = true))]
    pub(super) rule: Option<At<String>>,
    /// Only below this path of a host.
    #[serde(rename = "where")]
    pub(super) below: Option<At<String>>,
    /// The reason.
    #[schemars(extend("x-required" = true))]
    pub(super) why: Option<String>,
}
