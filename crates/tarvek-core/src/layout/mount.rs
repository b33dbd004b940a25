//! What is attached where.

use crate::words::name::Name;
use crate::words::options::MountOptions;
use crate::words::path::AbsPath;
use crate::words::terms::{Origin, Protocol};

/// Where a mount comes from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum MountSource {
    /// A share of this layout.
    Share(Name),
    /// As written: `server:/path`, `//server/share`, `UUID=…`, a device or a folder.
    Literal(Name),
}

/// A declared mount.
#[derive(Clone, Debug, PartialEq)]
pub struct Mount {
    /// The host that mounts.
    pub host: Name,
    pub from: MountSource,
    pub protocol: Protocol,
    /// The mount point.
    pub at: AbsPath,
    pub options: MountOptions,
    /// The SMB user that connects.
    pub user: Option<Name>,
    /// The file that holds the user's name and password.
    pub credentials: Option<AbsPath>,
    /// It may be absent at times.
    pub removable: bool,
    pub origin: Origin,
}
