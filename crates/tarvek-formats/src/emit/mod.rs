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

use tarvek_core::layout::{Host, Layout, Origin, Share};
use tarvek_core::path::AbsPath;

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
fn address(layout: &Layout, host: &str) -> String {
    let host = layout.host(host);
    let first = host.and_then(|host| host.addresses.first().cloned());
    first.or_else(|| host.map(|host| host.name.clone())).unwrap_or_default()
}

fn text(path: &AbsPath) -> String {
    String::from_utf8_lossy(path.as_bytes()).into_owned()
}

/// The uid of an account of a host, by name.
fn uid(host: &Host, name: &str) -> Option<u32> {
    if name == "root" {
        return Some(0);
    }
    host.accounts.iter().find(|account| account.name == name).map(|account| account.uid)
}

/// The gid of a group of a host, by name; an account's own group goes by the account's name.
fn gid(host: &Host, name: &str) -> Option<u32> {
    if name == "root" {
        return Some(0);
    }
    let group = host.groups.iter().find(|group| group.name == name).map(|group| group.gid);
    group.or_else(|| {
        let account = host.accounts.iter().find(|account| account.name == name)?;
        Some(account.gid.unwrap_or(account.uid))
    })
}

/// The source of a share over NFS (`nfs(5)`) or SMB (`mount.cifs(8)`).
fn nfs_source(layout: &Layout, share: &Share) -> String {
    format!("{}:{}", address(layout, &share.host), text(&share.path))
}

fn smb_source(layout: &Layout, share: &Share) -> String {
    format!("//{}/{}", address(layout, &share.host), share.name)
}
