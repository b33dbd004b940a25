//! From [`Raw`] to the core's [`Layout`]: names that refer to something, paths, duplicates.

use std::collections::{BTreeMap, HashMap};
use std::ops::Range;

use tarvek_core::layout::folder::Folder;
use tarvek_core::layout::host::{Dataset, Host};
use tarvek_core::layout::intake::{Fetch, InView, Intake, Sort};
use tarvek_core::layout::mapping::{Declared, EngineMount, MapSource, Mapping};
use tarvek_core::layout::mount::{Mount, MountSource};
use tarvek_core::layout::service::{GroupRef, Library, RunAs, Service, Translation, UserNs};
use tarvek_core::layout::settings::{RuleSettings, Silence};
use tarvek_core::layout::share::Share;
use tarvek_core::layout::site::Layout;
use tarvek_core::rules::registry;
use tarvek_core::words::grammar::{self, Naming};
use tarvek_core::words::name::Name;
use tarvek_core::words::offer::{NfsExport, SmbOffer};
use tarvek_core::words::options::MountOptions;
use tarvek_core::words::part::{NoPart, Part};
use tarvek_core::words::path::{AbsPath, PathFault, components};
use tarvek_core::words::prefer::{self, Prefer};
use tarvek_core::words::rule::RuleId;
use tarvek_core::words::secret;
use tarvek_core::words::spot::Spot;
use tarvek_core::words::terms::{Access, Account, Group, LARGEST_ID, Origin, Protocol, id};
use tarvek_core::words::text::{is_unseen, shown, size};

use super::names::{Known, Names, refer};
use super::ranges::{id_map, ranges};
use super::raw::{
    NumberOrName, Raw, RawDataset, RawExport, RawFolder, RawHost, RawIntake, RawLibrary,
    RawMapping, RawMount, RawRules, RawService, RawShare, RawSmb, RawTranslation,
};
use crate::forms::{Octal, checked_port};
use crate::keyword::Keyword;
use crate::lines::Lines;
use crate::mistake::Mistakes;
use crate::structure::{At, OneOrMany};

/// Validates everything, and notes every mistake. Parts with mistakes are left out of the result.
pub(super) fn layout(text: &str, raw: Raw, mistakes: &mut Mistakes) -> Layout {
    let names = Names::of(&raw);
    let mut validator =
        Validator { lines: Lines::of(text), names, mistakes, judged_later: Vec::new() };
    let Raw { tarvek: _, site, host, share, folder, mount, service, intake, rules, waste, adopted } =
        raw;
    let site = secret::hide(&site.unwrap_or_default());
    let mut layout = Layout { site: site.into(), ..Layout::default() };
    for (name, raw) in host {
        layout.hosts.push(validator.host(name, raw));
    }
    validator.unique_addresses(&layout.hosts);
    validator.rings(&mut layout.hosts);
    layout.shares =
        share.into_iter().filter_map(|(name, raw)| validator.share(name, raw)).collect();
    let mut points: BTreeMap<&str, Vec<&At<String>>> = BTreeMap::new();
    for RawMount { host, at, .. } in mount.iter().map(|raw| &raw.value) {
        if let (Some(host), Some(at)) = (host, at) {
            points.entry(&host.value).or_default().push(at);
        }
    }
    for (host, points) in points {
        let host = Name::from(host);
        validator.unique(points.into_iter(), |at| format!("{host} has a second mount at {at}"));
    }
    layout.mounts = mount.into_iter().filter_map(|raw| validator.mount(raw)).collect();
    layout.services =
        service.into_iter().filter_map(|(name, raw)| validator.service(name, raw)).collect();
    layout.folders = folder.into_iter().filter_map(|raw| validator.folder(raw)).collect();
    layout.intakes =
        intake.into_iter().filter_map(|(name, raw)| validator.intake(name, raw)).collect();
    layout.rules = validator.rules(rules);
    layout.waste.leftovers = waste.leftovers.into_iter().map(|pattern| pattern.0).collect();
    for (file, parts) in adopted {
        let file = Name::from(file.value);
        for (written, line) in parts {
            match written.value.parse::<Part>() {
                Ok(part) => {
                    layout.adopted.parts.insert(part, Spot { file: file.clone(), line });
                }
                Err(NoPart) => validator.mistakes.add(
                    written.span,
                    format!("{} names no part of a layout", Name::from(written.value)),
                    Some("remove the line; `tarvek adopt` notes it as it should be".to_owned()),
                ),
            }
        }
    }
    layout.place_adopted();
    if !validator.mistakes.is_empty() {
        for (span, message, remedy) in validator.judged_later {
            validator.mistakes.add(span, message, remedy);
        }
    }
    layout
}

struct Validator<'a, 'm, 't> {
    lines: Lines<'a>,
    names: Names,
    mistakes: &'m mut Mistakes<'t>,
    /// What `check` makes a finding of; it is reported here as well if the layout is refused
    /// anyway.
    judged_later: Vec<(Range<usize>, String, Option<String>)>,
}

impl Validator<'_, '_, '_> {
    fn origin(&self, span: &Range<usize>) -> Origin {
        self.lines.origin(span)
    }

    /// Checks a name against its grammar.
    fn name(&mut self, sort: Naming, name: &At<String>) -> bool {
        let fault = grammar::fault(sort, &name.value);
        if let Some(fault) = &fault {
            let message = format!("the name {:?} {fault}", shown(name.value.as_bytes()));
            self.mistakes.add(name.span.clone(), message, Some(sort.rule().to_owned()));
        }
        fault.is_none()
    }

    /// A name, if it is one.
    fn named(&mut self, sort: Naming, name: Option<At<String>>) -> Option<Name> {
        let name = name?;
        self.name(sort, &name).then(|| name.value.into())
    }

    fn members(&mut self, list: Vec<At<String>>) -> Vec<Name> {
        list.into_iter().filter_map(|name| self.named(Naming::Member, Some(name))).collect()
    }

    /// Mount options. They part at commas that stand in no quotation marks.
    fn options(&mut self, written: Option<At<String>>) -> MountOptions {
        let Some(written) = written else { return MountOptions::default() };
        if written.value.matches('"').count() % 2 == 1 {
            let message = "a quotation mark in the options has no second one";
            let remedy = "options with commas in their value are quoted: context=\"a,b\"";
            self.mistakes.add(written.span, message, Some(remedy.to_owned()));
            return MountOptions::default();
        }
        MountOptions::read(&written.value)
    }

    /// A file of credentials: it stands among mount options.
    fn credentials(&mut self, written: Option<At<String>>) -> Option<AbsPath> {
        let written = written?;
        if written.value.contains([',', '"']) {
            let message = "a file of credentials can't have a comma or quotation mark in its name";
            let remedy = "mount options part there; give it another name".to_owned();
            self.mistakes.add(written.span, message, Some(remedy));
            return None;
        }
        self.path(Some(written))
    }

    fn host_named(&mut self, name: Option<At<String>>) -> Option<Name> {
        refer(self.mistakes, "host", &name?, &self.names.hosts)
    }

    fn share_named(&mut self, name: &At<String>) -> Option<Name> {
        refer(self.mistakes, "share", name, &self.names.shares)
    }

    fn service_named(&mut self, name: Option<At<String>>) -> Option<Name> {
        refer(self.mistakes, "service", &name?, &self.names.services)
    }

    /// A path that has to be absolute.
    fn path(&mut self, written: Option<At<String>>) -> Option<AbsPath> {
        let written = written?;
        match AbsPath::of_client(written.value.as_bytes()) {
            Ok(path) => Some(path),
            Err(fault) => {
                let message = format!("the path {:?} {fault}", shown(written.value.as_bytes()));
                self.mistakes.add(written.span, message, absolute_remedy(&written.value, fault));
                None
            }
        }
    }

    /// A path with its place in the layout.
    fn written(&mut self, written: Option<At<String>>) -> Option<InView> {
        let origin = self.origin(&written.as_ref()?.span);
        Some(InView { path: self.path(written)?, origin })
    }

    /// A path that `check` judges if it is not absolute.
    fn declared(&mut self, written: At<String>) -> Declared {
        let path = AbsPath::of_client(written.value.as_bytes());
        if let Err(fault) = path {
            let message = format!("the path {:?} {fault}", shown(written.value.as_bytes()));
            let remedy = absolute_remedy(&written.value, fault);
            self.judged_later.push((written.span.clone(), message, remedy));
        }
        Declared { origin: self.origin(&written.span), written: written.value.into(), path }
    }

    /// The source of a mapping, which `check` judges if no engine can make an absolute path of it.
    fn source(&mut self, written: At<String>) -> Declared {
        let origin = self.origin(&written.span);
        let source = Declared::source(written.value.as_str().into(), origin);
        if source.path.is_err() { self.declared(written) } else { source }
    }

    /// Notes every name that was written before; doubled and trailing slashes make no other place.
    fn unique<'n>(
        &mut self,
        names: impl Iterator<Item = &'n At<String>>,
        message: impl Fn(&str) -> String,
    ) {
        let mut seen: HashMap<Vec<u8>, usize> = HashMap::new();
        for name in names {
            let written = name.value.as_bytes();
            let key = match AbsPath::of_client(written) {
                Ok(path) => path.as_bytes().to_vec(),
                Err(_) => written.to_vec(),
            };
            if let Some(first) = seen.get(&key) {
                let line = self.origin(&(*first..*first)).line;
                let remedy = Some(format!("the first is in line {line}"));
                self.mistakes.add(name.span.clone(), message(&shown(written)), remedy);
            } else {
                seen.insert(key, name.span.start);
            }
        }
    }

    fn host(&mut self, name: At<String>, raw: RawHost) -> Host {
        self.unique(raw.datasets.iter().filter_map(|raw| raw.value.name.as_ref()), |name| {
            format!("the dataset {name} is declared twice")
        });
        let datasets = raw.datasets.into_iter().filter_map(|raw| self.dataset(raw)).collect();
        self.name(Naming::Thing, &name);
        let mut groups: Vec<Group> = Vec::new();
        for (name, gid) in raw.groups {
            self.name(Naming::Account, &name);
            groups.push(Group { name: name.value.into(), gid });
        }
        let known: Known = groups.iter().map(|group| group.name.raw()).collect();
        let mut accounts = Vec::new();
        for (name, raw) in raw.accounts {
            self.name(Naming::Account, &name);
            let groups = raw.groups.iter();
            let named =
                groups.filter_map(|group| refer(self.mistakes, "group", group, &known)).collect();
            if let Some(uid) = raw.uid {
                accounts.push(Account {
                    name: name.value.into(),
                    uid,
                    gid: raw.gid,
                    groups: named,
                });
            }
        }
        let inside = raw.inside.and_then(|inside| self.host_named(Some(inside)));
        Host {
            origin: self.origin(&name.span),
            name: name.value.into(),
            roles: raw
                .role
                .map(|roles| roles.0.into_iter().map(|role| role.0).collect())
                .unwrap_or_default(),
            os: raw.os.map(|os| os.0).unwrap_or_default(),
            addresses: raw.addresses.into_iter().map(|address| address.value.0.into()).collect(),
            inside,
            map: self.maps(raw.map),
            idmap: ranges(self.mistakes, raw.idmap),
            selinux: raw.selinux,
            manage_gids: raw.manage_gids,
            datasets,
            accounts,
            groups,
        }
    }

    /// No host is inside of itself, by way of others or not. What is, is taken to stand by itself,
    /// so that the rest can be judged.
    fn rings(&mut self, hosts: &mut [Host]) {
        let index: HashMap<Name, usize> =
            hosts.iter().enumerate().map(|(n, host)| (host.name.clone(), n)).collect();
        let outer = |hosts: &[Host], n: usize| {
            hosts[n].inside.as_ref().and_then(|outer| index.get(outer)).copied()
        };
        // Which walk came by a host, counted from 1.
        let mut walks = vec![0; hosts.len()];
        for start in 0..hosts.len() {
            let (mut here, walk) = (Some(start), start + 1);
            while let Some(n) = here.filter(|n| walks[*n] == 0) {
                walks[n] = walk;
                here = outer(hosts, n);
            }
            let Some(n) = here.filter(|n| walks[*n] == walk) else { continue };
            let host = &mut hosts[n];
            host.inside = None;
            let line = self.lines.starts[host.origin.line as usize - 1];
            let span = self.lines.text[line..]
                .find("inside")
                .map_or(line..line, |at| line + at..line + at + "inside".len());
            let message = format!("the host {} is inside of itself", host.name);
            let remedy = "inside names the machine that it runs on";
            self.mistakes.add(span, message, Some(remedy.to_owned()));
        }
    }

    fn unique_addresses(&mut self, hosts: &[Host]) {
        let mut seen: HashMap<String, &Host> = HashMap::new();
        for host in hosts {
            for address in &host.addresses {
                if let Some(first) = seen.insert(address.raw().to_ascii_lowercase(), host)
                    && first.name != host.name
                {
                    let at = self.lines.starts[host.origin.line as usize - 1];
                    let message = format!(
                        "{} and {} have the same address {}",
                        first.name, host.name, address
                    );
                    self.mistakes.add(
                        at..at,
                        message,
                        Some("an address belongs to one host".into()),
                    );
                }
            }
        }
    }

    fn dataset(&mut self, raw: At<RawDataset>) -> Option<Dataset> {
        let origin = self.origin(&raw.span);
        let raw = raw.value;
        let at = self.path(raw.at);
        let name = self.named(Naming::Dataset, raw.name);
        let quota = raw.quota.and_then(|quota| {
            let bytes = size(&quota.value.0);
            if bytes.is_none() {
                let remedy = "the largest is 8191P".to_owned();
                self.mistakes.add(
                    quota.span,
                    "no filesystem has room for such a quota",
                    Some(remedy),
                );
            }
            bytes
        });
        let mut properties = Vec::new();
        for (name, value) in raw.properties {
            let word = |c: char| c.is_ascii_alphanumeric() || matches!(c, ':' | '-' | '.' | '_');
            if name.value.is_empty() || name.value.starts_with('-') || !name.value.chars().all(word)
            {
                let message =
                    format!("{:?} is no name of a property", shown(name.value.as_bytes()));
                let remedy = "use letters, digits, :, -, . and _".to_owned();
                self.mistakes.add(name.span, message, Some(remedy));
            }
            if let Some(c) = value.value.chars().find(|c| is_unseen(*c)) {
                let message =
                    format!("the value has a character that is not seen (U+{:04X})", u32::from(c));
                let remedy = "write it as the filesystem prints it".to_owned();
                self.mistakes.add(value.span.clone(), message, Some(remedy));
            }
            properties.push((name.value, secret::hide(&value.value)));
        }
        Some(Dataset {
            name: name?,
            at: at?,
            filesystem: raw.filesystem.map(|filesystem| filesystem.0.into()),
            quota,
            properties,
            origin,
        })
    }

    fn share(&mut self, name: At<String>, raw: RawShare) -> Option<Share> {
        let (host, path) = (self.host_named(raw.host), self.path(raw.path));
        self.name(Naming::Thing, &name);
        if raw.smb.is_some() {
            self.smb_name(&name);
        }
        let smb = raw.smb.map(|smb| self.smb(smb));
        Some(Share {
            origin: self.origin(&name.span),
            name: name.value.into(),
            host: host?,
            path: path?,
            nfs: raw.nfs.into_iter().filter_map(export).collect(),
            smb,
            also: raw.also.into_iter().map(|also| also.0).collect(),
        })
    }

    /// What an SMB server takes for the name of a share.
    fn smb_name(&mut self, name: &At<String>) {
        let sections = ["global", "homes", "printers", "ipc$", "print$"];
        let taken = sections.iter().any(|section| name.value.eq_ignore_ascii_case(section));
        if taken || name.value.chars().count() > 80 {
            let message = format!("no SMB share can be called {:?}", shown(name.value.as_bytes()));
            let remedy = "give it another name, of at most 80 characters";
            self.mistakes.add(name.span.clone(), message, Some(remedy.to_owned()));
        }
    }

    fn mount(&mut self, raw: At<RawMount>) -> Option<Mount> {
        let origin = self.origin(&raw.span);
        let raw = raw.value;
        let (host, at) = (self.host_named(raw.host), self.path(raw.at));
        let credentials = self.credentials(raw.credentials);
        let from = self.mount_source(raw.from, raw.protocol);
        let options = self.options(raw.options);
        let user = self.named(Naming::Member, raw.user);
        Some(Mount {
            host: host?,
            from: from?,
            protocol: raw.protocol?.0,
            at: at?,
            options,
            user,
            credentials,
            removable: raw.removable,
            origin,
        })
    }

    /// `HOST:SHARE` refers to a share of the layout; everything else is a source as mount(8) takes
    /// it.
    fn mount_source(
        &mut self,
        from: Option<At<String>>,
        protocol: Option<Keyword<Protocol>>,
    ) -> Option<MountSource> {
        let from = from?;
        let text = from.value.as_str();
        // Where the protocol is wrong, a reference that is wrong as well is said in the same
        // breath.
        let network = protocol.is_none_or(|protocol| protocol.0.is_network());
        let reference = text.split_once(':').filter(|(host, rest)| {
            network
                && !host.contains(['/', '='])
                && !rest.is_empty()
                && !rest.starts_with('/')
                && !rest.contains('=')
        });
        let Some((host, share)) = reference else {
            if protocol.is_some_and(|protocol| protocol.0 == Protocol::Bind)
                && !text.starts_with('/')
            {
                self.path(Some(from.clone()))?;
            }
            return Some(MountSource::Literal(secret::hide(text).into()));
        };
        let part = |text: &str| At { value: text.to_owned(), span: from.span.clone() };
        let named = self.share_named(&part(share));
        self.host_named(Some(part(host)))?;
        let offered = self.names.offered.get(share).map(|host| Name::from(host.as_str()));
        let offered = offered
            .filter(|offered| *offered != *host && self.names.hosts.set.contains(offered.raw()));
        if let Some(offered) = offered {
            let (share, host) = (Name::from(share), Name::from(host));
            let message = format!("the share {share} is offered by {offered}, not by {host}");
            self.mistakes.add(from.span, message, Some(format!("write \"{offered}:{share}\"")));
            return None;
        }
        named.map(MountSource::Share)
    }

    fn maps(&mut self, raw: Vec<At<RawMapping>>) -> Vec<Mapping> {
        self.unique(raw.iter().filter_map(|raw| raw.value.to.as_ref()), |to| {
            format!("two mappings have the same place {to}")
        });
        raw.into_iter().filter_map(|raw| self.mapping(raw)).collect()
    }

    fn mapping(&mut self, raw: At<RawMapping>) -> Option<Mapping> {
        let (span, raw) = (raw.span, raw.value);
        let origin = self.origin(&span);
        // What the engine mounts may have a name of the engine's as well.
        let network = raw.share.is_some() || raw.source.is_some();
        let own_volume = raw.volume.is_some() && !network;
        let sources = [raw.from.is_some(), raw.share.is_some(), raw.source.is_some(), own_volume];
        if sources.iter().filter(|given| **given).count() != 1 {
            let message = "a mapping needs exactly one of from, share, source and volume";
            let remedy = "{ from = \"/folder/of/the/host\", to = \"/media\", access = \"ro\" }";
            self.mistakes.add(span, message, Some(remedy.to_owned()));
            return None;
        }
        let source = if let Some(from) = raw.from {
            MapSource::Folder(self.source(from))
        } else if let Some(volume) = raw.volume.as_ref().filter(|_| !network) {
            MapSource::Volume(volume.0.as_str().into())
        } else {
            let from = match (raw.share, raw.source) {
                (Some(share), _) => MountSource::Share(self.share_named(&share)?),
                (None, source) => MountSource::Literal(secret::hide(&source?.value).into()),
            };
            let Some(Keyword(protocol)) = raw.protocol.filter(|how| how.0.is_network()) else {
                let remedy = Some("protocol = \"nfs\" or \"smb\"".to_owned());
                self.mistakes.add(span, "a mapping of a share needs its protocol", remedy);
                return None;
            };
            if let Some(below) = &raw.below
                && components(below.value.as_bytes()).any(|part| part == b"..")
            {
                let message = "what is mounted of a share lies below it; \"..\" leads out";
                let remedy = "write it without \"..\"".to_owned();
                self.mistakes.add(below.span.clone(), message, Some(remedy));
            }
            MapSource::Share(Box::new(EngineMount {
                from,
                below: raw.below.map(|below| below.value.into()),
                protocol,
                options: self.options(raw.options),
                user: self.named(Naming::Member, raw.user),
                credentials: self.credentials(raw.credentials),
                volume: raw.volume.map(|name| name.0.into()),
            }))
        };
        let to = self.declared(raw.to?);
        Some(Mapping {
            source,
            to,
            access: raw.access.map_or(Access::ReadWrite, |access| access.0),
            label: raw.label.map(|label| label.0),
            propagation: raw.propagation.map(|how| how.0),
            nested: raw.nested.map(|nested| nested.0),
            idmap: raw.idmap,
            origin,
        })
    }

    fn translation(&mut self, raw: RawTranslation) -> Option<Translation> {
        let service = self.service_named(raw.service);
        let from = raw.from.map(|from| self.declared(from));
        let to = raw.to.map(|to| self.declared(to));
        Some(Translation { service: service?, from: from?, to: to? })
    }

    fn service(&mut self, name: At<String>, raw: RawService) -> Option<Service> {
        self.name(Naming::Thing, &name);
        let host = self.host_named(raw.host);
        let map = raw.map.map(|maps| self.maps(maps));
        self.unique(raw.libraries.iter().filter_map(|raw| raw.value.name.as_ref()), |name| {
            format!("a second library is called \"{name}\"")
        });
        let libraries = raw.libraries.into_iter().filter_map(|raw| self.library(raw)).collect();
        let translate = raw.translate.into_iter().filter_map(|raw| self.translation(raw)).collect();
        let (mut config, mut config_volume) = (None, None);
        if let Some(written) = raw.config {
            match written.value.strip_prefix("volume:") {
                Some(volume) => {
                    let word = |c: char| c.is_ascii_alphanumeric() || matches!(c, '_' | '.' | '-');
                    if volume.is_empty() || !volume.chars().all(word) {
                        let message = "no engine has a volume of that name";
                        let remedy = "use letters, digits, _, . and -".to_owned();
                        self.mistakes.add(written.span.clone(), message, Some(remedy));
                    }
                    config_volume = Some(Name::from(volume));
                }
                None => config = self.path(Some(written)),
            }
        }
        let runs_as = match raw.runs_as {
            Some(text) => self.runs_as(text.value.0, text.span)?,
            None => RunAs::Unset,
        };
        let group = |group: At<NumberOrName>| match group.value {
            NumberOrName::Number(gid) => GroupRef::Gid(gid),
            NumberOrName::Name(name) => match name.parse() {
                Ok(gid) => {
                    if gid > LARGEST_ID {
                        let remedy = Some(format!("the largest id is {LARGEST_ID}"));
                        self.mistakes.add(group.span, format!("{gid} is nobody's id"), remedy);
                    }
                    GroupRef::Gid(gid)
                }
                Err(_) => {
                    self.name(Naming::Account, &At { value: name.clone(), span: group.span });
                    GroupRef::Name(name.into())
                }
            },
        };
        let groups = raw.groups.into_iter().map(group).collect();
        let waits_for =
            raw.waits_for.into_iter().filter_map(|path| self.path(Some(path))).collect();
        Some(Service {
            origin: self.origin(&name.span),
            name: name.value.into(),
            host: host?,
            roles: raw
                .role
                .map(|OneOrMany(roles)| roles.into_iter().map(|role| role.0).collect())
                .unwrap_or_default(),
            runs_as,
            groups,
            umask: raw.umask.as_ref().and_then(octal),
            waits_for,
            userns: raw.userns.and_then(|userns| self.userns(&userns)),
            map,
            ports: raw
                .ports
                .into_iter()
                .filter_map(|port| checked_port(port, self.mistakes))
                .collect(),
            network: raw.network.map(|name| name.0),
            config,
            config_volume,
            translate,
            backup: raw.backup.as_deref().map(secret::hide),
            libraries,
        })
    }

    fn runs_as(&mut self, text: String, span: Range<usize>) -> Option<RunAs> {
        if !text.starts_with(|c: char| c.is_ascii_digit()) {
            return Some(RunAs::Account(text.into()));
        }
        let (uid, gid) = match text.split_once(':') {
            Some((uid, gid)) => (uid, Some(gid)),
            None => (text.as_str(), None),
        };
        match (id(uid), gid.map(id)) {
            (Some(uid), None) => Some(RunAs::Numbers(uid, None)),
            (Some(uid), Some(Some(gid))) => Some(RunAs::Numbers(uid, Some(gid))),
            _ => {
                let remedy = Some(format!("the largest id is {LARGEST_ID}"));
                self.mistakes.add(span, format!("{text:?} is too large for an id"), remedy);
                None
            }
        }
    }

    fn userns(&mut self, written: &At<String>) -> Option<UserNs> {
        let text = written.value.as_str();
        let of_account = |account: &str| {
            grammar::fault(Naming::Account, account).is_none().then(|| Name::from(account))
        };
        let read = match text.split_once(':') {
            None if text == "host" => Some(UserNs::Host),
            Some(("rootless", account)) => of_account(account).map(UserNs::Rootless),
            Some(("keep-id", account)) => of_account(account).map(UserNs::KeepId),
            Some(("remap", account)) => of_account(account).map(UserNs::Remap),
            _ => id_map(text).map(UserNs::Ranges),
        };
        if read.is_none() {
            let remedy = "write host, rootless:ACCOUNT, keep-id:ACCOUNT, remap:ACCOUNT, or ranges \
                          as INSIDE:OUTSIDE:COUNT,… (with \
                          u: and g: before those of users and groups, where they differ)";
            let message = format!("{text:?} is no user namespace");
            self.mistakes.add(written.span.clone(), message, Some(remedy.to_owned()));
        }
        read
    }

    fn library(&mut self, raw: At<RawLibrary>) -> Option<Library> {
        let origin = self.origin(&raw.span);
        let raw = raw.value;
        let roots: Vec<Declared> = raw.roots?.into_iter().map(|root| self.declared(root)).collect();
        let name = self.named(Naming::Title, raw.name);
        Some(Library {
            name: secret::hide(name?.raw()).into(),
            kind: raw.kind?.0,
            roots,
            original: raw.original,
            backup: raw.backup.as_deref().map(secret::hide),
            prefer: raw.prefer.map(|prefer| self.prefer(prefer)).unwrap_or_default(),
            origin,
        })
    }

    fn prefer(&mut self, raw: At<String>) -> Prefer {
        match Prefer::of(&raw.value) {
            Ok(prefer) => prefer,
            Err(word) => {
                let message = format!("{:?} is no preference", shown(word.as_bytes()));
                self.mistakes.add(raw.span, message, Some(format!("write {}", prefer::WORDS)));
                Prefer::default()
            }
        }
    }

    fn folder(&mut self, raw: At<RawFolder>) -> Option<Folder> {
        let origin = self.origin(&raw.span);
        let raw = raw.value;
        let (host, path) = (self.host_named(raw.host), self.path(raw.path));
        let owner = self.named(Naming::Account, raw.owner);
        let group = self.named(Naming::Account, raw.group);
        let mut rights = Vec::new();
        for (who, right) in raw.rights {
            rights.extend(self.named(Naming::Member, Some(who)).map(|who| (who, right.0)));
        }
        Some(Folder {
            host: host?,
            path: path?,
            owner,
            group,
            mode: raw.mode.as_ref().and_then(octal),
            rights,
            purpose: raw.is.map(|purpose| purpose.0),
            origin,
        })
    }

    fn intake(&mut self, name: At<String>, raw: RawIntake) -> Option<Intake> {
        self.name(Naming::Thing, &name);
        let fetch = raw.fetch.and_then(|raw| {
            let (service, done) = (self.service_named(raw.service), self.written(raw.done));
            let partial = raw.partial.and_then(|partial| self.written(Some(partial)));
            Some(Fetch {
                service: service?,
                partial,
                done: done?,
                category: raw.category.map(|c| c.0),
            })
        });
        let sort = raw.sort.and_then(|raw| {
            let service = self.service_named(raw.service);
            let (reads, files_into) = (self.written(raw.reads), self.written(raw.files_into));
            Some(Sort {
                service: service?,
                reads: reads?,
                files_into: files_into?,
                category: raw.category.map(|category| category.0),
            })
        });
        Some(Intake {
            origin: self.origin(&name.span),
            name: name.value.into(),
            fetch,
            sort,
            want: raw.want.map(|want| want.0).unwrap_or_default(),
        })
    }

    fn rule(&mut self, name: &At<String>) -> Option<RuleId> {
        registry::named(refer(self.mistakes, "rule", name, &self.names.rules)?.raw())
    }

    fn rules(&mut self, raw: RawRules) -> RuleSettings {
        let mut settings = RuleSettings::default();
        for (name, severity) in raw.severity {
            settings.severity.extend(self.rule(&name).map(|rule| (rule, severity.0)));
        }
        for raw in raw.silence {
            let rule = raw.rule.and_then(|name| self.rule(&name));
            let below = raw.below.and_then(|path| self.path(Some(path)));
            if let (Some(rule), Some(why)) = (rule, raw.why) {
                settings.silence.push(Silence { rule, below, why: secret::hide(&why) });
            }
        }
        settings
    }

    fn smb(&mut self, raw: RawSmb) -> SmbOffer {
        SmbOffer {
            guests: raw.guests,
            guest_only: raw.guest_only,
            only: self.members(raw.only),
            deny: self.members(raw.deny),
            writable: raw.writable,
            read: self.members(raw.read),
            write: self.members(raw.write),
            admins: self.members(raw.admins),
            force_user: self.named(Naming::Member, raw.force_user),
            force_group: raw.force_group.and_then(|group| {
                // With a plus only for those who are its members (`smb.conf(5)`).
                let bare = group.value.strip_prefix('+').unwrap_or(&group.value).to_owned();
                let fine = self.name(Naming::Member, &At { value: bare, span: group.span });
                fine.then(|| group.value.into())
            }),
            create_mask: raw.create_mask.as_ref().and_then(octal),
            folder_mask: raw.folder_mask.as_ref().and_then(octal),
            force_create_mode: raw.force_create_mode.as_ref().and_then(octal),
            force_folder_mode: raw.force_folder_mode.as_ref().and_then(octal),
            recycle: raw.recycle,
            recycle_folder: raw.recycle_folder.and_then(|folder| self.below_share(folder)),
        }
    }

    /// A folder that lies below its share.
    fn below_share(&mut self, folder: At<String>) -> Option<Name> {
        if !components(folder.value.as_bytes()).any(|part| part == b"..") {
            return Some(folder.value.into());
        }
        let message = format!("{:?} leads out of the share", shown(folder.value.as_bytes()));
        self.mistakes.add(folder.span, message, Some("name a folder below it".to_owned()));
        None
    }
}

/// Offers the absolute form where one can be guessed.
fn absolute_remedy(written: &str, fault: PathFault) -> Option<String> {
    let clean: Vec<&[u8]> = components(written.as_bytes()).filter(|part| *part != b"..").collect();
    let form = clean.into_iter().fold(AbsPath::root(), |path, part| path.child(part));
    match fault {
        PathFault::Relative => Some(format!("write it as {form}")),
        PathFault::DotDot => Some("write it without \"..\"".to_owned()),
        PathFault::Nul => Some("no path has a NUL byte".to_owned()),
        PathFault::Empty => Some("write an absolute path".to_owned()),
    }
}

fn octal(text: &Octal) -> Option<u16> {
    u16::from_str_radix(&text.0, 8).ok()
}

fn export(raw: RawExport) -> Option<NfsExport> {
    Some(NfsExport {
        clients: raw.clients?.0.into(),
        access: raw.access.map_or(Access::ReadOnly, |access| access.0),
        squash: raw.squash.map(|squash| squash.0).unwrap_or_default(),
        anonuid: raw.anonuid,
        anongid: raw.anongid,
        crossmnt: raw.crossmnt,
        options: raw
            .options
            .map(|text| MountOptions::read(&text.0).iter().map(str::to_owned).collect())
            .unwrap_or_default(),
    })
}
