//! Hosts with their datasets, accounts, groups and folders.

use std::collections::HashSet;

use super::{Adopting, absolute};
use crate::facts::configured::{Configuration, Fact};
use crate::layout::folder::{Folder, Purpose, Right};
use crate::layout::host::Dataset;
use crate::words::name::Name;
use crate::words::part::Part;
use crate::words::terms::{Account, Group, Origin, Os};

/// Accounts below this number are the system's own.
const FIRST_PERSON: u32 = 500;

/// The account of nobody, and what an id that is not mapped is shown as.
const NOBODY: u32 = 65_534;

/// Properties of datasets that decide about media.
const PROPERTIES: [&str; 12] = [
    "atime",
    "recordsize",
    "aclmode",
    "aclinherit",
    "acltype",
    "xattr",
    "casesensitivity",
    "normalization",
    "compression",
    "readonly",
    "quota",
    "refquota",
];

/// More folders of a list of ACLs are not written: a survey holds them all.
const MOST_FOLDERS: usize = 40;

impl Adopting<'_> {
    /// Takes a host, and what only it has.
    pub(super) fn host(
        &mut self,
        name: &Name,
        configuration: &Configuration,
        hosts: &[(Name, Configuration)],
    ) {
        let Some(first) = configuration.facts.first() else { return };
        self.part(Part::Host(name.clone()), &first.spot);
        self.host_named(name);
        let named = Named::of(hosts);
        let wanted_groups = self.accounts(name, configuration, &named);
        for found in &configuration.facts {
            match &found.fact {
                Fact::Group(group) => {
                    let wanted = wanted_groups.contains(&group.name)
                        || named.gids.contains(&group.gid)
                        || named.groups.contains(&group.name);
                    if wanted && group.gid != 0 && group.gid != NOBODY {
                        self.group(name, group, found);
                    }
                }
                Fact::Dataset(dataset) => {
                    let Some(at) = dataset.at.as_deref().and_then(absolute) else { continue };
                    let part = Part::Dataset { host: name.clone(), name: dataset.name.clone() };
                    if at.is_root() || !self.part(part, &found.spot) {
                        continue;
                    }
                    let known =
                        |(property, _): &&(String, String)| PROPERTIES.contains(&property.as_str());
                    let dataset = Dataset {
                        name: dataset.name.clone(),
                        at,
                        filesystem: Some(dataset.filesystem.clone()),
                        quota: None,
                        properties: dataset.properties.iter().filter(known).cloned().collect(),
                        origin: Origin::default(),
                    };
                    self.host_named(name).datasets.push(dataset);
                }
                Fact::Mount(mount) if mount.filesystem == "zfs" && mount.mounted => {
                    let Ok(source) = std::str::from_utf8(&mount.source) else { continue };
                    let Some(at) = absolute(&mount.at).filter(|at| !at.is_root()) else { continue };
                    let part = Part::Dataset { host: name.clone(), name: source.into() };
                    if self.part(part, &found.spot) {
                        let dataset = Dataset {
                            name: source.into(),
                            at,
                            filesystem: Some("zfs".into()),
                            quota: None,
                            properties: Vec::new(),
                            origin: Origin::default(),
                        };
                        self.host_named(name).datasets.push(dataset);
                    }
                }
                Fact::Mount(mount) if mount.at.get(1) == Some(&b':') => {
                    self.host_named(name).os = Os::Windows;
                }
                _ => {}
            }
        }
        self.folders(name, configuration);
    }

    /// The accounts that matter: people, and those that something refers to. The groups that they
    /// are in.
    fn accounts(
        &mut self,
        host: &Name,
        configuration: &Configuration,
        named: &Named,
    ) -> HashSet<Name> {
        let mut groups = HashSet::new();
        for found in &configuration.facts {
            let Fact::Account(account) = &found.fact else { continue };
            let wanted = account.uid >= FIRST_PERSON
                || named.uids.contains(&account.uid)
                || named.accounts.contains(&account.name);
            if !wanted || account.uid == 0 || account.uid == NOBODY {
                continue;
            }
            let part = Part::Account { host: host.clone(), name: account.name.clone() };
            if self.part(part, &found.spot) {
                groups.extend(account.groups.iter().cloned());
                self.host_named(host).accounts.push(account.clone());
            }
        }
        groups
    }

    fn group(&mut self, host: &Name, group: &Group, found: &crate::facts::configured::Configured) {
        let own = |account: &Account| account.name == group.name && account.uid == group.gid;
        // An account's own group says nothing that the account does not.
        let is_own = self.host_named(host).accounts.iter().any(own);
        let part = Part::Group { host: host.clone(), name: group.name.clone() };
        if !is_own && self.part(part, &found.spot) {
            self.host_named(host).groups.push(group.clone());
        }
    }

    /// Folders with their rights: the topmost ones of a list, since a survey holds the rest.
    fn folders(&mut self, host: &Name, configuration: &Configuration) {
        let folders = configuration.facts.iter().filter_map(|found| match &found.fact {
            Fact::Folder(folder) => Some((folder, absolute(&folder.path)?, &found.spot)),
            _ => None,
        });
        let mut folders: Vec<_> = folders.collect();
        folders.sort_by_key(|(_, path, _)| path.components().count());
        for (folder, path, spot) in folders.iter().take(MOST_FOLDERS) {
            let mut rights: Vec<(Name, Right)> = Vec::new();
            for entry in &folder.entries {
                let (who, bits) = match entry.split(':').collect::<Vec<_>>()[..] {
                    ["user", who, bits] if !who.is_empty() => (Name::from(who), bits),
                    ["group", who, bits] if !who.is_empty() => (format!("@{who}").into(), bits),
                    _ => continue,
                };
                let right = match bits {
                    "rwx" => Right::Change,
                    "r-x" | "r--" => Right::Read,
                    "---" => Right::None,
                    _ => continue,
                };
                rights.push((who, right));
            }
            if !self.part(Part::folder(host, path), spot) {
                continue;
            }
            let is_intake = path.name().is_some_and(super::guess::is_intake);
            self.done.layout.folders.push(Folder {
                host: host.clone(),
                path: path.clone(),
                owner: Some(folder.owner.clone()).filter(|owner| !owner.raw().is_empty()),
                group: Some(folder.group.clone()).filter(|group| !group.raw().is_empty()),
                mode: Some(folder.mode),
                rights,
                purpose: is_intake.then_some(Purpose::Intake),
                origin: Origin::default(),
            });
        }
        if let Some((.., spot)) = folders.get(MOST_FOLDERS) {
            let more = folders.len() - MOST_FOLDERS;
            let spot = (*spot).clone();
            self.leave(
                &spot,
                format!("{more} more folders are not written; a survey holds their rights"),
            );
        }
    }
}

/// Who is referred to, on any host: over the network, numbers are what counts.
struct Named {
    uids: HashSet<u32>,
    gids: HashSet<u32>,
    accounts: HashSet<Name>,
    groups: HashSet<Name>,
}

impl Named {
    fn of(hosts: &[(Name, Configuration)]) -> Self {
        let mut named = Self {
            uids: HashSet::new(),
            gids: HashSet::new(),
            accounts: HashSet::new(),
            groups: HashSet::new(),
        };
        for found in hosts.iter().flat_map(|(_, configuration)| &configuration.facts) {
            match &found.fact {
                Fact::Service(service) => {
                    named.uids.extend(service.uid);
                    named.gids.extend(service.gid);
                    named
                        .gids
                        .extend(service.groups.iter().filter_map(|g| g.raw().parse::<u32>().ok()));
                }
                Fact::Export(export) => {
                    named.uids.extend(export.export.anonuid);
                    named.gids.extend(export.export.anongid);
                }
                Fact::Share(share) => {
                    let offer = &share.offer;
                    let lists =
                        [&offer.only, &offer.deny, &offer.read, &offer.write, &offer.admins];
                    let one = offer.force_user.iter();
                    for name in lists.into_iter().flatten().chain(one) {
                        named.member(name);
                    }
                    let group = offer.force_group.as_ref();
                    named.groups.extend(group.map(|g| Name::from(g.raw().trim_start_matches('+'))));
                }
                Fact::Folder(folder) => {
                    named.accounts.insert(folder.owner.clone());
                    named.groups.insert(folder.group.clone());
                }
                _ => {}
            }
        }
        named
    }

    fn member(&mut self, name: &Name) {
        match name.raw().strip_prefix(['@', '+', '&']) {
            Some(group) => self.groups.insert(group.into()),
            None => self.accounts.insert(name.clone()),
        };
    }
}
