//! From [`Raw`] to the core's [`Layout`]: names that refer to something, paths, duplicates.

use std::collections::HashMap;
use std::net::{Ipv4Addr, Ipv6Addr};
use std::ops::Range;

use tarvek_core::kernel::subject::{IdMap, IdRange};
use tarvek_core::layout::folder::Folder;
use tarvek_core::layout::host::{Dataset, Host};
use tarvek_core::layout::intake::{Fetch, InView, Intake, Sort};
use tarvek_core::layout::mapping::{Declared, EngineMount, MapSource, Mapping};
use tarvek_core::layout::mount::{Mount, MountSource};
use tarvek_core::layout::service::{GroupRef, Library, RunAs, Service, Translation, UserNs};
use tarvek_core::layout::settings::{RuleSettings, Silence};
use tarvek_core::layout::share::{NfsExport, Share, SmbOffer};
use tarvek_core::layout::site::Layout;
use tarvek_core::rules::registry;
use tarvek_core::words::name::Name;
use tarvek_core::words::options::MountOptions;
use tarvek_core::words::path::{AbsPath, PathFault, components};
use tarvek_core::words::rule::RuleId;
use tarvek_core::words::terms::{Access, Account, Group, LARGEST_ID, Origin, Protocol, id};
use tarvek_core::words::text::{nearest, shown, size};

use super::raw::{
    NumberOrName, Octal, Raw, RawDataset, RawExport, RawFolder, RawHost, RawIntake, RawLibrary,
    RawMapping, RawMount, RawRules, RawService, RawShare, RawSmb, RawTranslation,
};
use crate::mistake::Mistakes;
use crate::structure::{At, Lines, OneOrMany};
use crate::written::Written;

/// Validates everything, and notes every mistake. Parts with mistakes are left out of the result.
pub(super) fn layout(text: &str, raw: Raw, mistakes: &mut Mistakes) -> Layout {
    let names = Names::of(&raw);
    let mut validator =
        Validator { lines: Lines::of(text), names, mistakes, judged_later: Vec::new() };
    let Raw { tarvek: _, site, host, share, folder, mount, service, intake, rules } = raw;
    let mut layout = Layout { site: site.unwrap_or_default().into(), ..Layout::default() };
    for (name, raw) in in_order(host) {
        layout.hosts.push(validator.host(name, raw));
    }
    validator.unique_addresses(&layout.hosts);
    layout.shares =
        in_order(share).into_iter().filter_map(|(name, raw)| validator.share(name, raw)).collect();
    for host in &layout.hosts {
        let here =
            mount.iter().filter(|m| m.value.host.as_ref().is_some_and(|h| host.name == *h.value));
        validator.unique(here.filter_map(|raw| raw.value.at.as_ref()), |at| {
            format!("{} has a second mount at {at}", host.name)
        });
    }
    layout.mounts = mount.into_iter().filter_map(|raw| validator.mount(raw)).collect();
    layout.services = in_order(service)
        .into_iter()
        .filter_map(|(name, raw)| validator.service(name, raw))
        .collect();
    layout.folders = folder.into_iter().filter_map(|raw| validator.folder(raw)).collect();
    layout.intakes = in_order(intake)
        .into_iter()
        .filter_map(|(name, raw)| validator.intake(name, raw))
        .collect();
    layout.rules = validator.rules(rules);
    validator.unknown_accounts(&layout);
    if !validator.mistakes.is_empty() {
        for (span, message, remedy) in validator.judged_later {
            validator.mistakes.add(span, message, remedy);
        }
    }
    layout
}

/// Named things in the order of the file.
fn in_order<T>(map: std::collections::BTreeMap<At<String>, T>) -> Vec<(At<String>, T)> {
    let mut items: Vec<_> = map.into_iter().collect();
    items.sort_by_key(|(name, _)| name.span.start);
    items
}

/// What references may refer to.
struct Names {
    hosts: Vec<String>,
    shares: Vec<(String, Option<String>)>,
    services: Vec<String>,
}

impl Names {
    fn of(raw: &Raw) -> Self {
        let share = |(name, share): (&At<String>, &RawShare)| {
            (name.value.clone(), share.host.as_ref().map(|host| host.value.clone()))
        };
        Self {
            hosts: raw.host.keys().map(|name| name.value.clone()).collect(),
            shares: raw.share.iter().map(share).collect(),
            services: raw.service.keys().map(|name| name.value.clone()).collect(),
        }
    }
}

struct Validator<'a, 'm, 't> {
    lines: Lines<'a>,
    names: Names,
    mistakes: &'m mut Mistakes<'t>,
    /// What `check` makes a finding of; it is reported here as well if the layout is refused anyway.
    judged_later: Vec<(Range<usize>, String, Option<String>)>,
}

impl Validator<'_, '_, '_> {
    fn origin(&self, span: &Range<usize>) -> Origin {
        self.lines.origin(span)
    }

    /// Checks a reference; the mistake names the nearest known name.
    fn refer(&mut self, what: &str, name: &At<String>, known: &[String]) -> Option<Name> {
        if known.contains(&name.value) {
            return Some(name.value.as_str().into());
        }
        let remedy = match nearest(&name.value, known.iter().map(String::as_str)) {
            Some(near) => format!("did you mean {near:?}?"),
            None if known.is_empty() => {
                format!("declare it as [{what}.{}]", shown(name.value.as_bytes()))
            }
            None => format!("known: {}", known.join(", ")),
        };
        let message = format!("there is no {what} {:?}", shown(name.value.as_bytes()));
        self.mistakes.add(name.span.clone(), message, Some(remedy));
        None
    }

    fn host_named(&mut self, name: Option<At<String>>) -> Option<Name> {
        let known = self.names.hosts.clone();
        self.refer("host", &name?, &known)
    }

    fn share_named(&mut self, name: &At<String>) -> Option<Name> {
        let known: Vec<String> = self.names.shares.iter().map(|(name, _)| name.clone()).collect();
        self.refer("share", name, &known)
    }

    fn service_named(&mut self, name: Option<At<String>>) -> Option<Name> {
        let known = self.names.services.clone();
        self.refer("service", &name?, &known)
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
        let groups: Vec<Group> = in_order(raw.groups)
            .into_iter()
            .map(|(name, gid)| Group { name: name.value.into(), gid })
            .collect();
        let known: Vec<String> = groups.iter().map(|group| group.name.raw().to_owned()).collect();
        let mut accounts = Vec::new();
        for (name, raw) in in_order(raw.accounts) {
            let named =
                raw.groups.iter().filter_map(|group| self.refer("group", group, &known)).collect();
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
            addresses: raw.addresses.into_iter().map(|address| address.value.into()).collect(),
            inside,
            map: self.maps(raw.map),
            idmap: raw
                .idmap
                .into_iter()
                .filter_map(|r| {
                    Some(IdRange { inside: r.inside?, outside: r.outside?, count: r.count? })
                })
                .collect(),
            selinux: raw.selinux,
            manage_gids: raw.manage_gids,
            datasets,
            accounts,
            groups,
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
        Some(Dataset {
            name: raw.name?.value.into(),
            at: at?,
            filesystem: raw.filesystem.map(Name::from),
            quota: raw.quota.as_ref().and_then(|quota| size(&quota.0)),
            properties: raw.properties.into_iter().collect(),
            origin,
        })
    }

    fn share(&mut self, name: At<String>, raw: RawShare) -> Option<Share> {
        let (host, path) = (self.host_named(raw.host), self.path(raw.path));
        let smb = raw.smb.map(smb);
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

    fn mount(&mut self, raw: At<RawMount>) -> Option<Mount> {
        let origin = self.origin(&raw.span);
        let raw = raw.value;
        let (host, at) = (self.host_named(raw.host), self.path(raw.at));
        let credentials = raw.credentials.and_then(|file| self.path(Some(file)));
        let from = self.mount_source(raw.from, raw.protocol);
        let options = raw.options.as_deref().map(MountOptions::read).unwrap_or_default();
        Some(Mount {
            host: host?,
            from: from?,
            protocol: raw.protocol?.0,
            at: at?,
            options,
            user: raw.user.map(Name::from),
            credentials,
            removable: raw.removable,
            origin,
        })
    }

    /// `HOST:SHARE` refers to a share of the layout; everything else is a source as mount(8) takes it.
    fn mount_source(
        &mut self,
        from: Option<At<String>>,
        protocol: Option<Written<Protocol>>,
    ) -> Option<MountSource> {
        let from = from?;
        let text = from.value.as_str();
        // Where the protocol is wrong, a reference that is wrong as well is said in the same breath.
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
            return Some(MountSource::Literal(text.into()));
        };
        let part = |text: &str| At { value: text.to_owned(), span: from.span.clone() };
        let named = self.share_named(&part(share));
        self.host_named(Some(part(host)))?;
        let offered = self
            .names
            .shares
            .iter()
            .find(|(name, _)| name == share)
            .and_then(|(_, host)| host.clone());
        let offered =
            offered.filter(|offered| offered != host && self.names.hosts.contains(offered));
        if let Some(offered) = offered {
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
            MapSource::Folder(self.declared(from))
        } else if let Some(volume) = raw.volume.as_ref().filter(|_| !network) {
            MapSource::Volume(volume.as_str().into())
        } else {
            let from = match (raw.share, raw.source) {
                (Some(share), _) => MountSource::Share(self.share_named(&share)?),
                (None, source) => MountSource::Literal(source?.value.into()),
            };
            let Some(Written(protocol)) = raw.protocol.filter(|how| how.0.is_network()) else {
                let remedy = Some("protocol = \"nfs\" or \"smb\"".to_owned());
                self.mistakes.add(span, "a mapping of a share needs its protocol", remedy);
                return None;
            };
            let options = raw.options.as_deref().map(MountOptions::read).unwrap_or_default();
            MapSource::Share(Box::new(EngineMount {
                from,
                below: raw.below.map(Name::from),
                protocol,
                options,
                user: raw.user.map(Name::from),
                credentials: raw.credentials.and_then(|file| self.path(Some(file))),
                volume: raw.volume.map(Name::from),
            }))
        };
        let to = self.declared(raw.to?);
        Some(Mapping {
            source,
            to,
            access: raw.access.map_or(Access::ReadWrite, |access| access.0),
            label: raw.label.map(|label| label.0),
            propagation: raw.propagation,
            nested: raw.nested.map(|nested| nested.0),
            idmap: raw.idmap,
            origin,
        })
    }

    /// `[ADDRESS:]HOST[:INSIDE][/PROTOCOL]`.
    fn port(&mut self, port: At<String>) -> Option<String> {
        if is_port(&port.value) {
            return Some(port.value);
        }
        let message = format!("{:?} is no published port", shown(port.value.as_bytes()));
        let remedy = "write [ADDRESS:]HOST[:INSIDE][/PROTOCOL], such as 8100, 8100:80 or 10.20.0.7:8100:80/udp";
        self.mistakes.add(port.span, message, Some(remedy.to_owned()));
        None
    }

    fn translation(&mut self, raw: RawTranslation) -> Option<Translation> {
        let services = self.names.services.clone();
        let service = raw.service.and_then(|name| self.refer("service", &name, &services));
        let from = raw.from.map(|from| self.declared(from));
        let to = raw.to.map(|to| self.declared(to));
        Some(Translation { service: service?, from: from?, to: to? })
    }

    fn service(&mut self, name: At<String>, raw: RawService) -> Option<Service> {
        let host = self.host_named(raw.host);
        let map = raw.map.map(|maps| self.maps(maps));
        self.unique(raw.libraries.iter().filter_map(|raw| raw.value.name.as_ref()), |name| {
            format!("a second library is called {name:?}")
        });
        let libraries = raw.libraries.into_iter().filter_map(|raw| self.library(raw)).collect();
        let translate = raw.translate.into_iter().filter_map(|raw| self.translation(raw)).collect();
        let (mut config, mut config_volume) = (None, None);
        if let Some(written) = raw.config {
            match written.value.strip_prefix("volume:") {
                Some(volume) => config_volume = Some(Name::from(volume)),
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
                Err(_) => GroupRef::Name(name.into()),
            },
        };
        let groups = raw.groups.into_iter().map(group).collect();
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
            userns: raw.userns.and_then(|userns| self.userns(&userns)),
            map,
            ports: raw.ports.into_iter().filter_map(|port| self.port(port)).collect(),
            network: raw.network,
            config,
            config_volume,
            translate,
            backup: raw.backup,
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
        let of_account = |account: &str| (!account.is_empty()).then(|| Name::from(account));
        let read = match text.split_once(':') {
            None if text == "host" => Some(UserNs::Host),
            Some(("rootless", account)) => of_account(account).map(UserNs::Rootless),
            Some(("keep-id", account)) => of_account(account).map(UserNs::KeepId),
            Some(("remap", account)) => of_account(account).map(UserNs::Remap),
            _ => id_map(text).map(UserNs::Ranges),
        };
        if read.is_none() {
            let remedy = "write host, rootless:ACCOUNT, keep-id:ACCOUNT, remap:ACCOUNT, or ranges as INSIDE:OUTSIDE:COUNT,… (with \
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
        Some(Library {
            name: raw.name?.value.into(),
            kind: raw.kind?.0,
            roots,
            original: raw.original,
            backup: raw.backup,
            prefer: raw.prefer,
            origin,
        })
    }

    fn folder(&mut self, raw: At<RawFolder>) -> Option<Folder> {
        let origin = self.origin(&raw.span);
        let raw = raw.value;
        let (host, path) = (self.host_named(raw.host), self.path(raw.path));
        Some(Folder {
            host: host?,
            path: path?,
            owner: raw.owner.map(|owner| owner.value.into()),
            group: raw.group.map(|group| group.value.into()),
            mode: raw.mode.as_ref().and_then(octal),
            rights: in_order(raw.rights)
                .into_iter()
                .map(|(who, right)| (who.value.into(), right.0))
                .collect(),
            purpose: raw.is.map(|purpose| purpose.0),
            origin,
        })
    }

    fn intake(&mut self, name: At<String>, raw: RawIntake) -> Option<Intake> {
        let fetch = raw.fetch.and_then(|raw| {
            let (service, done) = (self.service_named(raw.service), self.written(raw.done));
            let partial = raw.partial.and_then(|partial| self.written(Some(partial)));
            Some(Fetch { service: service?, partial, done: done?, category: raw.category })
        });
        let sort = raw.sort.and_then(|raw| {
            let service = self.service_named(raw.service);
            let (reads, files_into) = (self.written(raw.reads), self.written(raw.files_into));
            Some(Sort {
                service: service?,
                reads: reads?,
                files_into: files_into?,
                category: raw.category,
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
        let known: Vec<String> = registry::rules().map(|rule| rule.id.to_owned()).collect();
        registry::named(self.refer("rule", name, &known)?.raw())
    }

    fn rules(&mut self, raw: RawRules) -> RuleSettings {
        let mut settings = RuleSettings::default();
        for (name, severity) in in_order(raw.severity) {
            settings.severity.extend(self.rule(&name).map(|rule| (rule, severity.0)));
        }
        for raw in raw.silence {
            let rule = raw.rule.and_then(|name| self.rule(&name));
            let below = raw.below.and_then(|path| self.path(Some(path)));
            if let (Some(rule), Some(why)) = (rule, raw.why) {
                settings.silence.push(Silence { rule, below, why });
            }
        }
        settings
    }

    /// An account that a service names has to be one that its host declares, where the host declares any.
    fn unknown_accounts(&mut self, layout: &Layout) {
        for service in &layout.services {
            let (RunAs::Account(name), Some(host)) = (&service.runs_as, layout.host(&service.host))
            else {
                continue;
            };
            let known: Vec<String> =
                host.accounts.iter().map(|account| account.name.raw().to_owned()).collect();
            if !known.is_empty() && !known.iter().any(|known| known == name.raw()) {
                let line = self.lines.starts[service.origin.line as usize - 1];
                let span = self.lines.text[line..]
                    .find("runs_as")
                    .map_or(line..line, |at| line + at..line + at + "runs_as".len());
                self.refer("account", &At { value: name.raw().to_owned(), span }, &known);
            }
        }
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
        clients: raw.clients?.into(),
        access: raw.access.map_or(Access::ReadOnly, |access| access.0),
        squash: raw.squash.map(|squash| squash.0).unwrap_or_default(),
        anonuid: raw.anonuid,
        anongid: raw.anongid,
        crossmnt: raw.crossmnt,
        options: raw
            .options
            .as_deref()
            .map(|text| MountOptions::read(text).iter().map(str::to_owned).collect())
            .unwrap_or_default(),
    })
}

/// Whether a text is `[ADDRESS:]HOST[:INSIDE][/PROTOCOL]`, an IPv6 address in brackets.
fn is_port(written: &str) -> bool {
    let (rest, protocol) = written.split_once('/').unwrap_or((written, "tcp"));
    let number = |text: &str| text.parse::<u16>().is_ok_and(|port| port > 0);
    let (address, numbers) = match rest.strip_prefix('[').and_then(|rest| rest.split_once("]:")) {
        Some((address, numbers)) => (address.parse::<Ipv6Addr>().is_ok(), numbers),
        None => match rest.split(':').next() {
            Some(first) if first.contains('.') => {
                let numbers = rest.split_once(':').map_or("", |(_, numbers)| numbers);
                (first.parse::<Ipv4Addr>().is_ok(), numbers)
            }
            _ => (true, rest),
        },
    };
    let numbers: Vec<&str> = numbers.split(':').collect();
    address
        && matches!(protocol, "tcp" | "udp")
        && matches!(numbers.len(), 1 | 2)
        && numbers.into_iter().all(number)
}

/// Ranges for users and groups alike, or marked `u:` and `g:`.
fn id_map(text: &str) -> Option<IdMap> {
    let mut map = IdMap::default();
    for written in text.split(',') {
        let (range, users, groups) = match (written.strip_prefix("u:"), written.strip_prefix("g:"))
        {
            (Some(range), _) => (id_range(range)?, true, false),
            (_, Some(range)) => (id_range(range)?, false, true),
            _ => (id_range(written)?, true, true),
        };
        map.uids.extend(users.then_some(range));
        map.gids.extend(groups.then_some(range));
    }
    Some(map)
}

/// `INSIDE:OUTSIDE:COUNT`, none of it empty and none past the last id.
fn id_range(text: &str) -> Option<IdRange> {
    let numbers: Vec<u32> = text.split(':').map(str::parse).collect::<Result<_, _>>().ok()?;
    let [inside, outside, count] = numbers[..] else { return None };
    let fits = |first: u32| first.checked_add(count.checked_sub(1)?);
    fits(inside).and(fits(outside)).map(|_| IdRange { inside, outside, count })
}

fn smb(raw: RawSmb) -> SmbOffer {
    let names = |list: Vec<At<String>>| list.into_iter().map(|name| name.value.into()).collect();
    SmbOffer {
        guests: raw.guests,
        guest_only: raw.guest_only,
        only: names(raw.only),
        deny: names(raw.deny),
        writable: raw.writable,
        read: names(raw.read),
        write: names(raw.write),
        admins: names(raw.admins),
        force_user: raw.force_user.map(|name| name.value.into()),
        force_group: raw.force_group.map(|name| name.value.into()),
        create_mask: raw.create_mask.as_ref().and_then(octal),
        folder_mask: raw.folder_mask.as_ref().and_then(octal),
        force_create_mode: raw.force_create_mode.as_ref().and_then(octal),
        force_folder_mode: raw.force_folder_mode.as_ref().and_then(octal),
        recycle: raw.recycle,
    }
}
