//! Real configuration from a layout, in open formats. Comments say which line of the layout each part comes from. No password
//! is ever written: where one is needed, a placeholder file that only root may read says so.

mod accounts;
mod clients;
mod compose;
mod exports;
mod mounts;
mod quadlet;
mod script;
mod smb;

use tarvek_core::layout::host::Host;
use tarvek_core::layout::service::{GroupRef, RunAs, Service};
use tarvek_core::layout::share::Share;
use tarvek_core::layout::site::Layout;
use tarvek_core::words::name::Name;
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::terms::Origin;

pub use accounts::accounts;
pub use clients::clients;
pub use compose::compose;
pub use exports::exports;
pub use mounts::{fstab, systemd};
pub use quadlet::quadlet;
pub use script::script;
pub use smb::smb;

/// One file to write.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Piece {
    /// Its name, with folders where it needs them.
    pub name: String,
    /// Its contents.
    pub text: String,
    /// Permission bits.
    pub mode: u32,
}

impl Piece {
    fn new(name: impl Into<String>, text: String) -> Self {
        Self { name: name.into(), text, mode: 0o644 }
    }
}

/// A part of a layout as its own file names it: `# tarvek.toml line 12: …`.
struct Source<'a> {
    file: &'a str,
}

impl Source<'_> {
    fn of(&self, origin: Origin, what: &str) -> String {
        format!("# {} line {}: {what}\n", self.file, origin.line)
    }
}

/// What a host is reached under: its first address, else its name.
fn address(layout: &Layout, host: &Name) -> String {
    let first = layout.host(host).and_then(|host| host.addresses.first());
    first.unwrap_or(host).raw().to_owned()
}

fn text(path: &AbsPath) -> String {
    String::from_utf8_lossy(path.as_bytes()).into_owned()
}

/// The uid of a service's container, and its gid where one is declared.
fn ids(service: &Service, host: &Host) -> Option<(u32, Option<u32>)> {
    match &service.runs_as {
        RunAs::Unset => None,
        RunAs::Numbers(uid, gid) => Some((*uid, *gid)),
        RunAs::Account(name) => {
            let account = host.accounts.iter().find(|account| account.name == *name)?;
            Some((account.uid, Some(account.gid.unwrap_or(account.uid))))
        }
    }
}

/// Its further groups. A container knows no names of its host's groups, so that they go by number.
fn further_groups(service: &Service, host: &Host) -> Vec<u32> {
    let number = |group: &GroupRef| match group {
        GroupRef::Gid(gid) => Some(*gid),
        GroupRef::Name(name) => host.gid_of(name),
    };
    service.groups.iter().filter_map(number).collect()
}

/// A port as `OUTSIDE:INSIDE`.
fn port(port: &str) -> String {
    let (numbers, protocol) = match port.split_once('/') {
        Some((numbers, protocol)) => (numbers, format!("/{protocol}")),
        None => (port, String::new()),
    };
    let inside = if numbers.contains(':') { String::new() } else { format!(":{numbers}") };
    format!("{numbers}{inside}{protocol}")
}

/// The source of a share over NFS (`nfs(5)`) or SMB (`mount.cifs(8)`).
fn nfs_source(layout: &Layout, share: &Share) -> String {
    format!("{}:{}", address(layout, &share.host), text(&share.path))
}

fn smb_source(layout: &Layout, share: &Share) -> String {
    format!("//{}/{}", address(layout, &share.host), share.name.raw())
}
