//! The storage host: its groups and datasets, and every folder of the site.

use crate::draft::brief::Filesystem;
use crate::draft::{CLOSED, Drafter, SHARED, config_of, host, in_group, pair};
use crate::layout::folder::{Folder, Purpose, Right};
use crate::layout::host::{Dataset, Host, HostRole};
use crate::layout::intake::Want;
use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::terms::{Group, Kind, Origin};

impl Drafter<'_> {
    pub(super) fn storage(&mut self) -> Host {
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
                    "one group for people ({}) and one for services that write ({}): whoever comes \
                     or goes changes a group, never a folder",
                    brief.keepers.name, brief.helpers.name
                ),
            );
        }
        if !brief.acls {
            self.why(
                &about,
                format!(
                    "without ACLs one group ({}) holds everybody who writes, folders pass it on \
                     (setgid), and writers have the umask 002",
                    brief.keepers.name
                ),
            );
        }
        self.why(
            &about,
            "an account per service, and none of them root: what one service may do stays apart \
             from the others",
        );
        let datasets = self.datasets();
        Host {
            roles,
            addresses: vec![storage.address.clone()],
            selinux: storage.selinux.then_some(true),
            manage_gids: false,
            datasets,
            accounts: self.accounts(|_| true, true),
            groups,
            ..host(&storage.host)
        }
    }

    pub(super) fn datasets(&mut self) -> Vec<Dataset> {
        let brief = self.brief;
        let storage = &brief.storage;
        let media = self.media();
        let dataset = |name: Name, at: AbsPath, properties: Vec<(String, String)>| Dataset {
            name,
            at,
            filesystem: Some(storage.filesystem.word().into()),
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
            let name = format!("{}/media", storage.pool.raw());
            for (property, why) in [
                (
                    "recordsize=1M",
                    "media is read in long runs; large records mean fewer of them and less \
                     metadata",
                ),
                ("atime=off", "reading a film is no reason to write"),
                (
                    "xattr=sa",
                    "ACLs and labels lie with the inode, not in a hidden folder that costs a read \
                     each",
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
            datasets.push(dataset(name.into(), media.clone(), properties.clone()));
            for kind in self.apart_kinds() {
                let name = format!("{}/media/{}", storage.pool.raw(), kind.word());
                let at = media.child(kind.word().as_bytes());
                let mut properties = properties.clone();
                if kind == Kind::Photos || kind == Kind::Books {
                    properties[0] = pair("recordsize", "128K");
                    self.why(&name, "recordsize=128K: its files are small");
                }
                datasets.push(dataset(name.into(), at, properties));
            }
        } else if storage.filesystem == Filesystem::Btrfs {
            datasets.push(dataset(storage.pool.clone(), storage.at.clone(), Vec::new()));
            datasets.push(dataset("media".into(), media.clone(), Vec::new()));
            for kind in self.apart_kinds() {
                let at = media.child(kind.word().as_bytes());
                datasets.push(dataset(format!("media/{}", kind.word()).into(), at, Vec::new()));
            }
        } else {
            datasets.push(dataset(storage.pool.clone(), storage.at.clone(), Vec::new()));
        }
        for kind in self.apart_kinds() {
            self.why(
                format!("{}", media.child(kind.word().as_bytes())),
                format!(
                    "{} {}; the price is that nothing can be hard-linked or renamed into it from \
                     the intake",
                    kind.word(),
                    if brief.is_original(kind) {
                        "can't be replaced: a dataset of their own can have snapshots and a backup \
                         of its own"
                    } else {
                        "get a dataset of their own, as the brief wants: it can have snapshots and \
                         a quota of its own"
                    }
                ),
            );
        }
        for (kind, _) in brief.originals.iter().filter(|_| !storage.filesystem.has_datasets()) {
            self.why(
                format!("{}", media.child(kind.word().as_bytes())),
                format!(
                    "{} can't be replaced, and {} has no snapshots: the backup is all that there \
                     is",
                    kind.word(),
                    storage.filesystem.word()
                ),
            );
        }
        if self.apart() {
            let (pool, _) = storage.intake_pool.clone().expect("it is apart");
            let name = if storage.filesystem == Filesystem::Zfs {
                format!("{}/intake", pool.raw()).into()
            } else {
                pool
            };
            let at = if storage.filesystem == Filesystem::Zfs {
                self.intake()
            } else {
                self.intake().parent().expect("it lies in a pool")
            };
            datasets.push(dataset(name, at, Vec::new()));
            self.why(
                format!("{}", self.intake()),
                "downloads lie on another pool, as the brief wants: filing one into a library \
                 copies it, and both take their space until the download goes",
            );
        }
        datasets
    }

    pub(super) fn folders(&mut self) -> Vec<Folder> {
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
                rights.push((in_group(&brief.keepers), Right::Change));
            }
            if !brief.watch.is_empty() {
                rights.push((in_group(&brief.viewers), Right::Read));
            }
            if self.has_intake() {
                rights.push((in_group(&brief.helpers), Right::Change));
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
            "one parent for everything: services get it in one mapping, agree about every path, \
             and can hard-link within it",
        );
        if brief.acls {
            self.why(
                format!("{media}"),
                "rights are inherited (default ACL), so that whatever anybody adds stays usable \
                 for all the others",
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
                "unfinished and finished downloads lie apart, and finished ones by category, so \
                 that nothing is filed before it is whole",
            );
            if brief.want.0 != Want::Copy {
                self.why(
                    format!("{intake}"),
                    "it has the same rights as the libraries: a linked or renamed file keeps those \
                     that it was made with",
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
                "configuration lies on the local disk of the host that runs the service, apart \
                 from media: databases do badly over a network, and nobody who browses the share \
                 finds them",
            );
            if brief.backup.is_none() {
                self.why(
                    "/srv",
                    "the brief names no backup: configuration and originals are what a restore \
                     needs, so say where to (backup = \"…\")",
                );
            }
        }
        folders
    }
}
