//! From a brief to a layout that is right from the start, with the reason for each choice.

pub mod brief;

use crate::layout::{
    Account, Dataset, Declared, FetchStep, Folder, Group, GroupRef, Host, HostRole, Intake, Kind,
    Label, Layout, Library, MapSource, Mapping, Mode, Mount, MountSource, NfsExport, Origin, Os,
    Protocol, Purpose, Right, RunAs, Service, ServiceRole, Share, SmbOffer, SortStep, Squash, Want,
};
use crate::path::AbsPath;
use brief::{Apps, Brief, Containers, Filesystem, Reach, Wanted};

/// Why something is as it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Reason {
    /// What it is about, as the layout names it: `host.granary`, `share.media`, `/silo/media`.
    pub about: String,
    /// In one sentence.
    pub why: String,
}

/// A drafted layout.
#[derive(Clone, Debug, PartialEq)]
pub struct Draft {
    /// The layout. It has no places in a file yet.
    pub layout: Layout,
    /// Its reasons, in the order in which they matter.
    pub reasons: Vec<Reason>,
}

/// Everybody in the folder's group may add and change; new entries get that group.
const SHARED: u16 = 0o2775;
/// The same, and nobody else may do anything.
const CLOSED: u16 = 0o2770;
/// What services see the storage as.
const INSIDE: &[u8] = b"/media";
const INSIDE_INTAKE: &[u8] = b"/intake";
const CONFIG: &[u8] = b"/config";

/// Makes a layout of a brief that has no [`brief::contradictions`].
pub fn draft(brief: &Brief) -> Draft {
    let mut drafter = Drafter { brief, reasons: Vec::new() };
    let layout = Layout {
        site: brief.site.clone(),
        hosts: drafter.hosts(),
        shares: drafter.shares(),
        mounts: drafter.mounts(),
        services: drafter.services(),
        intakes: drafter.intakes(),
        folders: drafter.folders(),
        rules: Default::default(),
    };
    Draft { layout, reasons: drafter.reasons }
}

struct Drafter<'a> {
    brief: &'a Brief,
    reasons: Vec<Reason>,
}

/// One connected part of the storage: what is shared, mounted and mapped as one.
#[derive(Clone)]
struct Area {
    share: &'static str,
    path: AbsPath,
    /// Where services see it.
    inside: AbsPath,
}

fn absolute(path: &[u8]) -> AbsPath {
    AbsPath::new(path).expect("it is written so")
}

fn declared(path: &AbsPath) -> Declared {
    Declared {
        written: String::from_utf8_lossy(path.as_bytes()).into_owned(),
        path: Ok(path.clone()),
        origin: Origin::default(),
    }
}

fn pair(name: &str, value: &str) -> (String, String) {
    (name.to_owned(), value.to_owned())
}

fn title(kind: Kind) -> String {
    let word = kind.word().replace('-', " ");
    let mut letters = word.chars();
    letters.next().map_or_else(String::new, |first| first.to_uppercase().chain(letters).collect())
}

impl Drafter<'_> {
    fn why(&mut self, about: impl Into<String>, why: impl Into<String>) {
        self.reasons.push(Reason { about: about.into(), why: why.into() });
    }

    fn media(&self) -> AbsPath {
        self.brief.storage.at.child(b"media")
    }

    /// Where downloads are on their way.
    fn intake(&self) -> AbsPath {
        match &self.brief.storage.intake_pool {
            Some((pool, _)) if *pool != self.brief.storage.pool => {
                absolute(format!("/{pool}").as_bytes()).child(b"intake")
            }
            _ => self.media().child(b"intake"),
        }
    }

    fn has_intake(&self) -> bool {
        self.brief.services.iter().any(Wanted::writes)
    }

    fn apart(&self) -> bool {
        self.has_intake() && !self.intake().within(&self.media())
    }

    fn areas(&self) -> Vec<Area> {
        let media = Area { share: "media", path: self.media(), inside: absolute(INSIDE) };
        let intake = Area { share: "intake", path: self.intake(), inside: absolute(INSIDE_INTAKE) };
        if self.apart() { vec![media, intake] } else { vec![media] }
    }

    /// Kinds that get a dataset of their own.
    fn apart_kinds(&self) -> Vec<Kind> {
        let datasets = self.brief.storage.filesystem.has_datasets();
        self.brief
            .kinds
            .iter()
            .copied()
            .filter(|kind| datasets && self.brief.is_apart(*kind))
            .collect()
    }

    fn hosts(&mut self) -> Vec<Host> {
        let brief = self.brief;
        let mut hosts = vec![self.storage()];
        for apps in &brief.apps {
            let accounts = self.accounts(|service| service.host == apps.host, false);
            let mut groups = Vec::new();
            if brief.services.iter().any(|s| s.host == apps.host && s.writes()) {
                let team = if brief.acls { &brief.helpers } else { &brief.keepers };
                groups.push(Group { name: team.name.clone(), gid: team.gid });
            }
            if !accounts.is_empty() {
                self.why(
                    format!("host.{}", apps.host),
                    match apps.reach {
                        Reach::Nfs => format!(
                            "accounts have the same numbers as on {}: over NFS only numbers travel",
                            brief.storage.host
                        ),
                        Reach::Smb => format!(
                            "accounts have the same numbers as on {}, so that nobody has to translate; over SMB the server sees the account that mounts",
                            brief.storage.host
                        ),
                    },
                );
            }
            hosts.push(Host {
                roles: vec![HostRole::Apps],
                addresses: vec![apps.address.clone()],
                selinux: apps.selinux.then_some(true),
                accounts,
                groups,
                ..host(&apps.host)
            });
        }
        hosts.extend(brief.clients.iter().map(|client| Host {
            roles: vec![HostRole::Client],
            os: client.os,
            ..host(&client.host)
        }));
        hosts
    }

    fn storage(&mut self) -> Host {
        let brief = self.brief;
        let storage = &brief.storage;
        let about = format!("host.{}", storage.host);
        let mut roles = vec![HostRole::Storage];
        if brief.services.iter().any(|service| service.host == storage.host) {
            roles.push(HostRole::Apps);
        }
        let mut groups = vec![Group { name: brief.keepers.name.clone(), gid: brief.keepers.gid }];
        if !brief.watch.is_empty() {
            groups.push(Group { name: brief.viewers.name.clone(), gid: brief.viewers.gid });
        }
        if self.has_intake() && brief.acls {
            groups.push(Group { name: brief.helpers.name.clone(), gid: brief.helpers.gid });
            self.why(
                &about,
                format!(
                    "one group for people ({}) and one for services that write ({}): whoever comes or goes changes a group, never a folder",
                    brief.keepers.name, brief.helpers.name
                ),
            );
        }
        if !brief.acls {
            self.why(
                &about,
                format!(
                    "without ACLs one group ({}) holds everybody who writes, folders pass it on (setgid), and writers have the umask 002",
                    brief.keepers.name
                ),
            );
        }
        self.why(
            &about,
            "an account per service, and none of them root: what one service may do stays apart from the others",
        );
        let datasets = self.datasets();
        Host {
            roles,
            addresses: vec![storage.address.clone()],
            selinux: storage.selinux.then_some(true),
            datasets,
            accounts: self.accounts(|_| true, true),
            groups,
            ..host(&storage.host)
        }
    }

    fn accounts(&self, of: impl Fn(&Wanted) -> bool, people: bool) -> Vec<Account> {
        let brief = self.brief;
        let mut accounts = Vec::new();
        if people {
            let members = [(&brief.add, &brief.keepers), (&brief.watch, &brief.viewers)];
            for (people, team) in members {
                accounts.extend(people.iter().map(|person| Account {
                    name: person.name.clone(),
                    uid: person.uid,
                    gid: None,
                    groups: vec![team.name.clone()],
                }));
            }
        }
        accounts.extend(brief.services.iter().filter(|service| of(service)).map(|service| {
            Account {
                name: service.name.clone(),
                uid: service.id,
                gid: Some(self.gid(service)),
                groups: Vec::new(),
            }
        }));
        accounts
    }

    /// Writers have the group of writers for their own, so that what they make anywhere belongs to it.
    fn gid(&self, service: &Wanted) -> u32 {
        match (service.writes(), self.brief.acls) {
            (false, _) => service.id,
            (true, true) => self.brief.helpers.gid,
            (true, false) => self.brief.keepers.gid,
        }
    }

    fn datasets(&mut self) -> Vec<Dataset> {
        let brief = self.brief;
        let storage = &brief.storage;
        let media = self.media();
        let dataset = |name: String, at: AbsPath, properties: Vec<(String, String)>| Dataset {
            name,
            at,
            filesystem: Some(storage.filesystem.word().to_owned()),
            quota: None,
            properties,
            origin: Origin::default(),
        };
        let mut datasets = Vec::new();
        if storage.filesystem == Filesystem::Zfs {
            let mut properties = vec![
                pair("recordsize", "1M"),
                pair("atime", "off"),
                pair("xattr", "sa"),
                pair("compression", "lz4"),
            ];
            if brief.acls {
                properties.push(pair("acltype", "posixacl"));
            }
            properties.push(pair("casesensitivity", "sensitive"));
            let name = format!("{}/media", storage.pool);
            for (property, why) in [
                (
                    "recordsize=1M",
                    "media is read in long runs; large records mean fewer of them and less metadata",
                ),
                ("atime=off", "reading a film is no reason to write"),
                (
                    "xattr=sa",
                    "ACLs and labels lie with the inode, not in a hidden folder that costs a read each",
                ),
                ("compression=lz4", "costs nothing on media, and helps the small files beside it"),
                ("acltype=posixacl", "without it ZFS on Linux keeps no POSIX ACL"),
                (
                    "casesensitivity=sensitive",
                    "the services run on Linux; SMB makes names fit for clients by itself",
                ),
            ] {
                if brief.acls || !property.starts_with("acltype") {
                    self.why(&name, format!("{property}: {why}"));
                }
            }
            datasets.push(dataset(name, media.clone(), properties.clone()));
            for kind in self.apart_kinds() {
                let name = format!("{}/media/{}", storage.pool, kind.word());
                let at = media.child(kind.word().as_bytes());
                let mut properties = properties.clone();
                if kind == Kind::Photos || kind == Kind::Books {
                    properties[0] = pair("recordsize", "128K");
                    self.why(&name, "recordsize=128K: its files are small");
                }
                datasets.push(dataset(name, at, properties));
            }
        } else if storage.filesystem == Filesystem::Btrfs {
            datasets.push(dataset(storage.pool.clone(), storage.at.clone(), Vec::new()));
            datasets.push(dataset("media".into(), media.clone(), Vec::new()));
            for kind in self.apart_kinds() {
                let at = media.child(kind.word().as_bytes());
                datasets.push(dataset(format!("media/{}", kind.word()), at, Vec::new()));
            }
        } else {
            datasets.push(dataset(storage.pool.clone(), storage.at.clone(), Vec::new()));
        }
        for kind in self.apart_kinds() {
            self.why(
                format!("{}", media.child(kind.word().as_bytes())),
                format!(
                    "{} {}; the price is that nothing can be hard-linked or renamed into it from the intake",
                    kind.word(),
                    if brief.is_original(kind) {
                        "can't be replaced: a dataset of their own has its own snapshots and backup"
                    } else {
                        "get a dataset of their own, as the brief wants: it has its own snapshots and quota"
                    }
                ),
            );
        }
        for (kind, _) in brief.originals.iter().filter(|_| !storage.filesystem.has_datasets()) {
            self.why(
                format!("{}", media.child(kind.word().as_bytes())),
                format!(
                    "{} can't be replaced, and {} has no snapshots: the backup is all that there is",
                    kind.word(),
                    storage.filesystem.word()
                ),
            );
        }
        if self.apart() {
            let (pool, _) = storage.intake_pool.clone().expect("it is apart");
            let name =
                if storage.filesystem == Filesystem::Zfs { format!("{pool}/intake") } else { pool };
            let at = if storage.filesystem == Filesystem::Zfs {
                self.intake()
            } else {
                self.intake().parent().expect("it lies in a pool")
            };
            datasets.push(dataset(name, at, Vec::new()));
            self.why(
                format!("{}", self.intake()),
                "downloads lie on another pool, as the brief wants: filing one into a library copies it, and both take their space until the download goes",
            );
        }
        datasets
    }

    fn folders(&mut self) -> Vec<Folder> {
        let brief = self.brief;
        let storage = &brief.storage;
        let folder = |path: AbsPath| Folder {
            host: storage.host.clone(),
            path,
            owner: Some("root".into()),
            group: Some(brief.keepers.name.clone()),
            // With ACLs nobody else gets anything; without, everybody else reads.
            mode: Some(if brief.acls { CLOSED } else { SHARED }),
            rights: Vec::new(),
            purpose: None,
            origin: Origin::default(),
        };
        let mut rights = Vec::new();
        if brief.acls {
            if !brief.add.is_empty() {
                rights.push((format!("@{}", brief.keepers.name), Right::Change));
            }
            if !brief.watch.is_empty() {
                rights.push((format!("@{}", brief.viewers.name), Right::Read));
            }
            if self.has_intake() {
                rights.push((format!("@{}", brief.helpers.name), Right::Change));
            }
            for service in brief.services.iter().filter(|service| !service.writes()) {
                rights.push((service.name.clone(), Right::Read));
            }
        }
        let media = self.media();
        let mut folders = vec![Folder {
            purpose: Some(Purpose::Media),
            rights: rights.clone(),
            ..folder(media.clone())
        }];
        self.why(
            format!("{media}"),
            "one parent for everything: services get it in one mapping, agree about every path, and can hard-link within it",
        );
        if brief.acls {
            self.why(
                format!("{media}"),
                "rights are inherited (default ACL), so that whatever anybody adds stays usable for all the others",
            );
        }
        for kind in &brief.kinds {
            folders.push(folder(media.child(kind.word().as_bytes())));
        }
        if self.has_intake() {
            let intake = self.intake();
            let own_rights = if self.apart() { rights } else { Vec::new() };
            folders.push(Folder {
                purpose: Some(Purpose::Intake),
                rights: own_rights,
                ..folder(intake.clone())
            });
            folders.push(folder(intake.child(b"partial")));
            folders.push(folder(intake.child(b"done")));
            for kind in brief.fetched() {
                folders.push(folder(intake.child(b"done").child(kind.word().as_bytes())));
            }
            self.why(
                format!("{intake}"),
                "unfinished and finished downloads lie apart, and finished ones by category, so that nothing is filed before it is whole",
            );
            if brief.want.0 != Want::Copy {
                self.why(
                    format!("{intake}"),
                    "it has the same rights as the libraries: a linked or renamed file keeps those that it was made with",
                );
            }
        }
        for service in &brief.services {
            let group = if service.writes() {
                Some(if brief.acls {
                    brief.helpers.name.clone()
                } else {
                    brief.keepers.name.clone()
                })
            } else {
                None
            };
            folders.push(Folder {
                host: service.host.clone(),
                path: config_of(service),
                owner: Some(service.name.clone()),
                group,
                mode: Some(0o750),
                rights: Vec::new(),
                purpose: Some(Purpose::Config),
                origin: Origin::default(),
            });
        }
        if !brief.services.is_empty() {
            self.why(
                "/srv",
                "configuration lies on the local disk of the host that runs the service, apart from media: databases do badly over a network, and nobody who browses the share finds them",
            );
            if brief.backup.is_none() {
                self.why(
                    "/srv",
                    "the brief names no backup: configuration and originals are what a restore needs, so say where to (backup = \"…\")",
                );
            }
        }
        folders
    }

    fn shares(&mut self) -> Vec<Share> {
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
                if nfs[0].access == Mode::ReadOnly {
                    self.why(&about, "read-only: every service behind it only reads, so that even a mapping gone wrong can't harm a library");
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
                        "Windows clients can't show names with < > : \" | ? * or a dot or space at their end: let whatever sorts replace those",
                    );
                }
                self.why(&about, "no recycle folder: what is deleted of replaceable media should give its space back; originals have snapshots");
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

    fn exports(&self, area: &Area) -> Vec<NfsExport> {
        let brief = self.brief;
        let crossmnt = area.share == "media" && !self.apart_kinds().is_empty();
        let over_nfs: Vec<&Apps> =
            brief.apps.iter().filter(|apps| apps.reach == Reach::Nfs).collect();
        let export = |clients: &str, access| NfsExport {
            clients: clients.to_owned(),
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
                    over_nfs.iter().any(|apps| self.mode_on(&apps.host) == Mode::ReadWrite);
                vec![export(subnet, if writes { Mode::ReadWrite } else { Mode::ReadOnly })]
            }
            None => over_nfs
                .iter()
                .map(|apps| export(&apps.address, self.mode_on(&apps.host)))
                .collect(),
        }
    }

    /// A host mounts writable only if something on it writes.
    fn mode_on(&self, host: &str) -> Mode {
        let writes = self.brief.services.iter().any(|s| s.host == host && s.writes());
        if writes { Mode::ReadWrite } else { Mode::ReadOnly }
    }

    fn offer(&self) -> SmbOffer {
        let brief = self.brief;
        let mut offer =
            SmbOffer { create_mask: Some(0o664), folder_mask: Some(SHARED), ..SmbOffer::default() };
        if !brief.add.is_empty() {
            offer.write.push(format!("@{}", brief.keepers.name));
        }
        if !brief.watch.is_empty() {
            offer.read.push(format!("@{}", brief.viewers.name));
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
    fn connecting(&self, apps: &Apps) -> Option<&Wanted> {
        let mut on = self.brief.services.iter().filter(|service| service.host == apps.host);
        on.clone().find(|service| service.writes()).or_else(|| on.next())
    }

    /// Where an area is on a host.
    fn place_on(&self, host: &str, area: &Area) -> AbsPath {
        let brief = self.brief;
        if host == brief.storage.host || brief.containers == Containers::None {
            // Without containers hosts agree about paths by having the same.
            return area.path.clone();
        }
        absolute(b"/mnt").child(brief.storage.host.as_bytes()).child(area.share.as_bytes())
    }

    fn mounts(&mut self) -> Vec<Mount> {
        let brief = self.brief;
        let storage = &brief.storage;
        let mut mounts = Vec::new();
        let mount = |host: &str, from: MountSource, protocol, at: AbsPath, options: &str| Mount {
            host: host.to_owned(),
            from,
            protocol,
            at,
            options: options.split(',').filter(|o| !o.is_empty()).map(str::to_owned).collect(),
            user: None,
            credentials: None,
            removable: false,
            origin: Origin::default(),
        };
        if storage.filesystem != Filesystem::Zfs {
            let from = MountSource::Literal(format!("LABEL={}", storage.pool));
            mounts.push(mount(
                &storage.host,
                from,
                Protocol::Disk,
                storage.at.clone(),
                "noatime,nofail",
            ));
            self.why(
                format!("{}", storage.at),
                "mounted by label, which stays when disks are numbered anew; noatime, since reading is no reason to write",
            );
            if let (true, Some((pool, _))) = (self.apart(), &storage.intake_pool) {
                let from = MountSource::Literal(format!("LABEL={pool}"));
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
                    let file = format!("/etc/credentials/{}-{}", storage.host, area.share);
                    self.why(
                        format!("{at}"),
                        "name and password lie in a file that only root may read (0600), not in fstab, which everybody may",
                    );
                    mounts.push(Mount {
                        user: Some(service.name.clone()),
                        credentials: Some(absolute(file.as_bytes())),
                        ..mount(&apps.host, from, Protocol::Smb, at.clone(), &options)
                    });
                }
                self.why(
                    format!("{at}"),
                    "mounted by the host at boot, once for all services; nofail and _netdev, so that neither host waits for the other for ever",
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
                Os::Linux => absolute(b"/mnt").child(storage.host.as_bytes()).child(b"media"),
            };
            let options = if client.os == Os::Linux { "vers=3.1.1,nofail,_netdev" } else { "" };
            let file = format!("/etc/credentials/{}-media", storage.host);
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

    fn services(&mut self) -> Vec<Service> {
        let brief = self.brief;
        let mut services = Vec::new();
        for service in &brief.services {
            let apps = brief.apps_on(&service.host);
            let selinux = apps.map_or(brief.storage.selinux, |apps| apps.selinux);
            let mode = if service.writes() { Mode::ReadWrite } else { Mode::ReadOnly };
            let mut areas = self.areas();
            if !service.writes() {
                areas.truncate(1);
            }
            let mapping = |from: &AbsPath, to: &AbsPath, access, label, propagation| Mapping {
                source: MapSource::Folder(declared(from)),
                to: declared(to),
                access,
                label,
                propagation,
                origin: Origin::default(),
            };
            let mut map: Vec<Mapping> = areas
                .iter()
                .map(|area| {
                    let label = (selinux && apps.is_none()).then_some(Label::Shared);
                    // What the host mounts later reaches a running container only as its slave.
                    let propagation = apps.map(|_| "rslave".to_owned());
                    let from = self.place_on(&service.host, area);
                    mapping(&from, &area.inside, mode, label, propagation)
                })
                .collect();
            map.push(mapping(
                &config_of(service),
                &absolute(CONFIG),
                Mode::ReadWrite,
                selinux.then_some(Label::Private),
                None,
            ));
            let in_view = brief.containers != Containers::None;
            let media = &areas[0];
            let view =
                if in_view { media.inside.clone() } else { self.place_on(&service.host, media) };
            let library = |kind: Kind| Library {
                name: title(kind),
                kind,
                roots: vec![declared(&view.child(kind.word().as_bytes()))],
                original: brief.is_original(kind),
                backup: brief.backup.clone().filter(|_| brief.is_original(kind)),
                prefer: None,
                origin: Origin::default(),
            };
            let about = format!("service.{}", service.name);
            if !service.writes() {
                self.why(&about, "it serves, so it reads only: by its mapping and by its rights, so that either may fail");
            } else if !in_view {
                self.why(&about, "the umask 002 leaves what it makes writable for its group");
            } else {
                self.why(&about, "it gets the parent in one mapping: two mappings of one filesystem are two mounts, and no link crosses them");
            }
            services.push(Service {
                name: service.name.clone(),
                host: service.host.clone(),
                roles: service.roles.clone(),
                runs_as: RunAs::Numbers(service.id, Some(self.gid(service))),
                groups: Vec::<GroupRef>::new(),
                umask: service.writes().then_some(0o002),
                userns: None,
                map: in_view.then_some(map),
                ports: service.ports.clone(),
                network: None,
                config: Some(config_of(service)),
                backup: brief.backup.clone(),
                libraries: if service.does(ServiceRole::Serve) {
                    brief.kinds_of(service).into_iter().map(library).collect()
                } else {
                    Vec::new()
                },
                origin: Origin::default(),
            });
        }
        services
    }

    fn intakes(&mut self) -> Vec<Intake> {
        let brief = self.brief;
        let handles = |role: ServiceRole, kind: Kind| {
            let mut services = brief.services.iter();
            services.find(move |s| s.does(role) && brief.kinds_of(s).contains(&kind))
        };
        let areas = self.areas();
        let seen_by = |service: &Wanted, area: &Area| {
            let inside = brief.containers != Containers::None;
            if inside { area.inside.clone() } else { self.place_on(&service.host, area) }
        };
        let intake_of = |service: &Wanted| match areas.get(1) {
            Some(intake) => seen_by(service, intake),
            None => seen_by(service, &areas[0]).child(b"intake"),
        };
        let mut intakes = Vec::new();
        for kind in brief.fetched() {
            let word = kind.word();
            let done = |service: &Wanted| intake_of(service).child(b"done").child(word.as_bytes());
            intakes.push(Intake {
                name: word.to_owned(),
                fetch: handles(ServiceRole::Fetch, kind).map(|service| FetchStep {
                    service: service.name.clone(),
                    partial: Some(intake_of(service).child(b"partial")),
                    done: done(service),
                    category: Some(word.to_owned()),
                }),
                sort: handles(ServiceRole::Sort, kind).map(|service| SortStep {
                    service: service.name.clone(),
                    reads: done(service),
                    files_into: seen_by(service, &areas[0]).child(word.as_bytes()),
                    category: Some(word.to_owned()),
                }),
                want: brief.want.0,
                origin: Origin::default(),
            });
        }
        intakes
    }
}

fn config_of(service: &Wanted) -> AbsPath {
    absolute(b"/srv").child(service.name.as_bytes())
}

fn host(name: &str) -> Host {
    Host {
        name: name.to_owned(),
        roles: Vec::new(),
        os: Os::Linux,
        addresses: Vec::new(),
        inside: None,
        map: Vec::new(),
        idmap: Vec::new(),
        selinux: None,
        datasets: Vec::new(),
        accounts: Vec::new(),
        groups: Vec::new(),
        origin: Origin::default(),
    }
}
