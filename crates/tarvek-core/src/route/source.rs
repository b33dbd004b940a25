//! What a mount's source means: the host and folder behind it, and the share that offers it.

use crate::layout::mapping::EngineMount;
use crate::layout::mount::{Mount, MountSource};
use crate::layout::share::Share;
use crate::site::join::Site;
use crate::words::name::Name;
use crate::words::path::{AbsPath, components};
use crate::words::terms::Protocol;

/// The far side of a network mount.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Remote {
    /// The server as written.
    pub(crate) server: Name,
    /// The host of the site that it is, if the site knows one.
    pub(crate) host: Option<Name>,
    /// The folder on the server, where it can be told.
    pub(crate) path: Option<AbsPath>,
    /// The share that offers it.
    pub(crate) share: Option<Name>,
    /// How it is reached.
    pub(crate) protocol: Protocol,
}

impl Remote {
    /// Whether the site knows the host, and it can be told which folder of it is meant.
    pub(crate) fn is_known(&self) -> bool {
        self.host.is_some() && self.path.is_some()
    }

    /// The far side of a declared network mount.
    pub(crate) fn of_mount(site: &Site, mount: &Mount) -> Option<Self> {
        match &mount.from {
            MountSource::Share(name) => Self::of_share(site, name, mount.protocol),
            MountSource::Literal(text) => Self::parse(site, text.raw().as_bytes(), mount.protocol),
        }
    }

    /// The far side of what an engine mounts.
    pub(crate) fn of_engine(site: &Site, mount: &EngineMount) -> Option<Self> {
        let whole = match &mount.from {
            MountSource::Share(name) => Self::of_share(site, name, mount.protocol),
            MountSource::Literal(text) => Self::parse(site, text.raw().as_bytes(), mount.protocol),
        }?;
        let below = mount.below.as_ref().map_or(&b""[..], |below| below.raw().as_bytes());
        Some(Self { path: whole.path.map(|path| path.join(below)), ..whole })
    }

    /// A share of the layout.
    pub(crate) fn of_share(site: &Site, name: &Name, protocol: Protocol) -> Option<Self> {
        let share = site.layout.share(name)?;
        Some(Self {
            server: share.host.clone(),
            host: Some(share.host.clone()),
            path: Some(share.path.clone()),
            share: Some(share.name.clone()),
            protocol,
        })
    }

    /// A source as a mount table or fstab writes it: `server:/path` for NFS (`nfs(5)`),
    /// `//server/share/sub` for SMB (`mount.cifs(8)`).
    pub(crate) fn parse(site: &Site, source: &[u8], protocol: Protocol) -> Option<Self> {
        match protocol {
            Protocol::Nfs => {
                let cut = source.windows(2).position(|pair| pair == b":/")?;
                let server = text_of(&source[..cut]);
                let path = AbsPath::new(&source[cut + 1..]).ok()?;
                let host = site.host_named(server.raw()).cloned();
                let of_host = || {
                    let shares = site.layout.shares.iter();
                    shares.filter(|s| Some(&s.host) == host.as_ref() && !s.nfs.is_empty())
                };
                // The innermost share that offers it over NFS.
                let innermost = |path: &AbsPath| {
                    let above = of_host().filter(|s| path.within(&s.path));
                    above.max_by_key(|s| s.path.as_bytes().len())
                };
                let root = of_host().find(|share| is_root_of_all(share));
                let (path, share) = match (innermost(&path), root) {
                    (None, Some(root)) => {
                        let path = root.path.join(&path.as_bytes()[1..]);
                        let share = innermost(&path);
                        (path, share)
                    }
                    (share, _) => (path, share),
                };
                let share = share.map(|share| share.name.clone());
                Some(Self { server, host, path: Some(path), share, protocol })
            }
            Protocol::Smb => {
                let text: Vec<u8> =
                    source.iter().map(|&b| if b == b'\\' { b'/' } else { b }).collect();
                let mut parts = components(text.strip_prefix(b"//")?);
                let server = text_of(parts.next()?);
                let wanted = text_of(parts.next()?);
                let host = site.host_named(server.raw()).cloned();
                let share = site.layout.shares.iter().find(|s| {
                    Some(&s.host) == host.as_ref()
                        && s.smb.is_some()
                        && s.name.raw().eq_ignore_ascii_case(wanted.raw())
                });
                let path = share
                    .map(|share| parts.fold(share.path.clone(), |path, part| path.child(part)));
                let share = share.map(|share| share.name.clone());
                Some(Self { server, host, path, share, protocol })
            }
            Protocol::Disk | Protocol::Bind => None,
        }
    }
}

/// Whether NFSv4 clients see a share as the root of all that its host exports (`fsid=0` in
/// exports(5)). Its own path is one for NFSv3, to which clients fall back.
fn is_root_of_all(share: &Share) -> bool {
    let mut options = share.nfs.iter().flat_map(|export| &export.options);
    options.any(|option| matches!(option.as_str(), "fsid=0" | "fsid=root"))
}

fn text_of(bytes: &[u8]) -> Name {
    String::from_utf8_lossy(bytes).into_owned().into()
}
