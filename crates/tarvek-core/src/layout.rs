//! The validated layout: what the administrator declared, in types that cannot hold what the reader refused.
//!
//! `tarvek-formats` reads the text and makes these; every name that refers to a host, share or service is known to
//! exist by then. Paths that only a judgement can refuse (`path/not-absolute`) stay as [`Declared`].

use std::fmt;

use crate::identity::IdMap;
use crate::path::{AbsPath, PathFault};

/// Where in the layout file something was written; both count from 1. Columns count characters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub struct Origin {
    /// Line.
    pub line: u32,
    /// Column.
    pub column: u32,
}

/// A whole declared site.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Layout {
    /// The site's name.
    pub site: String,
    /// In the order of the file, as all lists here.
    pub hosts: Vec<Host>,
    /// Folders offered over the network.
    pub shares: Vec<Share>,
    /// Shares and filesystems attached at a path.
    pub mounts: Vec<Mount>,
    /// Programs that touch media.
    pub services: Vec<Service>,
    /// Ways a download takes.
    pub intakes: Vec<Intake>,
    /// Folders with a declared owner, mode or rights.
    pub folders: Vec<Folder>,
    /// Changed severities and silenced rules.
    pub rules: RuleSettings,
}

impl Layout {
    /// The host of that name.
    pub fn host(&self, name: &str) -> Option<&Host> {
        self.hosts.iter().find(|host| host.name == name)
    }

    /// The service of that name.
    pub fn service(&self, name: &str) -> Option<&Service> {
        self.services.iter().find(|service| service.name == name)
    }

    /// The share of that name.
    pub fn share(&self, name: &str) -> Option<&Share> {
        self.shares.iter().find(|share| share.name == name)
    }
}

/// What a host is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum HostRole {
    /// Holds the media.
    Storage,
    /// Runs services.
    Apps,
    /// Only watches.
    Client,
}

impl HostRole {
    /// As the layout writes it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Storage => "storage",
            Self::Apps => "apps",
            Self::Client => "client",
        }
    }
}

/// A host's system, as far as paths and mounts differ.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum Os {
    /// POSIX paths.
    #[default]
    Linux,
    /// Drive letters and UNC paths.
    Windows,
    /// POSIX paths, `/Volumes`.
    Macos,
}

/// A machine, or a system container inside one.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Host {
    /// Its name in the layout.
    pub name: String,
    /// At least one.
    pub roles: Vec<HostRole>,
    /// Its system.
    pub os: Os,
    /// Names and numbers under which others reach it.
    pub addresses: Vec<String>,
    /// The host whose system container this is.
    pub inside: Option<String>,
    /// Folders that come from the outer host.
    pub map: Vec<Mapping>,
    /// Shifted ids of a system container.
    pub idmap: Vec<IdRange>,
    /// Whether SELinux enforces.
    pub selinux: Option<bool>,
    /// Whether its NFS server looks the groups of a user up itself (`manage-gids` in `nfs.conf(5)`).
    pub manage_gids: bool,
    /// Separately mounted filesystems.
    pub datasets: Vec<Dataset>,
    /// Accounts.
    pub accounts: Vec<Account>,
    /// Groups.
    pub groups: Vec<Group>,
    /// Where it is declared.
    pub origin: Origin,
}

impl Host {
    /// The uid that the layout gives an account of that name here.
    pub fn uid_of(&self, account: &str) -> Option<u32> {
        let declared = self.accounts.iter().find(|known| known.name == account);
        declared.map(|account| account.uid).or((account == "root").then_some(0))
    }

    /// The gid that the layout gives a group of that name here; an account's own group goes by the account's name.
    pub fn gid_of(&self, group: &str) -> Option<u32> {
        let declared = self.groups.iter().find(|known| known.name == group).map(|group| group.gid);
        let own = self.accounts.iter().find(|account| account.name == group);
        declared
            .or_else(|| own.map(|account| account.gid.unwrap_or(account.uid)))
            .or((group == "root").then_some(0))
    }
}

/// One line of an id map (`user_namespaces(7)`).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct IdRange {
    /// First id inside.
    pub inside: u32,
    /// First id outside.
    pub outside: u32,
    /// How many.
    pub count: u32,
}

/// A separately mounted filesystem on a storage host.
#[derive(Clone, Debug, PartialEq)]
pub struct Dataset {
    /// As the filesystem names it, `silo/media`.
    pub name: String,
    /// Its mount point.
    pub at: AbsPath,
    /// `zfs`, `btrfs`, `xfs`, `ext4`, …
    pub filesystem: Option<String>,
    /// Bytes.
    pub quota: Option<u64>,
    /// Properties as the filesystem names them.
    pub properties: Vec<(String, String)>,
    /// Where it is declared.
    pub origin: Origin,
}

/// An account with its number on one host.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Account {
    /// Login name.
    pub name: String,
    /// User id.
    pub uid: u32,
    /// Primary group id, where known.
    pub gid: Option<u32>,
    /// Names of further groups.
    pub groups: Vec<String>,
}

/// A group with its number on one host.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Group {
    /// Name.
    pub name: String,
    /// Group id.
    pub gid: u32,
}

/// Whether something may be written through a layer.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum Mode {
    /// Read only.
    ReadOnly,
    /// Read and write.
    #[default]
    ReadWrite,
}

impl Mode {
    /// `ro` or `rw`.
    pub fn word(self) -> &'static str {
        match self {
            Self::ReadOnly => "ro",
            Self::ReadWrite => "rw",
        }
    }
}

/// A folder that a storage host offers.
#[derive(Clone, Debug, PartialEq)]
pub struct Share {
    /// Its name; over SMB this is what clients write.
    pub name: String,
    /// The host that offers it.
    pub host: String,
    /// The folder, as that host sees it.
    pub path: AbsPath,
    /// NFS exports, one per set of clients.
    pub nfs: Vec<NfsExport>,
    /// The SMB offer, if there is one.
    pub smb: Option<SmbOffer>,
    /// Other protocols it is offered over.
    pub also: Vec<String>,
    /// Where it is declared.
    pub origin: Origin,
}

/// One export of a share to a set of clients (`exports(5)`).
#[derive(Clone, Debug, PartialEq)]
pub struct NfsExport {
    /// Host, network, wildcard, netgroup or `*`.
    pub clients: String,
    /// The default is read-only, as in `exports(5)`.
    pub access: Mode,
    /// Whose ids are replaced.
    pub squash: Squash,
    /// The uid squashed users become.
    pub anonuid: Option<u32>,
    /// The gid squashed users become.
    pub anongid: Option<u32>,
    /// Child datasets are exported with it.
    pub crossmnt: bool,
    /// Further options, comma separated.
    pub options: Vec<String>,
}

/// Whose ids an export replaces.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum Squash {
    /// uid 0 and gid 0 (`root_squash`, the default).
    #[default]
    Root,
    /// Everyone (`all_squash`).
    All,
    /// Nobody (`no_root_squash`).
    None,
}

impl Squash {
    /// As `exports(5)` names it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Root => "root_squash",
            Self::All => "all_squash",
            Self::None => "no_root_squash",
        }
    }
}

/// An SMB offer (`smb.conf(5)`).
#[derive(Clone, Debug, Default, PartialEq)]
pub struct SmbOffer {
    /// Whether guests are let in (`guest ok`).
    pub guests: bool,
    /// Whether everyone is a guest, whatever name he connects with (`guest only`).
    pub guest_only: bool,
    /// Who may connect; empty admits everyone with an account (`valid users`). `@name` is a group.
    pub only: Vec<String>,
    /// Who may not connect, whatever else is said of him (`invalid users`).
    pub deny: Vec<String>,
    /// Whether everyone may write who is not named in a list that says otherwise (`read only = no`).
    pub writable: bool,
    /// Who may only read (`read list`).
    pub read: Vec<String>,
    /// Who may write (`write list`).
    pub write: Vec<String>,
    /// Who acts as root (`admin users`).
    pub admins: Vec<String>,
    /// All file access happens as this user.
    pub force_user: Option<String>,
    /// All file access happens with this group.
    pub force_group: Option<String>,
    /// Permission bits new files may keep.
    pub create_mask: Option<u16>,
    /// Permission bits new folders may keep.
    pub folder_mask: Option<u16>,
    /// Permission bits that new files get in any case (`force create mode`).
    pub force_create_mode: Option<u16>,
    /// Permission bits that new folders get in any case (`force directory mode`).
    pub force_folder_mode: Option<u16>,
    /// Whether deleted files are kept in a recycle folder.
    pub recycle: bool,
}

/// How a mount reaches its source.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Protocol {
    /// NFS of any version.
    Nfs,
    /// SMB of any version.
    Smb,
    /// A local filesystem.
    Disk,
    /// A folder of the same host attached at a second place.
    Bind,
}

impl Protocol {
    /// `nfs`, `smb`, `disk` or `bind`.
    pub fn word(self) -> &'static str {
        match self {
            Self::Nfs => "nfs",
            Self::Smb => "smb",
            Self::Disk => "disk",
            Self::Bind => "bind",
        }
    }

    /// Whether the source is another machine.
    pub fn is_network(self) -> bool {
        matches!(self, Self::Nfs | Self::Smb)
    }
}

/// Where a mount comes from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum MountSource {
    /// A share of this layout.
    Share(String),
    /// As written: `server:/path`, `//server/share`, `UUID=…`, a device or a folder.
    Literal(String),
}

impl MountSource {
    /// As the layout writes it: `HOST:SHARE`, or the source itself.
    pub fn written(&self, layout: &Layout) -> String {
        match self {
            Self::Share(name) => match layout.share(name) {
                Some(share) => format!("{}:{name}", share.host),
                None => name.clone(),
            },
            Self::Literal(source) => source.clone(),
        }
    }
}

/// A declared mount.
#[derive(Clone, Debug, PartialEq)]
pub struct Mount {
    /// The host that mounts.
    pub host: String,
    /// What is mounted.
    pub from: MountSource,
    /// How.
    pub protocol: Protocol,
    /// The mount point.
    pub at: AbsPath,
    /// Mount options, in order, without secrets.
    pub options: Vec<String>,
    /// The SMB user that connects.
    pub user: Option<String>,
    /// The credentials file.
    pub credentials: Option<AbsPath>,
    /// It may be absent at times.
    pub removable: bool,
    /// Where it is declared.
    pub origin: Origin,
}

impl Mount {
    /// Read-only if its options say so.
    pub fn mode(&self) -> Mode {
        let last = self.options.iter().rev().find(|option| *option == "ro" || *option == "rw");
        if last.is_some_and(|option| option == "ro") { Mode::ReadOnly } else { Mode::ReadWrite }
    }
}

/// A path that was written where only an absolute one works; a bad one is a finding, not a refusal.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Declared {
    /// As written.
    pub written: String,
    /// What it means.
    pub path: Result<AbsPath, PathFault>,
    /// Where.
    pub origin: Origin,
}

/// What a service is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ServiceRole {
    /// Scans libraries and plays them.
    Serve,
    /// Brings files in.
    Fetch,
    /// Files them into libraries.
    Sort,
}

impl ServiceRole {
    /// As the layout writes it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Serve => "serve",
            Self::Fetch => "fetch",
            Self::Sort => "sort",
        }
    }
}

/// Whom a service runs as, as declared.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum RunAs {
    /// Nothing is said.
    Unset,
    /// Numbers; the gid may be left out.
    Numbers(u32, Option<u32>),
    /// An account of its host, by name.
    Account(String),
}

/// A program that runs under an account and touches media.
#[derive(Clone, Debug, PartialEq)]
pub struct Service {
    /// Its name in the layout.
    pub name: String,
    /// The host it runs on.
    pub host: String,
    /// At least one.
    pub roles: Vec<ServiceRole>,
    /// Its account.
    pub runs_as: RunAs,
    /// Further groups: numbers, or names of its host.
    pub groups: Vec<GroupRef>,
    /// Its umask; 022 unless declared.
    pub umask: Option<u16>,
    /// Its user namespace, if it has one.
    pub userns: Option<UserNs>,
    /// Its mappings; `None` means it runs straight on its host.
    pub map: Option<Vec<Mapping>>,
    /// Published ports.
    pub ports: Vec<String>,
    /// The network it is in.
    pub network: Option<String>,
    /// Its configuration folder on the host.
    pub config: Option<AbsPath>,
    /// Where that is backed up to.
    pub backup: Option<String>,
    /// Libraries it serves.
    pub libraries: Vec<Library>,
    /// Where it is declared.
    pub origin: Origin,
}

impl Service {
    /// Whether it does nothing but serve, so that reading is all it needs.
    pub fn only_serves(&self) -> bool {
        self.roles.iter().all(|role| *role == ServiceRole::Serve)
    }
}

/// How a service's user namespace numbers its users (`user_namespaces(7)`, `subuid(5)`).
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum UserNs {
    /// The host's own.
    Host,
    /// The engine runs as this account: root inside is the account, the others are its subordinate ids.
    Rootless(String),
    /// As `Rootless`, but the account's own number means itself inside as well.
    KeepId(String),
    /// The engine runs as root and shifts everything to the subordinate ids of this account.
    Remap(String),
    /// These ranges.
    Ranges(IdMap),
}

impl fmt::Display for UserNs {
    /// As the layout writes it.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Host => f.write_str("host"),
            Self::Rootless(account) => write!(f, "rootless:{account}"),
            Self::KeepId(account) => write!(f, "keep-id:{account}"),
            Self::Remap(account) => write!(f, "remap:{account}"),
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
    /// Number.
    Gid(u32),
    /// A group of the host.
    Name(String),
}

/// What a mapping attaches.
#[derive(Clone, Debug, PartialEq)]
pub enum MapSource {
    /// A folder of the host.
    Folder(Declared),
    /// A share, mounted by the engine.
    Share {
        /// The share's name.
        share: String,
        /// NFS or SMB.
        protocol: Protocol,
        /// Mount options.
        options: Vec<String>,
        /// The SMB user.
        user: Option<String>,
    },
    /// Storage that the engine keeps.
    Volume(String),
}

/// A host path that a service sees under another path.
#[derive(Clone, Debug, PartialEq)]
pub struct Mapping {
    /// What is attached.
    pub source: MapSource,
    /// Where the service sees it.
    pub to: Declared,
    /// Read-only or not.
    pub access: Mode,
    /// SELinux relabelling.
    pub label: Option<Label>,
    /// Mount propagation, as the engine names it.
    pub propagation: Option<String>,
    /// Whether it is mounted with the ids of the user namespace (`mount_setattr(2)`, MOUNT_ATTR_IDMAP), so that files look as
    /// if they were numbered from the inside.
    pub idmap: bool,
    /// Where it is declared.
    pub origin: Origin,
}

/// SELinux relabelling of a mapping.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Label {
    /// `z`: other containers may use it too.
    Shared,
    /// `Z`: this container only.
    Private,
}

/// What a library holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// Films.
    Films,
    /// Series of episodes.
    Series,
    /// Music.
    Music,
    /// Photos.
    Photos,
    /// Books.
    Books,
    /// Home video.
    HomeVideo,
}

impl Kind {
    /// As the layout writes it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Films => "films",
            Self::Series => "series",
            Self::Music => "music",
            Self::Photos => "photos",
            Self::Books => "books",
            Self::HomeVideo => "home-video",
        }
    }
}

/// A library as its service declares it.
#[derive(Clone, Debug, PartialEq)]
pub struct Library {
    /// Its name.
    pub name: String,
    /// What it holds.
    pub kind: Kind,
    /// Its root folders, as the service sees them. At least one.
    pub roots: Vec<Declared>,
    /// It can't be replaced.
    pub original: bool,
    /// Where it is backed up to.
    pub backup: Option<String>,
    /// Which version to keep.
    pub prefer: Option<String>,
    /// Where it is declared.
    pub origin: Origin,
}

/// What an intake should do between its steps.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Want {
    /// Hard links.
    Hardlink,
    /// Renames.
    Rename,
    /// Copies.
    Copy,
}

impl Want {
    /// As the layout writes it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Hardlink => "hardlink",
            Self::Rename => "rename",
            Self::Copy => "copy",
        }
    }
}

/// The way a download takes.
#[derive(Clone, Debug, PartialEq)]
pub struct Intake {
    /// Its name.
    pub name: String,
    /// The fetching side.
    pub fetch: Option<FetchStep>,
    /// The sorting side.
    pub sort: Option<SortStep>,
    /// What should happen.
    pub want: Want,
    /// Where it is declared.
    pub origin: Origin,
}

/// Where the fetching service puts files, in its own view.
#[derive(Clone, Debug, PartialEq)]
pub struct FetchStep {
    /// The service.
    pub service: String,
    /// The folder of unfinished files.
    pub partial: Option<AbsPath>,
    /// The folder of finished files.
    pub done: AbsPath,
    /// The category.
    pub category: Option<String>,
}

/// Where the sorting service reads and files, in its own view.
#[derive(Clone, Debug, PartialEq)]
pub struct SortStep {
    /// The service.
    pub service: String,
    /// The done folder.
    pub reads: AbsPath,
    /// The library folder.
    pub files_into: AbsPath,
    /// The category.
    pub category: Option<String>,
}

/// What a subject may do in a folder and everything below, as declared.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Right {
    /// Nothing.
    None,
    /// Read and list.
    Read,
    /// Read, and add new entries.
    Add,
    /// Read, add, change and remove.
    Change,
}

impl Right {
    /// As the layout writes it.
    pub fn word(self) -> &'static str {
        match self {
            Self::None => "none",
            Self::Read => "read",
            Self::Add => "add",
            Self::Change => "change",
        }
    }
}

/// A folder with a declared owner, mode or rights.
#[derive(Clone, Debug, PartialEq)]
pub struct Folder {
    /// The host.
    pub host: String,
    /// The folder, as the host sees it.
    pub path: AbsPath,
    /// Owner.
    pub owner: Option<String>,
    /// Owning group.
    pub group: Option<String>,
    /// Permission bits.
    pub mode: Option<u16>,
    /// Who may do what: account, service, or `@group`.
    pub rights: Vec<(String, Right)>,
    /// What it is for.
    pub purpose: Option<Purpose>,
    /// Where it is declared.
    pub origin: Origin,
}

/// What a declared folder is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Purpose {
    /// Libraries.
    Media,
    /// Downloads on their way.
    Intake,
    /// A service's own files.
    Config,
}

impl Purpose {
    /// As the layout writes it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Media => "media",
            Self::Intake => "intake",
            Self::Config => "config",
        }
    }
}

/// Changes to the rules.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct RuleSettings {
    /// Another severity for a rule.
    pub severity: Vec<(crate::rules::RuleId, crate::rules::Severity)>,
    /// Findings not to report, each with a reason.
    pub silence: Vec<Silence>,
}

/// One silenced rule.
#[derive(Clone, Debug, PartialEq)]
pub struct Silence {
    /// The rule.
    pub rule: crate::rules::RuleId,
    /// Only below this path; everywhere if absent.
    pub below: Option<AbsPath>,
    /// The reason.
    pub why: String,
}
