//! What a storage host offers to whom (`exports(5)`, `smb.conf(5)`), declared or seen.

use crate::words::name::Name;
use crate::words::terms::Access;
use crate::words::word::words;

/// One export of a share to a set of clients (`exports(5)`).
#[derive(Clone, Debug, PartialEq)]
pub struct NfsExport {
    /// Host, network, wildcard, netgroup or `*`.
    pub clients: Name,
    /// The default is read-only, as in `exports(5)`.
    pub access: Access,
    pub squash: Squash,
    /// The uid squashed users become.
    pub anonuid: Option<u32>,
    /// The gid squashed users become.
    pub anongid: Option<u32>,
    /// Child datasets are exported with it.
    pub crossmnt: bool,
    /// Further options.
    pub options: Vec<String>,
}

words! {
    /// Whose ids an export replaces.
    #[derive(Default)]
    pub enum Squash {
        /// uid 0 and gid 0.
        #[default]
        Root = "root",
        /// Everyone.
        All = "all",
        /// Nobody.
        None = "none",
    }
}

impl Squash {
    /// As `exports(5)` names it.
    pub fn option(self) -> &'static str {
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
    /// Whether everyone is a guest, whatever name they connect with (`guest only`).
    pub guest_only: bool,
    /// Who may connect; empty admits everyone with an account (`valid users`). `@name` is a group.
    pub only: Vec<Name>,
    /// Who may not connect, whatever else is said of them (`invalid users`).
    pub deny: Vec<Name>,
    /// Whether everyone may write who is not named in a list that says otherwise (`read only =
    /// no`).
    pub writable: bool,
    /// Who may only read (`read list`).
    pub read: Vec<Name>,
    /// Who may write (`write list`).
    pub write: Vec<Name>,
    /// Who acts as root (`admin users`).
    pub admins: Vec<Name>,
    /// All file access happens as this user.
    pub force_user: Option<Name>,
    /// All file access happens with this group.
    pub force_group: Option<Name>,
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
    /// Which, below the share, if it is not `.recycle` (`recycle:repository`, vfs_recycle(8)).
    pub recycle_folder: Option<Name>,
}
