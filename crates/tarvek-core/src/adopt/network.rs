//! Shares and mounts.

use std::collections::HashMap;

use super::{Adopting, absolute};
use crate::facts::configured::{Configuration, Fact, MountFact};
use crate::facts::mounts::{network_protocol, of_the_kernel};
use crate::layout::mount::{Mount, MountSource};
use crate::layout::share::Share;
use crate::words::name::Name;
use crate::words::offer::{NfsExport, SmbOffer};
use crate::words::options::MountOptions;
use crate::words::part::Part;
use crate::words::path::AbsPath;
use crate::words::secret_key::HIDDEN;
use crate::words::spot::Spot;
use crate::words::terms::{Origin, Protocol};

/// Further filesystems that hold no media, or that other facts tell of.
const NO_MEDIA: [&str; 14] = [
    "devfs",
    "fuse.gvfsd-fuse",
    "fuse.lxcfs",
    "fuse.portal",
    "fuse.snapfuse",
    "iso9660",
    "none",
    "overlay",
    "ramfs",
    "selinuxfs",
    "squashfs",
    "swap",
    "tmpfs",
    "zfs",
];

/// Places of the system itself.
const SYSTEM: [&[u8]; 8] =
    [b"/", b"/boot", b"/boot/efi", b"/efi", b"/usr", b"/var", b"/tmp", b"/home"];

/// Options of exports that the layout has words for.
const WORDED: [&str; 8] = [
    "ro",
    "rw",
    "root_squash",
    "no_root_squash",
    "all_squash",
    "no_all_squash",
    "crossmnt",
    "nocrossmnt",
];

impl Adopting<'_> {
    /// Takes what a host offers: a share for each folder, over NFS, SMB or both.
    pub(super) fn shares(&mut self, host: &Name, configuration: &Configuration) {
        let mut by_path: HashMap<AbsPath, usize> = HashMap::new();
        // SMB shares have names that clients write; exports take the name of the one that has their
        // folder.
        for found in &configuration.facts {
            let Fact::Share(share) = &found.fact else { continue };
            let Some(path) = absolute(&share.path).filter(|_| !share.path.contains(&b'%')) else {
                let why = "a layout has shares of one folder each, and this one's folder depends \
                           on who connects";
                self.leave(&found.spot, why);
                continue;
            };
            if share.name.raw().ends_with('$') {
                let why = "a share whose name ends in $ is for administrators, and holds no media";
                self.leave(&found.spot, why);
                continue;
            }
            let offer = offer(&share.name, &share.offer);
            if let Some(name) = named(&offer).find(|name| name.raw().contains('%')) {
                self.leave(&found.spot, format!("whom {name} means depends on who connects"));
                continue;
            }
            let taken = self
                .done
                .layout
                .shares
                .iter()
                .any(|known| known.name == share.name && known.host != *host);
            if taken {
                self.leave(&found.spot, format!("another host has a share {} already", share.name));
                continue;
            }
            if !self.part(Part::Share(share.name.clone()), &found.spot) {
                continue;
            }
            let at = self.add_share(host, &share.name, &path);
            self.done.layout.shares[at].smb = Some(offer);
            by_path.entry(path).or_insert(at);
        }
        for found in &configuration.facts {
            let Fact::Export(export) = &found.fact else { continue };
            let Some(path) = absolute(&export.path) else { continue };
            let at = match by_path.get(&path) {
                Some(&at) => at,
                None => {
                    let last = path.name().map(String::from_utf8_lossy).unwrap_or("root".into());
                    let known =
                        self.known.shares.iter().find(|s| s.host == *host && s.path == path);
                    let recorded = || self.recorded(Part::Share, &last, &found.spot);
                    let name = match known.map(|share| share.name.clone()).or_else(recorded) {
                        Some(name) => name,
                        None => {
                            let known = self.known;
                            let layout = self.done.layout.shares.clone();
                            let taken = |name: &Name| {
                                known.share(name).is_some()
                                    || layout.iter().any(|s| s.name == *name)
                            };
                            self.free_name("share", &last, host, taken)
                        }
                    };
                    self.part(Part::Share(name.clone()), &found.spot);
                    let at = self.add_share(host, &name, &path);
                    by_path.insert(path, at);
                    at
                }
            };
            let name = self.done.layout.shares[at].name.clone();
            let clients = export.export.clients.clone();
            if self.part(Part::Export { share: name.clone(), clients }, &found.spot) {
                self.done.layout.shares[at].nfs.push(exported(&export.export));
            }
        }
    }

    fn add_share(&mut self, host: &Name, name: &Name, path: &AbsPath) -> usize {
        self.done.layout.shares.push(Share {
            name: name.clone(),
            host: host.clone(),
            path: path.clone(),
            nfs: Vec::new(),
            smb: None,
            also: Vec::new(),
            origin: Origin::default(),
        });
        self.done.layout.shares.len() - 1
    }

    /// Takes what a host attaches: what is meant to be there first, then what is there besides.
    pub(super) fn mounts(&mut self, host: &Name, configuration: &Configuration) {
        for mounted in [false, true] {
            for found in &configuration.facts {
                let Fact::Mount(mount) = &found.fact else { continue };
                if mount.mounted == mounted {
                    self.mount(host, mount, &found.spot);
                }
            }
        }
    }

    fn mount(&mut self, host: &Name, mount: &MountFact, spot: &Spot) {
        if (of_the_kernel(&mount.filesystem) || NO_MEDIA.contains(&mount.filesystem.raw()))
            && !mount.options.has("bind")
            && !mount.options.has("rbind")
        {
            return;
        }
        let Some(at) = absolute(&mount.at) else { return };
        if SYSTEM.contains(&at.as_bytes()) {
            return;
        }
        let Ok(source) = std::str::from_utf8(&mount.source) else {
            return self.leave(spot, "the source is no UTF-8, and a layout is");
        };
        let protocol = match network_protocol(&mount.filesystem) {
            Some(protocol) => protocol,
            None if mount.filesystem == "smb" => Protocol::Smb,
            None if mount.options.has("bind") || mount.options.has("rbind") => Protocol::Bind,
            // A table of what is mounted shows binds as further mounts of a device.
            None if mount.mounted => return,
            None => Protocol::Disk,
        };
        if !self.part(Part::mount(host, &at), spot) {
            return;
        }
        let source = source.replace('\\', "/");
        // A user may stand before the server.
        let (source, of_source) =
            match source.strip_prefix("//").and_then(|rest| rest.split_once('@')) {
                Some((user, rest)) if protocol == Protocol::Smb && !user.contains('/') => {
                    let user = user.split([':', '%', ';']).next_back().unwrap_or(user);
                    (format!("//{rest}"), Some(Name::from(user)))
                }
                _ => (source, None),
            };
        let value =
            |keys: &[&str]| keys.iter().find_map(|key| mount.options.value(key)).map(str::to_owned);
        let user = value(&["username", "user"])
            .map(Name::from)
            .or(of_source.filter(|user| *user != HIDDEN));
        let credentials =
            value(&["credentials", "cred"]).and_then(|path| absolute(path.as_bytes()));
        let apart = ["username", "user", "credentials", "cred", "password", "pass", "passwd"];
        let removable = protocol == Protocol::Disk
            && mount.options.has("nofail")
            && mount.options.has("noauto");
        let kept = mount.options.iter().filter(|option| {
            let key = option.split('=').next().unwrap_or(option);
            // What a password left behind says nothing, and `defaults` is no option.
            !(apart.contains(&key) && option.contains('='))
                && *option != "defaults"
                && !option.contains(HIDDEN)
        });
        let options: MountOptions = match mount.mounted {
            // The kernel's table has a dozen options that nobody wrote.
            true => mount.options.iter().filter(|option| *option == "ro").collect(),
            false => kept.collect(),
        };
        let from = self.source(protocol, &source);
        self.done.layout.mounts.push(Mount {
            host: host.clone(),
            from,
            protocol,
            at,
            options,
            user: user.filter(|_| protocol == Protocol::Smb),
            credentials: credentials.filter(|_| protocol == Protocol::Smb),
            removable,
            origin: Origin::default(),
        });
    }

    /// A source by the share that it is, where one is known; else as it is written.
    pub(super) fn source(&self, protocol: Protocol, source: &str) -> MountSource {
        let literal = || MountSource::Literal(source.into());
        let parts = match protocol {
            Protocol::Nfs => {
                source.split_once(":/").map(|(server, path)| (server, format!("/{path}")))
            }
            Protocol::Smb => source
                .strip_prefix("//")
                .and_then(|rest| rest.split_once('/'))
                .map(|(server, share)| (server, share.trim_end_matches('/').to_owned())),
            _ => None,
        };
        let Some((server, what)) = parts else { return literal() };
        let shares = self.done.layout.shares.iter().chain(&self.known.shares);
        let found =
            shares.filter(|share| names(&share.host, server)).find(|share| match protocol {
                Protocol::Nfs => {
                    AbsPath::new(what.as_bytes()).is_ok_and(|path| path == share.path)
                        && !share.nfs.is_empty()
                }
                _ => share.smb.is_some() && share.name.raw().eq_ignore_ascii_case(&what),
            });
        found.map_or_else(literal, |share| MountSource::Share(share.name.clone()))
    }
}

/// Whether a server's name is that of a host: its own, or with a domain behind it.
fn names(host: &Name, server: &str) -> bool {
    let label = server.split('.').next().unwrap_or(server);
    let is_number = server.parse::<std::net::IpAddr>().is_ok();
    !is_number
        && (host.raw().eq_ignore_ascii_case(server) || host.raw().eq_ignore_ascii_case(label))
}

/// An export as a layout says it: options that it has words for stand in those.
fn exported(export: &NfsExport) -> NfsExport {
    let worded = |option: &&String| {
        let key = option.split('=').next().unwrap_or(option);
        !WORDED.contains(&key) && !matches!(key, "anonuid" | "anongid")
    };
    NfsExport { options: export.options.iter().filter(worded).cloned().collect(), ..export.clone() }
}

/// An offer as a layout says it: groups go by `@`, and `%S` is the share's own name (smb.conf(5)).
fn offer(share: &Name, offer: &SmbOffer) -> SmbOffer {
    let mut offer = offer.clone();
    let lists =
        [&mut offer.only, &mut offer.deny, &mut offer.read, &mut offer.write, &mut offer.admins];
    for name in lists.into_iter().flatten() {
        if let Some(group) = name.raw().strip_prefix(['+', '&']) {
            *name = format!("@{}", group.trim_start_matches(['+', '&'])).into();
        }
        if name.raw().contains("%S") {
            *name = name.raw().replace("%S", share.raw()).into();
        }
    }
    offer
}

/// Everybody whom an offer names.
fn named(offer: &SmbOffer) -> impl Iterator<Item = &Name> {
    let lists = [&offer.only, &offer.deny, &offer.read, &offer.write, &offer.admins];
    lists.into_iter().flatten().chain(&offer.force_user).chain(&offer.force_group)
}
