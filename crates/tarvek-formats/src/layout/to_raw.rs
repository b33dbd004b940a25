//! From the core's types to those of the file: the way back from `validate.rs`. What a reader takes
//! for granted is left out.

use tarvek_core::kernel::subject::IdRange;
use tarvek_core::layout::folder::Folder;
use tarvek_core::layout::host::{Dataset, Host};
use tarvek_core::layout::intake::{Fetch, Intake, Sort};
use tarvek_core::layout::mapping::{Declared, EngineMount, MapSource, Mapping};
use tarvek_core::layout::mount::{Mount, MountSource};
use tarvek_core::layout::service::{GroupRef, Library, RunAs, Service, Translation};
use tarvek_core::layout::settings::{RuleSettings, Silence};
use tarvek_core::layout::share::Share;
use tarvek_core::layout::site::Layout;
use tarvek_core::words::name::Name;
use tarvek_core::words::offer::{NfsExport, SmbOffer};
use tarvek_core::words::options::MountOptions;
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::terms::{Access, Account, Os};

use super::raw::{
    NumberOrName, RawAccount, RawDataset, RawExport, RawFetch, RawFolder, RawHost, RawIdRange,
    RawIntake, RawLibrary, RawMapping, RawMount, RawRules, RawService, RawShare, RawSilence,
    RawSmb, RawSort, RawTranslation,
};
use crate::forms::{self, Address, Octal};
use crate::keyword::Keyword;
use crate::structure::{At, OneOrMany};

fn named(name: &Name) -> At<String> {
    name.raw().to_owned().into()
}

fn names(names: &[Name]) -> Vec<At<String>> {
    names.iter().map(named).collect()
}

fn path(path: &AbsPath) -> At<String> {
    let written = path.as_client_writes();
    String::from_utf8_lossy(written.as_deref().unwrap_or(path.as_bytes())).into_owned().into()
}

fn written(declared: &Declared) -> At<String> {
    named(&declared.written)
}

fn octal(mode: u16) -> Octal {
    format!("{mode:04o}").into()
}

fn options(options: &MountOptions) -> Option<At<String>> {
    (!options.is_empty()).then(|| options.to_string().into())
}

impl From<&Host> for RawHost {
    /// Without accounts, which stand in a table of their own.
    fn from(host: &Host) -> Self {
        Self {
            role: Some(OneOrMany(host.roles.iter().copied().map(Keyword).collect())),
            os: (host.os != Os::Linux).then_some(Keyword(host.os)),
            addresses: host
                .addresses
                .iter()
                .map(|at| Address::from(at.raw().to_owned()).into())
                .collect(),
            inside: host.inside.as_ref().map(named),
            map: host.map.iter().map(|map| RawMapping::from(map).into()).collect(),
            idmap: host.idmap.iter().map(|range| RawIdRange::from(range).into()).collect(),
            selinux: host.selinux,
            manage_gids: host.manage_gids,
            datasets: host.datasets.iter().map(|of| RawDataset::from(of).into()).collect(),
            accounts: Default::default(),
            groups: host.groups.iter().map(|group| (named(&group.name), group.gid)).collect(),
        }
    }
}

impl From<&IdRange> for RawIdRange {
    fn from(range: &IdRange) -> Self {
        let IdRange { inside, outside, count } = *range;
        Self { inside: Some(inside), outside: Some(outside), count: Some(count) }
    }
}

impl From<&Dataset> for RawDataset {
    fn from(dataset: &Dataset) -> Self {
        let mut properties = dataset.properties.clone();
        properties.sort();
        let property = |(name, value): (String, String)| (name.into(), value.into());
        Self {
            name: Some(named(&dataset.name)),
            at: Some(path(&dataset.at)),
            filesystem: dataset.filesystem.as_ref().map(|of| of.raw().to_owned().into()),
            quota: dataset.quota.map(|bytes| forms::Size::from(format!("{bytes}B")).into()),
            properties: properties.into_iter().map(property).collect(),
        }
    }
}

impl From<&Account> for RawAccount {
    fn from(account: &Account) -> Self {
        Self { uid: Some(account.uid), gid: account.gid, groups: names(&account.groups) }
    }
}

impl From<&Share> for RawShare {
    fn from(share: &Share) -> Self {
        Self {
            host: Some(named(&share.host)),
            path: Some(path(&share.path)),
            nfs: share.nfs.iter().map(RawExport::from).collect(),
            smb: share.smb.as_ref().map(RawSmb::from),
            also: share.also.iter().copied().map(Keyword).collect(),
        }
    }
}

impl From<&NfsExport> for RawExport {
    fn from(export: &NfsExport) -> Self {
        Self {
            clients: Some(export.clients.raw().to_owned().into()),
            access: Some(Keyword(export.access)),
            squash: Some(Keyword(export.squash)),
            anonuid: export.anonuid,
            anongid: export.anongid,
            crossmnt: export.crossmnt,
            options: (!export.options.is_empty()).then(|| export.options.join(",").into()),
        }
    }
}

impl From<&SmbOffer> for RawSmb {
    fn from(smb: &SmbOffer) -> Self {
        Self {
            guests: smb.guests,
            guest_only: smb.guest_only,
            writable: smb.writable,
            only: names(&smb.only),
            deny: names(&smb.deny),
            read: names(&smb.read),
            write: names(&smb.write),
            admins: names(&smb.admins),
            force_user: smb.force_user.as_ref().map(named),
            force_group: smb.force_group.as_ref().map(named),
            create_mask: smb.create_mask.map(octal),
            folder_mask: smb.folder_mask.map(octal),
            force_create_mode: smb.force_create_mode.map(octal),
            force_folder_mode: smb.force_folder_mode.map(octal),
            recycle: smb.recycle,
            recycle_folder: smb.recycle_folder.as_ref().map(named),
        }
    }
}

impl From<&Folder> for RawFolder {
    fn from(folder: &Folder) -> Self {
        let rights = folder.rights.iter();
        Self {
            host: Some(named(&folder.host)),
            path: Some(path(&folder.path)),
            owner: folder.owner.as_ref().map(named),
            group: folder.group.as_ref().map(named),
            mode: folder.mode.map(octal),
            rights: rights.map(|(who, right)| (named(who), Keyword(*right))).collect(),
            is: folder.purpose.map(Keyword),
        }
    }
}

impl RawMount {
    /// A mount of a layout: what it names as its source, and how a mount point is written, follow
    /// from the other parts.
    pub(super) fn of(mount: &Mount, layout: &Layout) -> Self {
        let is_windows = layout.host(&mount.host).is_some_and(|host| host.os == Os::Windows);
        let drive = || {
            let at = String::from_utf8_lossy(mount.at.as_bytes());
            at.trim_start_matches('/').to_owned().into()
        };
        Self {
            host: Some(named(&mount.host)),
            from: Some(named(&layout.source(&mount.from))),
            protocol: Some(Keyword(mount.protocol)),
            at: Some(if is_windows { drive() } else { path(&mount.at) }),
            options: options(&mount.options),
            user: mount.user.as_ref().map(named),
            credentials: mount.credentials.as_ref().map(path),
            removable: mount.removable,
        }
    }
}

impl From<&Service> for RawService {
    fn from(service: &Service) -> Self {
        let runs_as = match &service.runs_as {
            RunAs::Unset => None,
            RunAs::Numbers(uid, None) => Some(uid.to_string()),
            RunAs::Numbers(uid, Some(gid)) => Some(format!("{uid}:{gid}")),
            RunAs::Account(name) => Some(name.raw().to_owned()),
        };
        let group = |group: &GroupRef| {
            NumberOrName::Name(match group {
                GroupRef::Gid(gid) => gid.to_string(),
                GroupRef::Name(name) => name.raw().to_owned(),
            })
        };
        let volume = service.config_volume.as_ref();
        let volume = volume.map(|volume| format!("volume:{}", volume.raw()).into());
        let maps = service.map.as_ref();
        let libraries = service.libraries.iter();
        Self {
            host: Some(named(&service.host)),
            role: Some(OneOrMany(service.roles.iter().copied().map(Keyword).collect())),
            runs_as: runs_as.map(|text| forms::RunAs::from(text).into()),
            groups: service.groups.iter().map(|of| group(of).into()).collect(),
            umask: service.umask.map(octal),
            waits_for: service.waits_for.iter().map(path).collect(),
            userns: service.userns.as_ref().map(|userns| userns.to_string().into()),
            map: maps.map(|maps| maps.iter().map(|map| RawMapping::from(map).into()).collect()),
            translate: service.translate.iter().map(RawTranslation::from).collect(),
            ports: service.ports.iter().map(|port| port.clone().into()).collect(),
            network: service.network.clone().map(Into::into),
            config: service.config.as_ref().map(path).or(volume),
            backup: service.backup.clone(),
            libraries: libraries.map(|library| RawLibrary::from(library).into()).collect(),
        }
    }
}

impl From<&Translation> for RawTranslation {
    fn from(translation: &Translation) -> Self {
        Self {
            service: Some(named(&translation.service)),
            from: Some(written(&translation.from)),
            to: Some(written(&translation.to)),
        }
    }
}

impl From<&Mapping> for RawMapping {
    fn from(map: &Mapping) -> Self {
        let source = match &map.source {
            MapSource::Folder(from) => Self { from: Some(written(from)), ..Self::default() },
            MapSource::Share(mount) => Self::of_engine(mount),
            MapSource::Volume(volume) => {
                Self { volume: Some(volume.raw().to_owned().into()), ..Self::default() }
            }
        };
        Self {
            to: Some(written(&map.to)),
            access: (map.access == Access::ReadOnly).then_some(Keyword(map.access)),
            label: map.label.map(Keyword),
            propagation: map.propagation.clone().map(Into::into),
            nested: map.nested.map(Keyword),
            idmap: map.idmap,
            ..source
        }
    }
}

impl RawMapping {
    fn of_engine(mount: &EngineMount) -> Self {
        let (share, source) = match &mount.from {
            MountSource::Share(name) => (Some(named(name)), None),
            MountSource::Literal(source) => (None, Some(named(source))),
        };
        Self {
            share,
            source,
            protocol: Some(Keyword(mount.protocol)),
            options: options(&mount.options),
            below: mount.below.as_ref().map(named),
            user: mount.user.as_ref().map(named),
            volume: mount.volume.as_ref().map(|volume| volume.raw().to_owned().into()),
            credentials: mount.credentials.as_ref().map(path),
            ..Self::default()
        }
    }
}

impl From<&Library> for RawLibrary {
    fn from(library: &Library) -> Self {
        let prefer: Vec<String> = library.prefer.0.iter().map(ToString::to_string).collect();
        Self {
            name: Some(named(&library.name)),
            kind: Some(Keyword(library.kind)),
            roots: Some(library.roots.iter().map(written).collect()),
            original: library.original,
            backup: library.backup.clone(),
            prefer: (!prefer.is_empty()).then(|| prefer.join(", ").into()),
        }
    }
}

impl From<&Intake> for RawIntake {
    fn from(intake: &Intake) -> Self {
        Self {
            fetch: intake.fetch.as_ref().map(RawFetch::from),
            sort: intake.sort.as_ref().map(RawSort::from),
            want: Some(Keyword(intake.want)),
        }
    }
}

impl From<&Fetch> for RawFetch {
    fn from(fetch: &Fetch) -> Self {
        Self {
            service: Some(named(&fetch.service)),
            partial: fetch.partial.as_ref().map(|partial| path(partial)),
            done: Some(path(&fetch.done)),
            category: fetch.category.clone().map(Into::into),
        }
    }
}

impl From<&Sort> for RawSort {
    fn from(sort: &Sort) -> Self {
        Self {
            service: Some(named(&sort.service)),
            reads: Some(path(&sort.reads)),
            files_into: Some(path(&sort.files_into)),
            category: sort.category.clone().map(Into::into),
        }
    }
}

impl From<&RuleSettings> for RawRules {
    fn from(rules: &RuleSettings) -> Self {
        let severity = rules.severity.iter();
        Self {
            severity: severity
                .map(|(rule, severity)| (rule.id.to_owned().into(), Keyword(*severity)))
                .collect(),
            silence: rules.silence.iter().map(RawSilence::from).collect(),
        }
    }
}

impl From<&Silence> for RawSilence {
    fn from(silence: &Silence) -> Self {
        Self {
            rule: Some(silence.rule.id.to_owned().into()),
            below: silence.below.as_ref().map(path),
            why: Some(silence.why.clone()),
        }
    }
}
