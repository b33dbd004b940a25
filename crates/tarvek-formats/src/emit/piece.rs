//! A piece of configuration, and how what stands in a layout is said in it.

use tarvek_core::layout::host::Host;
use tarvek_core::layout::service::{GroupRef, RunAs, Service};
use tarvek_core::layout::share::Share;
use tarvek_core::layout::site::Layout;
use tarvek_core::words::name::Name;
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::secret_key::HIDDEN;
use tarvek_core::words::terms::Origin;
use tarvek_core::words::text::shown;

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
    pub(super) fn new(name: impl Into<String>, text: String) -> Self {
        Self { name: name.into(), text, mode: 0o644 }
    }
}

/// What a format can't say.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unsayable {
    /// Where it stands in the layout.
    pub origin: Origin,
    /// What it is, and why not.
    pub message: String,
    /// What would do.
    pub remedy: &'static str,
}

/// The files, or the first thing that one of them can't say.
pub type Emitted = Result<Vec<Piece>, Unsayable>;

pub(super) const OTHER_NAME: &str = "give it another name, on the host as well";

/// What a quoting gives, with its place where it gives nothing.
pub(super) fn say<T>(
    origin: Origin,
    what: &str,
    said: Result<T, &'static str>,
) -> Result<T, Unsayable> {
    said.map_err(|why| Unsayable {
        origin,
        message: format!("{}: {why}", shown(what.as_bytes())),
        remedy: OTHER_NAME,
    })
}

/// The name of a service as engines take it.
pub(super) fn container(service: &Service) -> Result<&str, Unsayable> {
    let name = service.name.raw();
    let word = |b: u8| b.is_ascii_alphanumeric() || matches!(b, b'_' | b'-' | b'.');
    let fine = name.bytes().all(word).then_some(name);
    say(service.origin, name, fine.ok_or("no engine takes such a name for a container"))
}

/// A source or an option in which a secret was hidden can't be written down.
pub(super) fn without_secret(origin: Origin, text: &str) -> Result<(), Unsayable> {
    if !text.contains(HIDDEN) {
        return Ok(());
    }
    Err(Unsayable {
        origin,
        message: "a secret stands there, and none is ever written".to_owned(),
        remedy: "take it out, and name the file that holds it: credentials = \"/etc/…\"",
    })
}

/// A part of a layout as its own file names it: `# tarvek.toml line 12: …`.
pub(super) struct Source<'a> {
    pub(super) file: &'a str,
}

impl Source<'_> {
    pub(super) fn of(&self, origin: Origin, what: &str) -> String {
        format!(
            "# {}\n",
            super::quote::comment(&format!("{} line {}: {what}", self.file, origin.line))
        )
    }
}

/// What a host is reached under: its first address, else its name.
pub(super) fn address(layout: &Layout, host: &Name) -> String {
    let first = layout.host(host).and_then(|host| host.addresses.first());
    first.unwrap_or(host).raw().to_owned()
}

pub(super) fn text(path: &AbsPath) -> String {
    String::from_utf8_lossy(path.as_bytes()).into_owned()
}

/// The uid of a service's container, and its gid where one is declared.
pub(super) fn ids(service: &Service, host: &Host) -> Option<(u32, Option<u32>)> {
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
pub(super) fn further_groups(service: &Service, host: &Host) -> Vec<u32> {
    let number = |group: &GroupRef| match group {
        GroupRef::Gid(gid) => Some(*gid),
        GroupRef::Name(name) => host.gid_of(name),
    };
    service.groups.iter().filter_map(number).collect()
}

/// A port as `OUTSIDE:INSIDE`.
pub(super) fn port(port: &str) -> String {
    let (numbers, protocol) = match port.split_once('/') {
        Some((numbers, protocol)) => (numbers, format!("/{protocol}")),
        None => (port, String::new()),
    };
    let inside = if numbers.contains(':') { String::new() } else { format!(":{numbers}") };
    format!("{numbers}{inside}{protocol}")
}

/// The source of a share over NFS (`nfs(5)`) or SMB (`mount.cifs(8)`).
pub(super) fn nfs_source(layout: &Layout, share: &Share) -> String {
    format!("{}:{}", address(layout, &share.host), text(&share.path))
}

pub(super) fn smb_source(layout: &Layout, share: &Share) -> String {
    format!("//{}/{}", address(layout, &share.host), share.name.raw())
}
