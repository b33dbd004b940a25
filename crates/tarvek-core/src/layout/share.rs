//! What a storage host offers (`exports(5)`, `smb.conf(5)`).

use crate::words::name::Name;
use crate::words::offer::{NfsExport, SmbOffer};
use crate::words::path::AbsPath;
use crate::words::terms::Origin;
use crate::words::word::words;

/// A folder that a storage host offers.
#[derive(Clone, Debug, PartialEq)]
pub struct Share {
    /// Over SMB this is what clients write.
    pub name: Name,
    /// The host that offers it.
    pub host: Name,
    /// The folder, as that host sees it.
    pub path: AbsPath,
    /// NFS exports, one per set of clients.
    pub nfs: Vec<NfsExport>,
    pub smb: Option<SmbOffer>,
    /// Other protocols it is offered over.
    pub also: Vec<Also>,
    pub origin: Origin,
}

words! {
    /// Protocols that a share can only be declared to be offered over.
    pub enum Also {
        Ftp = "ftp",
        Http = "http",
        Webdav = "webdav",
        Dlna = "dlna",
    }
}
