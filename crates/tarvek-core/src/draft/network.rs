//! How other hosts reach the storage: shares, exports and mounts.

use crate::draft::brief::{Apps, Containers, Filesystem, Reach, Wanted};
use crate::draft::{Area, Drafter, SHARED, absolute, in_group};
use crate::layout::mount::{Mount, MountSource};
use crate::layout::share::Share;
use crate::words::name::Name;
use crate::words::offer::{NfsExport, SmbOffer, Squash};
use crate::words::options::MountOptions;
use crate::words::path::AbsPath;
use crate::words::terms::{Access, Origin, Os, Protocol};

impl Drafter<'_> {
    pub(super) fn shares(&mut self) -> Vec<Share> {
        let brief = self.brief;
        let mut shares = Vec::new();
        for area in self.areas() {
            let over = |reach| brief.apps.iter().filter(move |apps| apps.reach == reach);
            let nfs = self.exports(&area);
            let smb = over(Reach::Smb).next().is_some() || !brief.clients.is_empty();
            let smb = smb.then(|| self.offer());
            if nfs.is_empty() && smb.is_none() {
                continue;
            }
            let about = format!("share.{}", area.share);
            if !nfs.is_empty() {
                self.why(&about, "root of a client is nobody here (root_squash)");
                if nfs[0].access == Access::ReadOnly {
                    self.why(
                        &about,
                        "read-only: every service behind it only reads, so that even \
                                      a mapping gone wrong can't harm a library",
                    );
                }
                if nfs[0].crossmnt {
                    self.why(&about, "crossmnt: without it clients find the child datasets empty");
                }
            }
            if smb.is_some() {
                self.why(&about, "no guests over SMB: whoever reads or writes has a name");
                if brief.clients.iter().any(|client| client.os == Os::Windows) {
                    self.why(
                        &about,
                        "Windows clients can't show names with < > : \" | ? * or a dot or space at \
                         their end: let whatever sorts replace those",
                    );
                }
                self.why(
                    &about,
                    "no recycle folder: what is deleted of replaceable media should \
                                  give its space back at once",
                );
            }
            shares.push(Share {
                name: area.share.into(),
                host: brief.storage.host.clone(),
                path: area.path,
                nfs,
                smb,
                also: Vec::new(),
                origin: Origin::default(),
            });
        }
        shares
    }

    pub(super) fn exports(&self, area: &Area) -> Vec<NfsExport> {
        let brief = self.brief;
        let crossmnt = area.share == "media" && !self.apart_kinds().is_empty();
        let over_nfs: Vec<&Apps> =
            brief.apps.iter().filter(|apps| apps.reach == Reach::Nfs).collect();
        let export = |clients: &Name, access| NfsExport {
            clients: clients.clone(),
            access,
            squash: Squash::Root,
            anonuid: None,
            anongid: None,
            crossmnt,
            options: Vec::new(),
        };
        match &brief.storage.subnet {
            _ if over_nfs.is_empty() => Vec::new(),
            Some(subnet) => {
                let writes =
                    over_nfs.iter().any(|apps| self.mode_on(&apps.host) == Access::ReadWrite);
                vec![export(subnet, if writes { Access::ReadWrite } else { Access::ReadOnly })]
            }
            None => over_nfs
                .iter()
                .map(|apps| export(&apps.address, self.mode_on(&apps.host)))
                .collect(),
        }
    }

    /// A host mounts writable only if something on it writes.
    pub(super) fn mode_on(&self, host: &Name) -> Access {
        let writes = self.brief.services.iter().any(|s| s.host == *host && s.writes());
        if writes { Access::ReadWrite } else { Access::ReadOnly }
    }

    pub(super) fn offer(&self) -> SmbOffer {
        let brief = self.brief;
        let mut offer =
            SmbOffer { create_mask: Some(0o664), folder_mask: Some(SHARED), ..SmbOffer::default() };
        if !brief.add.is_empty() {
            offer.write.push(in_group(&brief.keepers));
        }
        if !brief.watch.is_empty() {
            offer.read.push(in_group(&brief.viewers));
        }
        for apps in brief.apps.iter().filter(|apps| apps.reach == Reach::Smb) {
            if let Some(service) = self.connecting(apps) {
                let list = if service.writes() { &mut offer.write } else { &mut offer.read };
                list.push(service.name.clone());
            }
        }
        offer.only = offer.write.iter().chain(&offer.read).cloned().collect();
        offer
    }

    /// Over SMB the server sees one account, whoever asks: one that can do what is needed there.
    pub(super) fn connecting(&self, apps: &Apps) -> Option<&Wanted> {
        let mut on = self.brief.services.iter().filter(|service| service.host == apps.host);
        on.clone().find(|service| service.writes()).or_else(|| on.next())
    }

    /// Where an area is on a host.
    pub(super) fn place_on(&self, host: &Name, area: &Area) -> AbsPath {
        let brief = self.brief;
        if *host == brief.storage.host || brief.containers == Containers::None {
            // Without containers hosts agree about paths by having the same.
            return area.path.clone();
        }
        absolute(b"/mnt").child(brief.storage.host.raw().as_bytes()).child(area.share.as_bytes())
    }

    pub(super) fn mounts(&mut self) -> Vec<Mount> {
        let brief = self.brief;
        let storage = &brief.storage;
        let mut mounts = Vec::new();
        let mount = |host: &Name, from: MountSource, protocol, at: AbsPath, options: &str| Mount {
            host: host.clone(),
            from,
            protocol,
            at,
            options: MountOptions::read(options),
            user: None,
            credentials: None,
            removable: false,
            origin: Origin::default(),
        };
        if storage.filesystem != Filesystem::Zfs {
            let from = MountSource::Literal(format!("LABEL={}", storage.pool.raw()).into());
            mounts.push(mount(
                &storage.host,
                from,
                Protocol::Disk,
                storage.at.clone(),
                "noatime,nofail",
            ));
            self.why(
                format!("{}", storage.at),
                "mounted by label, which stays when disks are numbered anew; noatime, since \
                 reading is no reason to write",
            );
            if let (true, Some((pool, _))) = (self.apart(), &storage.intake_pool) {
                let from = MountSource::Literal(format!("LABEL={}", pool.raw()).into());
                let at = self.intake().parent().expect("it lies in a pool");
                mounts.push(mount(&storage.host, from, Protocol::Disk, at, "noatime,nofail"));
            }
        }
        for apps in &brief.apps {
            if !brief.services.iter().any(|service| service.host == apps.host) {
                continue;
            }
            for area in self.areas() {
                let at = self.place_on(&apps.host, &area);
                let mode = self.mode_on(&apps.host).word();
                let from = MountSource::Share(area.share.into());
                if apps.reach == Reach::Nfs {
                    let options = format!("{mode},hard,vers=4.2,nofail,_netdev");
                    mounts.push(mount(&apps.host, from, Protocol::Nfs, at.clone(), &options));
                } else {
                    let service = self.connecting(apps).expect("a service runs there").clone();
                    let (files, folders) =
                        if mode == "ro" { ("0444", "0555") } else { ("0664", "0775") };
                    let options = format!(
                        "{mode},vers=3.1.1,uid={},gid={},file_mode={files},dir_mode={folders},nofail,_netdev",
                        service.id,
                        self.gid(&service)
                    );
                    let file = format!("/etc/credentials/{}-{}", storage.host.raw(), area.share);
                    self.why(
                        format!("{at}"),
                        "name and password lie in a file that only root may read (0600), not in \
                         fstab, which everybody may",
                    );
                    mounts.push(Mount {
                        user: Some(service.name.clone()),
                        credentials: Some(absolute(file.as_bytes())),
                        ..mount(&apps.host, from, Protocol::Smb, at.clone(), &options)
                    });
                }
                self.why(
                    format!("{at}"),
                    "mounted by the host at boot, once for all services; nofail and _netdev, so \
                     that neither host waits for the other for ever",
                );
                if mode == "rw" && apps.reach == Reach::Nfs {
                    self.why(
                        format!("{at}"),
                        "hard: a write waits for the server rather than get lost",
                    );
                }
            }
        }
        for client in &brief.clients {
            let at = match client.os {
                Os::Windows => absolute(b"/M:"),
                Os::Macos => absolute(b"/Volumes/media"),
                Os::Linux => absolute(b"/mnt").child(storage.host.raw().as_bytes()).child(b"media"),
            };
            let options = if client.os == Os::Linux { "vers=3.1.1,nofail,_netdev" } else { "" };
            let file = format!("/etc/credentials/{}-media", storage.host.raw());
            mounts.push(Mount {
                user: client.person.clone(),
                credentials: (client.os == Os::Linux).then(|| absolute(file.as_bytes())),
                ..mount(
                    &client.host,
                    MountSource::Share("media".into()),
                    Protocol::Smb,
                    at,
                    options,
                )
            });
        }
        mounts
    }
}
