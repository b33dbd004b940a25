//! `layout/differs-from-host`.

use std::fmt::Display;

use crate::facts::host::HostFacts;
use crate::facts::host_report::SubvolumeLimit;
use crate::facts::mounts::MountEntry;
use crate::kernel::subject::NOBODY;
use crate::layout::host::{Dataset, Host};
use crate::layout::mount::{Mount, MountSource};
use crate::layout::share::Share;
use crate::rules::mount::{is_declared_source, wrong_source};
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::about::About;
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::name::Name;
use crate::words::offer::{NfsExport, SmbOffer};
use crate::words::path::AbsPath;
use crate::words::place::Place;
use crate::words::rule::{Rule, Severity};
use crate::words::terms::{Access, Origin, Protocol};
use crate::words::text::{bytes, shown, size};

/// What is declared is not what is there.
pub static RULE: Rule = Rule {
    id: "layout/differs-from-host",
    severity: Severity::Risk,
    title: "The layout and the host disagree",
    means: "The layout declares one thing, and the survey of the host saw another: an account's \
            number, a dataset's place, what is \
            mounted and how, the folder of a share.",
    hurts: "What the host has is what runs and what is judged; what the layout says is not so. \
            What a share offers is judged as its server's configuration has it.",
    fix: "Decide which of the two is wanted, and change the other one.",
    example: "The layout says lantern has uid 840; on granary it has 1003.",
};

/// Judges every host that is declared and was looked at.
pub fn find(site: &Site, _: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (host, facts) in site.observed() {
        if let Some(declared) = site.layout.host(host) {
            Disagreements { site, host: declared, facts, findings: &mut findings }.all();
        }
    }
    findings
}

/// What a host's survey saw otherwise than the layout says.
struct Disagreements<'a> {
    site: &'a Site,
    host: &'a Host,
    facts: &'a HostFacts,
    findings: &'a mut Vec<Finding>,
}

impl Disagreements<'_> {
    fn add(
        &mut self,
        origin: Origin,
        path: Option<&AbsPath>,
        what: impl Display,
        layout: impl Display,
        host: impl Display,
    ) {
        let name = &self.host.name;
        let finding = RULE.finding(About::Host(name.clone())).on(name).line(origin.line);
        let finding = finding
            .known(Evidence::Observed)
            .says(format!("{what}: the layout says {layout}, {name} has {host}"))
            .remedy(format!("change {name}, or correct the layout if {host} is what is wanted"));
        self.findings.push(match path {
            Some(path) => finding.at(&Place::new(name, path)),
            None => finding,
        });
    }

    fn all(mut self) {
        for account in &self.host.accounts {
            let seen = self.facts.accounts.iter().find(|seen| seen.name == account.name);
            if let Some(seen) = seen.filter(|seen| seen.uid != account.uid) {
                let what = format!("the uid of {}", account.name);
                self.add(self.host.origin, None, what, account.uid, seen.uid);
            }
        }
        for group in &self.host.groups {
            let seen = self.facts.groups.iter().find(|seen| seen.name == group.name);
            if let Some(seen) = seen.filter(|seen| seen.gid != group.gid) {
                let what = format!("the gid of {}", group.name);
                self.add(self.host.origin, None, what, group.gid, seen.gid);
            }
        }
        self.datasets();
        for mount in self.site.layout.mounts.iter().filter(|mount| mount.host == self.host.name) {
            let table = self.facts.mounts.as_ref();
            if let Some(seen) = table.and_then(|table| table.mounted_at(&mount.at)) {
                self.mount(mount, seen);
            }
        }
        self.shares();
    }

    fn datasets(&mut self) {
        for dataset in &self.host.datasets {
            let at = Some(&dataset.at);
            let property = self.facts.told.property(&dataset.name, "mountpoint");
            if let Some(seen) =
                property.filter(|seen| seen.raw().as_bytes() != dataset.at.as_bytes())
            {
                let what = format!("the mount point of {}", dataset.name);
                self.add(dataset.origin, at, what, &dataset.at, seen);
            }
            self.quota(dataset);
            let mount = self.facts.mounts.as_ref().and_then(|table| table.mounted_at(&dataset.at));
            if let (Some(mount), Some(said)) = (mount, &dataset.filesystem)
                // ZFS through FUSE is ZFS all the same.
                && mount.filesystem.raw().trim_start_matches("fuse.") != said.raw()
            {
                let what = format!("the filesystem at {}", dataset.at);
                self.add(dataset.origin, at, what, said, &mount.filesystem);
            }
        }
    }

    /// A quota that is declared and not there, or another one. ZFS prints sizes with three digits
    /// (zfs-get(8)).
    fn quota(&mut self, dataset: &Dataset) {
        let Some(said) = dataset.quota else { return };
        let told = &self.facts.told;
        let seen: Option<Name> = match told.property(&dataset.name, "quota") {
            Some(seen) => {
                let other = told.property(&dataset.name, "refquota");
                let fits = |seen: &&Name| {
                    let is = size(seen.raw()).unwrap_or(0);
                    is.abs_diff(said) <= said / 100
                };
                match [Some(seen), other].into_iter().flatten().any(|seen| fits(&seen)) {
                    true => None,
                    false => Some(if size(seen.raw()).is_some_and(|size| size > 0) {
                        seen.clone()
                    } else {
                        "none".into()
                    }),
                }
            }
            None => self.subvolume_limit(dataset, said),
        };
        if let Some(seen) = seen {
            let what = format!("the quota of {}", dataset.name);
            self.add(dataset.origin, Some(&dataset.at), what, bytes(said), seen);
        }
    }

    /// The limit of a Btrfs subvolume, where limits were seen at all and it is another one.
    fn subvolume_limit(&self, dataset: &Dataset, said: u64) -> Option<Name> {
        let table = self.facts.mounts.as_ref()?;
        let mount = table.at(&dataset.at)?;
        let (device, path) = table.in_filesystem(mount.id, &dataset.at)?;
        let of_same = |limit: &&SubvolumeLimit| {
            table.at(&limit.point).is_some_and(|mount| mount.device == device)
        };
        let mut limits = self.facts.told.subvolume_limits.iter().filter(of_same).peekable();
        limits.peek()?;
        match limits.find(|limit| limit.subvolume == path) {
            Some(limit) if limit.limit.abs_diff(said) <= said / 100 => None,
            Some(limit) => Some(bytes(limit.limit).as_str().into()),
            None => Some("none".into()),
        }
    }

    fn mount(&mut self, mount: &Mount, seen: &MountEntry) {
        let at = Some(&mount.at);
        let (said, is) = (mount.options.access(), seen.access());
        if said != is {
            let what = format!("the mode of {}", mount.at);
            self.add(mount.origin, at, what, Access::word(said), Access::word(is));
        }
        if is_declared_source(self.site, mount, seen) {
            return;
        }
        let MountSource::Share(name) = &mount.from else { return };
        let Some(share) = self.site.layout.share(name) else { return };
        let said = match mount.protocol {
            Protocol::Nfs => share.path.to_string(),
            _ => share.name.to_string(),
        };
        let what = format!("the source of {}", mount.at);
        let said = format!("{}:{said}", share.host);
        self.add(mount.origin, at, what, said, shown(&seen.source));
        if let Some(finding) = self.findings.last_mut() {
            finding.because = Some(&wrong_source::RULE);
        }
    }

    /// What a host's own configuration offers otherwise than the layout says.
    fn shares(&mut self) {
        let host = &self.host.name;
        let of_host = |share: &&Share| share.host == *host && share.origin.line > 0;
        for served in self.site.layout.shares.iter().filter(of_host) {
            let declared = self.site.declared_share(served);
            if declared.path != served.path {
                let what = format!("the folder of the share {}", declared.name);
                self.add(declared.origin, Some(&declared.path), what, &declared.path, &served.path);
            }
            if !declared.nfs.is_empty() {
                self.exports(declared, &served.nfs);
            }
            match (&declared.smb, &served.smb) {
                (Some(said), Some(is)) => self.offer(declared, said, is),
                (Some(_), None) => {
                    let what = format!("the SMB share {}", declared.name);
                    self.add(declared.origin, Some(&declared.path), what, "it is offered", "none");
                }
                (None, _) => {}
            }
        }
    }

    /// Exports that are declared, and those that are there; of several to the same clients the
    /// first counts.
    fn exports(&mut self, declared: &Share, served: &[NfsExport]) {
        let mut clients: Vec<&Name> = Vec::new();
        for export in declared.nfs.iter().chain(served) {
            if !clients.contains(&&export.clients) {
                clients.push(&export.clients);
            }
        }
        for client in clients {
            let of = |exports: &[NfsExport]| {
                let export = exports.iter().find(|export| export.clients == *client);
                export.map_or_else(|| "none".to_owned(), export_words)
            };
            let (said, is) = (of(&declared.nfs), of(served));
            if said != is {
                let what = format!("the export of {} to {client}", declared.path);
                self.add(declared.origin, Some(&declared.path), what, said, is);
            }
        }
    }

    /// Every setting of an SMB share in which the server's configuration differs (`smb.conf(5)`).
    fn offer(&mut self, share: &Share, said: &SmbOffer, is: &SmbOffer) {
        let (said, is) = (settings(said), settings(is));
        for ((setting, said), (_, is)) in said.into_iter().zip(is) {
            if said != is {
                let what = format!("{setting} of the share {}", share.name);
                self.add(share.origin, Some(&share.path), what, said, is);
            }
        }
    }
}

/// What decides of an export: `ro, all_squash, anonuid=1000`.
fn export_words(export: &NfsExport) -> String {
    let mut words = format!("{}, {}", export.access.word(), export.squash.option());
    for (option, id) in [("anonuid", export.anonuid), ("anongid", export.anongid)] {
        words +=
            &id.filter(|id| *id != NOBODY).map_or(String::new(), |id| format!(", {option}={id}"));
    }
    words + if export.crossmnt { ", crossmnt" } else { "" }
}

/// The settings of an SMB share by their names in `smb.conf(5)`, the server's defaults filled in.
fn settings(offer: &SmbOffer) -> Vec<(&'static str, String)> {
    let yes = |is: bool| if is { "yes" } else { "no" }.to_owned();
    let list = |names: &[Name]| {
        let mut names: Vec<String> = names.iter().map(|name| name.raw().to_lowercase()).collect();
        names.sort();
        if names.is_empty() { "nobody named".to_owned() } else { names.join(" ") }
    };
    let one = |name: &Option<Name>| list(name.as_slice());
    let mask = |bits: Option<u16>, usual: u16| format!("{:04o}", bits.unwrap_or(usual));
    vec![
        ("guest ok", yes(offer.guests)),
        ("guest only", yes(offer.guest_only)),
        ("valid users", list(&offer.only)),
        ("invalid users", list(&offer.deny)),
        ("read only", yes(!offer.writable)),
        ("read list", list(&offer.read)),
        ("write list", list(&offer.write)),
        ("admin users", list(&offer.admins)),
        ("force user", one(&offer.force_user)),
        ("force group", one(&offer.force_group)),
        ("create mask", mask(offer.create_mask, 0o744)),
        ("directory mask", mask(offer.folder_mask, 0o755)),
        ("force create mode", mask(offer.force_create_mode, 0)),
        ("force directory mode", mask(offer.force_folder_mode, 0)),
        ("a recycle bin", yes(offer.recycle)),
    ]
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::facts::configured::{Configured, ExportFact, Fact, ShareFact};
    use crate::facts::host_report::Property;
    use crate::layout::host::Dataset;
    use crate::rules::promise::{Promise, local};
    use crate::tests::{Scene, abs, mounts};
    use crate::words::options::MountOptions;
    use crate::words::terms::{Origin, Protocol};

    pub(crate) const PROMISE: Promise = Promise {
        scene: || local(|scene| scene.facts("granary").groups[1].gid = 7),
        by_hand: |scene| scene.host("granary").groups[0].gid = 7,
    };

    #[test]
    fn numbers_of_accounts_and_groups() {
        let mut scene = Scene::local();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.facts("granary").accounts[2].uid = 1003;
        scene.facts("granary").groups[1].gid = 7;
        let told = "the uid of lantern: the layout says 840, granary has 1003 → change granary, or \
                    correct the layout if 1003 is what is wanted\nthe gid of keepers: the layout \
                    says 2100, granary has 7 → change granary, or correct the layout if 7 is what \
                    is wanted";
        assert_eq!(scene.messages_of(&RULE), told);
    }

    #[test]
    fn datasets_and_shares() {
        let mut scene = Scene::over(Protocol::Smb);
        scene.host("granary").datasets.push(Dataset {
            name: "loft/media".into(),
            at: abs("/loft/media"),
            filesystem: Some("zfs".into()),
            quota: None,
            properties: Vec::new(),
            origin: Origin::default(),
        });
        let facts = scene.facts("granary");
        facts.mounts = Some(mounts(
            "1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 0:4 / /loft/media fuse.zfs loft/media rw",
        ));
        let property = |value: &str| {
            let dataset = "loft/media".into();
            vec![Property { dataset, name: "mountpoint".into(), value: value.into() }]
        };
        facts.told.properties = property("/loft/media");
        let offered = |path: &str| {
            let (name, path) = ("MEDIA".into(), path.as_bytes().to_vec());
            let fact = Fact::Share(ShareFact { name, path, offer: Default::default() });
            vec![Configured { fact, spot: Default::default() }]
        };
        facts.told.configured.facts = offered("/loft/media");
        assert_eq!(scene.messages_of(&RULE), "");
        // A quota that is declared is one that has to be there.
        scene.host("granary").datasets[0].quota = Some(2 << 40);
        let quota = |value: &str| {
            let dataset = "loft/media".into();
            Property { dataset, name: "quota".into(), value: value.into() }
        };
        for (seen, differs) in [("2T", false), ("2.00T", false), ("none", true), ("1.5T", true)] {
            scene.facts("granary").told.properties.truncate(1);
            scene.facts("granary").told.properties.push(quota(seen));
            let told =
                format!("the quota of loft/media: the layout says 2.0 TiB, granary has {seen} →");
            assert_eq!(scene.messages_of(&RULE).starts_with(&told), differs, "{seen}");
        }
        scene.host("granary").datasets[0].quota = None;
        let facts = scene.facts("granary");
        facts.mounts =
            Some(mounts("1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 0:4 / /loft/media xfs /dev/sdb rw"));
        facts.told.properties = property("/tank");
        facts.told.configured.facts = offered("/old");
        let told = "the mount point of loft/media: the layout says /loft/media, granary has /tank \
                    → change granary, or correct the layout if /tank is what is wanted\nthe \
                    filesystem at /loft/media: the layout says zfs, granary has xfs → change \
                    granary, or correct the layout if xfs is what is wanted\nthe folder of the \
                    share media: the layout says /loft/media, granary has /old → change granary, \
                    or correct the layout if /old is what is wanted";
        assert_eq!(scene.messages_of(&RULE), told);
    }

    #[test]
    fn mounts_of_both_protocols() {
        for (protocol, other, said) in [
            (
                Protocol::Nfs,
                "nfs4 granary.lan:/loft/attic",
                "granary:/loft/media, millrace has granary.lan:/loft/attic",
            ),
            (
                Protocol::Smb,
                "cifs //granary.lan/attic",
                "granary:media, millrace has //granary.lan/attic",
            ),
        ] {
            let mut scene = Scene::over(protocol);
            assert_eq!(scene.messages_of(&RULE), "");
            scene.layout.mounts[0].options = MountOptions::read("ro,noatime,rw");
            let told = "the mode of /mnt/media: the layout says rw, millrace has ro → change \
                        millrace, or correct the layout if ro is what is wanted";
            assert_eq!(scene.messages_of(&RULE), told);
            scene.layout.mounts[0].options = MountOptions::read("rw,ro");
            assert_eq!(scene.messages_of(&RULE), "", "the last one counts");
            let table = format!("1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 0:9 / /mnt/media {other} ro");
            scene.facts("millrace").mounts = Some(mounts(&table));
            let told = scene.messages_of(&RULE);
            assert!(
                told.starts_with(&format!("the source of /mnt/media: the layout says {said} →")),
                "{told}"
            );
        }
    }

    #[test]
    fn exports_are_those_that_are_declared() {
        let mut scene = Scene::over(Protocol::Nfs);
        let export = scene.layout.shares[0].nfs[0].clone();
        let exported = |change: &dyn Fn(&mut ExportFact)| {
            let path = b"/loft/media".to_vec();
            let mut fact = ExportFact { path, export: export.clone(), stray_space: None };
            change(&mut fact);
            vec![Configured { fact: Fact::Export(fact), spot: Default::default() }]
        };
        scene.facts("granary").told.configured.facts = exported(&|_| {});
        assert_eq!(scene.messages_of(&RULE), "");
        scene.facts("granary").told.configured.facts = exported(&|fact| {
            fact.export.access = crate::words::terms::Access::ReadWrite;
        });
        let told = "the export of /loft/media to *: the layout says ro, root_squash, granary has \
                    rw, root_squash → change granary, or correct the layout if rw, root_squash is \
                    what is wanted";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.facts("granary").told.configured.facts =
            exported(&|fact| fact.path = b"/loft/other".to_vec());
        assert!(scene.messages_of(&RULE).contains("granary has none"));
    }
}
